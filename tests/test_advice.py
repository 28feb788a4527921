"""Starting points, roles, marks, and the evidence they are judged by."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from conftest import RATE, hits, session_of, sine

from pondel.core import evidence, units
from pondel.core.advice import proposals
from pondel.core.advice.checks import check
from pondel.core.advice.roles import guess_role
from pondel.core.audio.media import ArrayMedia
from pondel.core.document import parse_session, to_json
from pondel.core.engine.chunks import ChunkCache, ChunkedSession
from pondel.core.engine.listen import make_plan, plan_hash, plan_region, without_moves
from pondel.core.errors import BadDocument
from pondel.core.hearing.excitation import excite
from pondel.core.hearing.in_the_mix import in_the_mix
from pondel.core.measures.home import Home
from pondel.core.moves.base import Traced
from pondel.core.moves.checking import Heard
from pondel.core.moves.compressor import Compressor, CompressorProcessor
from pondel.core.moves.fight import Fight
from pondel.core.moves.registry import KINDS, kind_of
from pondel.web.ink import inked


@pytest.mark.parametrize(
    ("name", "role"),
    [
        ("01_Kick in", "kick"),
        ("BD out", "kick"),
        ("Bass drum", "kick"),
        ("Bass DI", "bass"),
        ("Tuba", "bass"),
        ("sn_top", "snare"),
        ("HiHat", "hats"),
        ("OH L", "percussion"),
        ("E-Gtr 2", "guitar"),
        ("Rhodes", "keys"),
        ("Warm pad", "pad"),
        ("Horns", "brass"),
        ("Lead Vox", "lead"),
        ("BGV stack", "backing voice"),
        ("vox dbl", "voice"),
        ("Riser", "effect"),
        ("Audio 7", "other"),
    ],
)
def test_roles_are_guessed_from_names(name, role):
    assert guess_role(name) == role


def fight_of(role: str, key: np.ndarray, hits_s: np.ndarray, low=40.0, high=120.0, **more) -> Fight:
    session = session_of({"id": "k", "role": "kick"}, {"id": "b", "role": role})
    parts = session.part("k"), session.part("b")
    return Fight(*parts, low, high, key, hits_s, hits_s, RATE, 120.0, **more)


@pytest.mark.parametrize("gap", [0.3, 0.5, 1.0])
def test_a_proposed_duck_gives_four_decibels_and_is_back_before_the_next_hit(gap):
    key = hits(12.0, gap)
    times = np.arange(0.1, 12.0, gap)
    proposal = proposals.propose(fight_of("bass", key, times), "compressor")
    found: list[np.ndarray] = []
    move = Compressor(id="m", **proposal.settings)
    CompressorProcessor(move, RATE, 1, lambda values, band=None: found.append(values)).process(key, key)
    reduction = found[0]
    depths = [reduction[round(t * RATE) :][: RATE // 4].max() for t in times[:-1]]
    assert 4.0 <= np.median(depths) <= 4.8
    before_next = [reduction[round((t + gap) * RATE) - 48] for t in times[2:-2]]
    assert np.median(before_next) < 0.35 * np.median(depths)
    assert proposal.settings["key"] == {"source": "k", "tap": "source"}
    assert len(proposal.reasons) == 4
    assert units.say(proposal.settings["threshold_db"], "dB") in proposal.reasons[0]


def test_a_voice_is_ducked_more_gently_than_a_bass():
    key, times = hits(6.0), np.arange(0.1, 6.0, 0.5)
    bass = proposals.propose(fight_of("bass", key, times), "compressor").settings
    voice = proposals.propose(fight_of("voice", key, times), "compressor").settings
    assert voice["ratio"] < bass["ratio"] and voice["range_db"] < bass["range_db"]
    deep = proposals.propose(fight_of("bass", key, times), "dynamic eq").settings["bands"][0][
        "range_db"
    ]
    assert (
        deep
        < proposals.propose(fight_of("pad", key, times), "dynamic eq").settings["bands"][0]["range_db"]
    )


@pytest.mark.parametrize("kind", KINDS)
def test_every_proposal_is_a_valid_move_with_reasons(kind):
    for key, times in (
        (hits(4.0), np.arange(0.1, 4.0, 0.5)),
        (sine(80, 2.0), np.empty(0)),
        (np.zeros((RATE, 1), np.float32), np.empty(0)),
        (np.zeros((0, 1), np.float32), np.empty(0)),
    ):
        for low, high in ((40.0, 120.0), (1600.0, 3300.0), (30.0, 18000.0)):
            found = proposals.propose(fight_of("pad", key, times, low, high), kind)
            needed = {"tied_to": {"part": "x", "move": "y"}} if kind == "complementary eq" else {}
            kind_of(kind).params(id="m", **needed, **found.settings)
            assert found.settings["kind"] == kind
            assert found.reasons or kind in ("level", "width")


def test_a_crossover_lies_where_nine_tenths_of_the_kick_lie_below():
    home = Home(45.0, 110.0, 84.0, (55.0,))
    found = proposals.propose(
        fight_of("bass", hits(4.0), np.arange(0.1, 4.0, 0.5), home=home), "multiband"
    )
    assert found.settings["crossovers_hz"][0] == pytest.approx(max(84 * 1.15, 120))
    assert "nine tenths of K lie below it" in found.reasons[0]
    assert [band.get("on") for band in found.settings["bands"]] == [True, False]
    middle = proposals.propose(
        fight_of("pad", hits(4.0), np.empty(0), 400.0, 1000.0), "multiband"
    ).settings
    assert middle["crossovers_hz"] == [400.0, 1000.0]
    assert [band.get("on") for band in middle["bands"]] == [False, True, False]


def test_the_usual_move_is_by_band_for_lows_and_a_moving_bell_elsewhere():
    assert proposals.best_kind(fight_of("bass", hits(1.0), np.empty(0))) == "multiband"
    assert proposals.best_kind(fight_of("pad", hits(1.0), np.empty(0), 900.0, 2000.0)) == "dynamic eq"


FINE = Heard(-10.0, -10.0, -12.0, 5.0, 0.0, 0.2, 0.5)


def findings(change: dict | None = None, heard: Heard = FINE, drum: dict | None = None, key=True):
    move = {
        "id": "m",
        "kind": "compressor",
        "key": {"source": "drum"} if key else None,
        "threshold_db": -30.0,
        **(change or {}),
    }
    parts = [
        {"id": "drum", "role": "kick", **(drum or {})},
        {"id": "pad", "role": "pad", "moves": [move]},
    ]
    session = session_of(*parts, sections=[{"id": "s", "name": "S", "start_s": 0, "end_s": 1}])
    part = session.part("pad")
    return check(session, part, part.moves[0], heard)


def test_nothing_is_found_when_all_is_well():
    assert findings() == []


@pytest.mark.parametrize(
    ("change", "heard", "drum", "words", "field"),
    [
        ({"on": False}, {}, {}, "off", "on"),
        ({"sections": ["s"]}, {"in_sections": False}, {}, "sections outside", "sections"),
        ({}, {"part_db": -120}, {}, "silent in the loop", None),
        ({"key": None}, {"most_db": 0}, {}, "listens to Pad itself", "key.source"),
        ({"key": {"source": "gone"}}, {}, {}, "taken out", "key.source"),
        ({"key": {"source": "drum", "tap": "after fader"}}, {}, {"mute": True}, "is muted", "key.tap"),
        ({"key": {"source": "drum", "level_db": -60}}, {}, {}, "key's level", "key.level_db"),
        ({}, {"key_source_db": -150, "key_db": -150}, {}, "Drum is silent", None),
        (
            {"key": {"source": "drum", "high_cut_hz": 40}},
            {"key_db": -60},
            {},
            "cuts remove it",
            "key.high_cut_hz",
        ),
        ({"mix": 0}, {}, {}, "Mix is 0 %", "mix"),
        ({"range_db": 0}, {"most_db": 0}, {}, "range is 0 dB", "range_db"),
        ({"ratio": 1}, {"most_db": 0}, {}, "1:1", "ratio"),
        ({"attack_ms": 290}, {}, {}, "slower than the hit", "attack_ms"),
        ({"release_ms": 900}, {}, {}, "does not come back", "release_ms"),
        (
            {"threshold_db": -5},
            {"key_db": -34, "most_db": 0},
            {},
            "loudest −34.0 dB, threshold −5.0 dB",
            "threshold_db",
        ),
        ({}, {"least_db": 2.0}, {}, "never returns to zero", None),
        ({}, {"most_db": 15.0}, {}, "a lot for pad", None),
        ({"attack_ms": 0.1}, {}, {}, "may click", "attack_ms"),
    ],
)
def test_every_fault_is_named_and_can_be_mended(change, heard, drum, words, field):
    found = findings(change, replace(FINE, **heard), drum)
    assert any(words in one.text for one in found), found
    one = next(one for one in found if words in one.text)
    assert (one.fix or {}).get("field") == field
    if field is not None:
        assert one.action


def test_reduction_on_hits_takes_the_deepest_after_each():
    high = np.zeros(400, np.float32)
    high[[22, 130, 250]] = [3.0, 5.0, 9.0]
    trace = Traced(high, high, high)
    found = evidence.reduction_on_hits(trace, np.array([0.1, 0.6, 1.2]))
    assert (found.hits, found.median_db, found.most_db) == (3, 5.0, 9.0)
    assert evidence.reduction_on_hits(trace, np.empty(0)).hits == 0


@pytest.fixture
def ducked(duck):
    session, media = duck
    cache = ChunkCache()
    now = ChunkedSession(session, media, cache)
    return now, ChunkedSession(without_moves(session), media, cache)


def test_a_duck_uncovers_the_leader_and_costs_the_yielder(ducked):
    now, untreated = ducked
    times = np.arange(0.1, 4.0, 0.5)
    found = evidence.pair_evidence(now, untreated, "drum", "tuba", 0, 4 * RATE, times)
    assert found.after.share < found.before.share
    assert found.on_hits_after < found.on_hits_before
    assert 0 < found.cost_share < 0.5
    assert found.zone is not None and found.zone.low_hz < 70 < found.zone.high_hz


def test_the_matching_gain_makes_both_equally_loud(ducked):
    now, untreated = ducked
    plan = make_plan(now.session, "part", ["tuba"])
    gain_db, lufs = evidence.matching_gain_db(plan, now, untreated, 0, 4 * RATE)
    before = plan_region(plan, untreated, 0, 4 * RATE) * np.float32(10 ** (gain_db / 20))
    assert gain_db < -0.3
    assert evidence.loudness_lufs(before, RATE) == pytest.approx(lufs, abs=0.05)


def test_a_part_is_heard_alone_even_when_muted_and_its_key_still_works(duck):
    session, media = duck
    data = to_json(session)
    data["parts"][1]["mute"] = True
    muted = ChunkedSession(parse_session(data), media, ChunkCache())
    plan = make_plan(muted.session, "part", ["tuba"])
    assert np.abs(plan_region(plan, muted, 0, RATE)).max() > 0.1
    mix = make_plan(muted.session, "mix")
    assert mix.parts == ("drum",)


def test_plans_are_named_by_their_sound(duck):
    session, media = duck
    chunked = ChunkedSession(session, media, ChunkCache())
    names = {
        plan_hash(make_plan(session, *words), chunked)
        for words in [("mix",), ("pair", ["drum", "tuba"]), ("part", ["drum"]), ("part", ["tuba"])]
    }
    names.add(plan_hash(make_plan(session, "key", ["tuba"], "m1"), chunked))
    assert len(names) == 5
    with pytest.raises(BadDocument, match="choose a part"):
        make_plan(session, "part", [])
    with pytest.raises(BadDocument, match="choose a key"):
        make_plan(session, "key", ["drum"], "m1")


def test_moving_a_fader_scales_the_excitation_exactly(duck):
    session, media = duck
    for pan in (0.0, 0.6):
        data = to_json(session)
        data["parts"][0].update(fader_db=-7.0, pan=pan)
        chunked = ChunkedSession(parse_session(data), media, ChunkCache())
        quick = in_the_mix(chunked, "drum", 0, RATE).power
        direct = excite([chunked.region(("drum", "after fader"), 0, RATE)], RATE).power
        # Powers are relative to 0 dB SPL: what lies below hearing need not agree, and levels are
        # rounded to whole decibels before they spread.
        assert quick == pytest.approx(direct, rel=0.03, abs=1e-2)


def test_every_part_gets_a_tag_of_its_own():
    names = ["Bass drum", "Bass", "Baritone", "Bass drum", "B", "ß", "808", "Kick", "Keys", "Kazoo"]
    parts = [{"id": f"p{n}", "name": name} for n, name in enumerate(names * 3)]
    marks = inked(session_of(*parts))
    tags = [mark.tag for mark in marks.values()]
    assert len(set(tags)) == len(parts) and all(len(tag) == 2 for tag in tags)
    assert marks["p0"].tag == "BD" and marks["p0"].dash == ""
    styles = {(mark.ink, mark.dash) for mark in list(marks.values())[:16]}
    assert len(styles) == 16


def test_media_gives_silence_outside_a_recording():
    reader = ArrayMedia({"a": sine(100, 0.01)}).open("a")
    assert not reader.read(-100, 100).any()
    assert not reader.read(10_000, 50).any()
    assert np.array_equal(reader.read(-10, 490)[10:], sine(100, 0.01))
