"""The model's parts: spectra, excitation, partial loudness, zones, and the table of a song."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor

import numpy as np
import pytest
from conftest import RATE, session_of
from hearing_tools import band, share, tone
from hypothesis import given, settings
from hypothesis import strategies as st

from pondel.core.audio.media import ArrayMedia
from pondel.core.engine.cache import ChunkCache
from pondel.core.engine.chunks import ChunkedSession
from pondel.core.hearing.excitation import Excitation, excitation_of, excite, skirts
from pondel.core.hearing.hidden import hidden, near_hits
from pondel.core.hearing.in_the_mix import in_the_mix
from pondel.core.hearing.loudness import partial_loudness, short_term, sounding
from pondel.core.hearing.packing import pack, unpack
from pondel.core.hearing.scale import BANDS_HZ, PLACES_HZ, places_between
from pondel.core.hearing.spectra import ear_frames, ear_spectrum
from pondel.core.hearing.table import Scope
from pondel.core.hearing.table_maker import TableMaker
from pondel.core.hearing.timemap import time_map, worst_stretch
from pondel.core.hearing.zones import proposed_zones, worst_zone


@pytest.mark.parametrize("rate", [44100, 48000, 88200, 96000, 192000])
@pytest.mark.parametrize("hz", [50, 200, 419, 421, 1000, 1899, 1901, 5000, 12000])
def test_a_tone_has_its_power_in_its_own_bands_at_every_rate(hz, rate):
    power = ear_spectrum([tone(hz, 83, 1.0, rate)], rate)[30:70].mean(axis=0)
    # Where two windows meet, each sees a part of the tone's lobe.
    at_a_seam = 2.0 if hz in (419, 421, 1899, 1901) else 0.35
    assert 10 * np.log10(power.sum()) == pytest.approx(-20, abs=at_a_seam)
    # What the window spills is less than what the ear's own filters spread.
    ideal = np.zeros_like(power)
    ideal[np.argmin(np.abs(np.log(BANDS_HZ / hz)))] = power.sum()
    found, wanted = (10 * np.log10(excitation_of(one[None]).power[0] + 1e-9) for one in (power, ideal))
    near = wanted > wanted.max() - 30
    assert np.abs(found - wanted)[near].max() < (4.2 if hz < 100 else 2.2)
    far = np.abs(np.log2(BANDS_HZ / hz)) > 1.5
    assert power[far].sum() < 3e-4 * power.sum()


@pytest.mark.parametrize("hz", [60, 120, 250, 500, 1000, 2000, 4000, 8000])
def test_masking_begins_and_ends_with_the_sound_that_masks(hz):
    """A burst of 60 ms over two steady tones near it: dated within 15 ms, in every octave."""
    t = np.arange(2 * RATE) / RATE
    steady = sum(0.05 * np.sin(2 * np.pi * hz * ratio * t) for ratio in (1.3, 2.6))
    shape = np.clip((t - 1) / 0.002, 0, 1) * np.clip((1.06 - t) / 0.002, 0, 1)
    burst = 0.3 * shape * np.sin(2 * np.pi * hz * (t - 1))
    own, masker = (excite([one[:, None].astype("f4")], RATE).power for one in (steady, burst))
    alone = partial_loudness(own).sum(axis=1)
    shares = 1 - np.minimum(partial_loudness(own, masker).sum(axis=1) / alone, 1)
    usual = np.median(shares[101:106])
    assert usual > 0.3
    assert shares[:99].max() < 0.1
    assert (
        np.interp(98.5, np.arange(200), shares) < usual / 2 < np.interp(101.5, np.arange(200), shares)
    )
    assert shares[112:].max() < 0.15


def test_frames_are_dated_and_do_not_depend_on_blocks_or_what_else_is_heard():
    click = np.zeros((RATE, 2), np.float32)
    click[RATE // 2] = 1.0
    whole = ear_spectrum([click], RATE)
    assert whole.shape == (100, BANDS_HZ.size)
    for band_index in (20, 80, 140):
        assert abs(int(np.argmax(whole[:, band_index])) - 50) <= 1
    pieces = list(ear_frames((click[i : i + 777] for i in range(0, RATE, 777)), RATE))
    assert np.allclose(np.concatenate(pieces), whole, rtol=1e-3, atol=1e-12)
    assert np.allclose(ear_spectrum([-click], RATE), whole, rtol=1e-5)


def test_power_of_both_channels_against_that_of_their_mean():
    left = band(300, 3000, -20, 1)
    opposite = np.hstack([left, -left])
    both = ear_spectrum([opposite], RATE).sum()
    assert both == pytest.approx(ear_spectrum([left], RATE).sum(), rel=1e-4)
    assert ear_spectrum([opposite], RATE, mono=True).sum() < 1e-6 * both


@pytest.mark.parametrize(
    "samples",
    [
        np.zeros((0, 1)),
        np.ones((1, 1)),
        np.zeros((RATE, 2)),
        np.full((RATE, 1), 0.5),
        np.full((2000, 2), np.nan),
        np.full((2000, 1), np.inf),
    ],
    ids=["nothing", "one sample", "silence", "dc", "nan", "infinite"],
)
def test_odd_inputs_give_finite_numbers(samples):
    found = excite([samples.astype(np.float32)], RATE)
    assert found.power.shape[0] == -(-samples.shape[0] // 480)
    assert np.isfinite(found.power).all() and np.isfinite(partial_loudness(found.power)).all()
    # Silence is silent, and so is a steady offset between its ends.
    if samples.shape[0] == RATE:
        assert partial_loudness(found.power[20:80]).sum() < 1e-3


def test_ten_minutes_pass_in_pieces():
    minute = band(80, 8000, -30, 5, 10)
    frames = sum(rows.shape[0] for rows in ear_frames((minute for _ in range(60)), RATE))
    assert frames == 60_000


def test_the_lower_skirt_grows_shallow_with_level():
    quiet, upper = skirts(np.array(40.0), np.array(1000.0))
    loud, same = skirts(np.array(90.0), np.array(1000.0))
    assert upper == same == pytest.approx(30.16, abs=0.05)
    assert loud == pytest.approx(30.16 - 0.35 * 39, abs=0.1) and quiet > upper


def test_the_same_sound_half_in_gain_or_in_samples():
    sound = band(100, 4000, -30, 1)
    by_gain = excitation_of(ear_spectrum([sound], RATE), 83, 0.25).power
    by_samples = excite([sound * 0.5], RATE).power
    assert np.allclose(by_gain, by_samples, rtol=1e-3)
    assert np.allclose(excite([sound], RATE, 83 - 6.0206).power, by_samples, rtol=0.05)


@given(
    st.floats(-20, 100),
    st.floats(-20, 100),
    st.floats(0.1, 30),
    st.integers(0, PLACES_HZ.size - 1),
)
@settings(max_examples=300, deadline=None)
def test_a_louder_masker_never_leaves_more(signal_db, masker_db, louder_db, place):
    signal = np.zeros((1, PLACES_HZ.size), np.float32)
    signal[0, place] = 10 ** (signal_db / 10)
    masker = np.full_like(signal, 10 ** (masker_db / 10))
    left = partial_loudness(signal, masker)[0, place]
    less = partial_loudness(signal, masker * 10 ** (louder_db / 10))[0, place]
    alone = partial_loudness(signal)[0, place]
    assert 0 <= less <= left + 1e-4 * alone + 1e-9 and left <= alone * (1 + 1e-4) + 1e-9


def test_raising_the_masker_never_lowers_the_share():
    part, masker = band(200, 2000, -30, 1), band(100, 1000, -30, 2)
    shares = [share(part, masker * 10 ** (gain / 20)) for gain in range(-30, 31, 6)]
    assert (np.diff(shares) >= 0).all()


@pytest.mark.parametrize("level", [60, 83, 95])
def test_shares_at_the_listening_levels_are_shares(level):
    assert 0 < share(band(60, 400, -30, 1), band(60, 400, -36, 2), level_db_spl=level) < 1


def test_short_term_loudness_rises_fast_and_falls_slowly():
    jump = np.concatenate([np.zeros(10), np.ones(60), np.zeros(60)])
    found = short_term(jump)
    # 22 ms up and 50 ms down, in steps of 10 ms (GM 2002, section 2.6).
    assert found[10 + 2] == pytest.approx(1 - np.exp(-30 / 21.7), abs=0.01)
    assert found[70 + 4] == pytest.approx(np.exp(-50 / 49.5), abs=0.01)


def test_the_worst_zone_lies_where_both_are():
    found = hidden(excite([band(100, 4000, -30, 1)], RATE), excite([band(400, 800, -25, 2)], RATE))
    assert found.zone is not None
    assert 380 < found.zone.low_hz < 600 and 700 < found.zone.high_hz < 1100
    assert found.zone.share_of_loss >= 0.5
    assert "Hz to" in found.zone.words()


def test_two_separate_losses_are_two_zones():
    lost = np.zeros(PLACES_HZ.size)
    lost[10:14], lost[40:50] = 2.0, 1.0
    zones = proposed_zones(lost)
    assert [round(z.share_of_loss, 2) for z in zones] == [0.5, 0.44]
    assert zones[1].high_hz < PLACES_HZ[15] and zones[0].low_hz > PLACES_HZ[38]
    assert worst_zone(np.zeros(5)) is None


def test_the_worst_zone_is_the_narrowest_that_holds_half_and_a_shoulder_is_no_other():
    lost = np.exp(-np.abs(np.arange(PLACES_HZ.size) - 30) / 6.0)
    zones = proposed_zones(lost)
    assert len(zones) == 1 and zones[0].share_of_loss >= 0.5
    inside = (zones[0].low_hz < PLACES_HZ) & (zones[0].high_hz > PLACES_HZ)
    width = int(inside.sum())
    assert all(lost[n : n + width - 1].sum() < 0.5 * lost.sum() for n in range(lost.size))


def test_places_between_two_frequencies():
    assert places_between(100, 200).sum() == ((PLACES_HZ >= 100) & (PLACES_HZ <= 200)).sum()
    assert places_between(1000, 1000.1).sum() == 1


def test_frames_near_hits():
    at = near_hits(np.array([0.5]), 100)
    assert at[50:70].all() and at.sum() == 20


def test_packed_power_keeps_a_fifteenth_of_a_decibel():
    power = 10.0 ** np.random.default_rng(1).uniform(-12, 1, 5000).astype(np.float32)
    assert np.abs(10 * np.log10(unpack(pack(power)) / power)).max() < 0.07
    assert unpack(pack(np.zeros(3, np.float32))).max() < 1e-18


def table_of(*parts: np.ndarray, segments=(), block: int = 100, hits=None):
    powers = np.stack([excite([part], RATE).power for part in parts])
    ids = "abcdefg"[: len(parts)]
    on_hits = np.zeros(powers.shape[:2], bool) if hits is None else hits
    maker = TableMaker(list(ids), segments)
    for first in range(0, powers.shape[1], block):
        maker.add(first, powers[:, first : first + block], on_hits[:, first : first + block])
    return maker.table(), powers


def test_the_table_gives_what_is_lost_to_the_hiders():
    a, b, c = band(100, 1000, -30, 1), band(100, 1000, -30, 2), band(4000, 8000, -30, 3)
    table, powers = table_of(a, b, c)
    found = {(p.hidden, p.by): p for p in table.pairs()}
    assert table.pairs()[0].hidden in "ab" and table.pairs()[0].by in "ab"
    assert found["a", "b"].share == pytest.approx(table.share("a"), abs=0.02)
    alone = hidden(Excitation(powers[0]), Excitation(powers[1])).share
    assert found["a", "b"].alone_share == pytest.approx(alone, abs=0.01)
    assert table.share("a") == pytest.approx(
        hidden(Excitation(powers[0]), Excitation(powers[1] + powers[2])).share, abs=0.005
    )
    assert table.sone("a") == pytest.approx(table.share("a") * table.loudness_sone("a"), rel=1e-3)


def test_beside_which_ones_a_part_is_heard_does_not_grow_with_their_number(monkeypatch):
    bands = [band(100 + 20 * n, 2000, -30 - n, n + 1) for n in range(7)]
    heard_frames = []

    def counted(power, others=None, *more):
        heard_frames.append(power.shape[0])
        return partial_loudness(power, others, *more)

    monkeypatch.setattr("pondel.core.hearing.table_maker.partial_loudness", counted)
    frames = {}
    for count in (4, 7):
        heard_frames.clear()
        table, powers = table_of(*bands[:count])
        frames[count] = sum(heard_frames) / count / powers.shape[1]
    # By itself, among all others, and in every fourth frame beside three of them.
    assert frames == {4: 2.75, 7: 2.75}
    told = [pair for pair in table.pairs() if pair.alone_share is not None]
    assert len(told) == 7 * 3 and all(pair.by in table.hiders(pair.hidden) for pair in told)
    for pair in told:
        own, other = ("abcdefg".index(one) for one in (pair.hidden, pair.by))
        wanted = hidden(Excitation(powers[own]), Excitation(powers[other])).share
        assert pair.alone_share == pytest.approx(wanted, abs=0.02)


def test_a_hider_that_is_among_the_worst_for_a_while_is_told_as_all_along():
    """One takes as much of a part all along; three others hide it more for half of the song."""
    a, x = band(300, 900, -40, 1), band(300, 900, -40, 2)
    loud, quiet = (band(300, 900, level_db, 3) for level_db in (-25, -90))
    fades = [np.concatenate([loud[: RATE // 2], quiet[: RATE // 2]]) for _ in range(3)]
    table, powers = table_of(a[:RATE], x[:RATE], *fades, block=25)
    assert "b" in table.hiders("a")
    wanted = hidden(Excitation(powers[0]), Excitation(powers[1])).share
    assert table.alone_share("a", "b") == pytest.approx(wanted, abs=0.03)


def test_what_would_be_won_counts_the_whole_song():
    """One hides a part for a sixth of it, another after that: without the one the other still does."""
    a, loud, cut = band(300, 900, -40, 1)[:RATE], band(300, 900, -30, 2)[:RATE], RATE // 6
    early, late = loud.copy(), loud.copy()
    early[cut:], late[:cut] = 0, 0
    table, _ = table_of(a, early, late, block=20)
    rest, _ = table_of(a, late, block=20)
    won_db = rest.clear_db("a") - table.clear_db("a")
    assert 0 < won_db < 5
    assert table.would_win_db("a", "b") == pytest.approx(won_db, abs=0.7)


@pytest.mark.parametrize(("threads", "at_rest"), [(0, []), (2, []), (2, [(1, 0), (0, 180), (2, 180)])])
def test_what_is_lost_falls_to_each_hider_by_its_power_in_every_stretch(threads, at_rest):
    """Frame by frame: who has a third of the power of the others takes a third of what is lost."""
    parts = [band(100, 1000, -30, 1), band(200, 2000, -36, 2), band(400, 900, -42, 3)]
    powers = np.stack([excite([part], RATE).power for part in parts])
    for part, first in at_rest:
        powers[part, first : first + 90] = 0.0
    on_hits = np.random.default_rng(4).random(powers.shape[:2]) < 0.4
    pool = ThreadPoolExecutor(threads) if threads else None
    maker = TableMaker("abc", [(50, 130), (130, 220)], pool)
    for first in range(0, powers.shape[1], 90):
        maker.add(first, powers[:, first : first + 90], on_hits[:, first : first + 90])
    maker.add(powers.shape[1], powers[:, :0], on_hits[:, :0])
    segment = np.full(powers.shape[1], 2)
    segment[50:130], segment[130:220] = 0, 1
    for part, power in enumerate(powers):
        others = powers.sum(axis=0) - power
        alone = partial_loudness(power)
        lost = np.maximum(alone - partial_loudness(power, others), 0.0)
        lost[~sounding(alone)] = 0.0
        for by in {0, 1, 2} - {part}:
            taken = lost * powers[by] / np.maximum(others, 1e-20)
            for where in (0, 1, 2):
                for hit in (0, 1):
                    inside = (segment == where) & (on_hits[part] == hit)
                    found = maker.table().arrays["by"][where, hit, part, by]
                    wanted = taken[inside].sum(axis=0)
                    assert wanted.max() > 0
                    np.testing.assert_allclose(found, wanted, rtol=1e-3, atol=1e-4 * wanted.max())


def test_who_only_hides_takes_as_much_as_if_it_were_told():
    powers = np.stack([excite([band(100, 1000, -30 - n, n)], RATE).power for n in range(3)])
    nobody = np.zeros(powers.shape[:2], bool)
    whole, others = TableMaker("abc"), TableMaker("abc", only_hiding="a")
    for maker in (whole, others):
        maker.add(0, powers, nobody)
    wanted, found = whole.table().arrays["by"], others.table().arrays["by"]
    assert wanted[..., 0, :, :].any() and not found[..., 0, :, :].any()
    np.testing.assert_allclose(found[..., 1:, :, :], wanted[..., 1:, :, :], rtol=1e-5)
    assert others.table().hiders("b") == whole.table().hiders("b")


def test_the_table_does_not_depend_on_the_order_of_parts():
    a, b, c = band(100, 1000, -30, 1), band(200, 2000, -35, 2), band(50, 400, -25, 3)
    straight, _ = table_of(a, b, c)
    turned, _ = table_of(c, b, a)
    for one, other in (("a", "c"), ("b", "b"), ("c", "a")):
        assert straight.share(one) == pytest.approx(turned.share(other), abs=1e-4)
    assert straight.share("a", "b") == pytest.approx(turned.share("c", "b"), abs=1e-4)


def test_shares_by_section_on_hits_and_by_zone():
    a = band(100, 1000, -30, 1)
    b = band(100, 1000, -30, 2)
    b[: 2 * RATE] = 0
    hits = np.zeros((2, 400), bool)
    hits[0, 250:300] = True
    table, _ = table_of(a, b, segments=[(0, 200), (200, 400)], hits=hits)
    assert table.share("a", "b", Scope((0,))) < 0.05
    assert 0.6 < table.share("a", "b", Scope((1,))) < 0.85
    assert 0.6 < table.share("a", "b", Scope(on_hits=True)) < 0.85
    assert table.share("a", "b", Scope((0,), on_hits=True)) == 0
    zone = table.share("a", "b", Scope((1,), zone_hz=(200, 500)))
    assert zone == pytest.approx(table.share("a", "b", Scope((1,))), abs=0.15)
    assert table.loudness_sone("a", Scope(zone_hz=(3000, 9000))) < 0.2


def test_three_parts_apart_and_together_in_a_table():
    apart, _ = table_of(band(100, 200, -30, 1), band(800, 1600, -30, 2), band(6400, 12800, -30, 3))
    assert all(part.hidden_share < 0.2 for part in apart.parts().values())
    together, _ = table_of(*(band(500, 1000, -30, seed) for seed in (1, 2, 3)))
    assert all(part.hidden_share > 0.6 for part in together.parts().values())


@pytest.mark.parametrize(
    ("edges", "least", "most"),
    [
        ([(100, 200), (800, 1600), (6400, 12800)], 0.0, 0.2),
        ([(500, 1000), (500, 1000), (500, 1000)], 0.6, 1.0),
    ],
    ids=["two octaves apart", "in one octave"],
)
def test_a_session_of_three_parts(edges, least, most):
    ids = "abc"
    media = ArrayMedia(
        {
            i: band(*edge, -30, n, 3).repeat(2, axis=1)
            for n, (i, edge) in enumerate(zip(ids, edges, strict=True))
        }
    )
    session = session_of(*({"id": i} for i in ids))
    chunked = ChunkedSession(session, media, ChunkCache())
    powers = np.stack([in_the_mix(chunked, i, 0, 3 * RATE).power for i in ids])
    maker = TableMaker(list(ids))
    maker.add(0, powers, np.zeros(powers.shape[:2], bool))
    for part in maker.table().parts().values():
        assert least <= part.hidden_share <= most


def test_a_silent_part_hides_nothing_and_has_no_share():
    table, _ = table_of(band(100, 1000, -30, 1), np.zeros((4 * RATE, 1), np.float32))
    assert table.share("b") == 0 and table.share("a", "b") == 0 and table.pairs() == []


def test_the_map_of_a_pair_shows_when_and_where():
    a, b = band(100, 1000, -30, 1), band(400, 800, -20, 2)
    b[: 2 * RATE] = 0
    found = time_map(excite([a], RATE).power, excite([b], RATE).power, 100)
    assert found.share.shape == (100, PLACES_HZ.size) and found.seconds == pytest.approx(0.04)
    inside = places_between(450, 700)
    assert found.share[60:95, inside].mean() > 0.8 and found.share[5:45].max() < 0.05
    assert found.share[60:95, places_between(100, 200)].mean() < 0.2
    lost = (found.share * found.alone).sum(axis=1)
    assert 49 <= worst_stretch(lost, 20) <= 80
