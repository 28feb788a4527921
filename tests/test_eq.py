"""EQ, width, level and alignment against their prototypes and exact answers."""

from __future__ import annotations

import numpy as np
import pytest
from conftest import RATE, session_of, sine
from hypothesis import given, settings
from hypothesis import strategies as st
from moves_tools import noise, pulse_response_db, rms_db, run

from pondel.core.audio.media import ArrayMedia
from pondel.core.dsp.filters import high_cut, low_cut
from pondel.core.dsp.matched import biquads, butterworth_cut, prototype, response
from pondel.core.engine import render
from pondel.core.measures.loudness import loudness_lufs
from pondel.core.moves.alignment import Alignment
from pondel.core.moves.complementary_eq import ComplementaryEq, TiedBand, gain_db
from pondel.core.moves.eq import Eq, EqBand, response_db
from pondel.core.moves.level import Level
from pondel.core.moves.width import Width
from pondel.core.refs import TieRef

HZ = np.geomspace(15, 18000, 500)


def error_db(sos, rate, expected) -> float:
    found = np.abs(response(sos, 2 * np.pi * HZ / rate))
    heard = np.abs(expected) > 1e-4
    return float(np.abs(20 * np.log10(found[heard] / np.abs(expected)[heard])).max())


@pytest.mark.parametrize("shape", ["bell", "low shelf", "high shelf", "notch", "band-pass"])
@pytest.mark.parametrize("centre", [25, 150, 1000, 4000, 9000, 15000, 18000, 19500, 20000])
@pytest.mark.parametrize("q", [0.3, 0.71, 4])
def test_magnitude_is_that_of_the_analogue_prototype_to_18_khz(shape, centre, q):
    q = min(q, 1.0) if shape.endswith("shelf") else q
    for gain in (-15, 12) if shape in ("bell", "low shelf", "high shelf") else (0,):
        sos = biquads(shape, centre, gain, q, 44100)
        assert error_db(sos, 44100, prototype(shape, HZ, centre, gain, q)) < 0.1
        assert all(np.abs(np.roots(row[3:])).max() < 1 for row in sos)


@given(st.floats(20, 20000), st.floats(-24, 24), st.floats(0.1, 30), st.sampled_from([44100, 96000]))
@settings(max_examples=60, deadline=None)
def test_any_bell_is_exact_and_stable(centre, gain, q, rate):
    sos = biquads("bell", centre, gain, q, rate)
    assert error_db(sos, rate, prototype("bell", HZ, centre, gain, q)) < 0.1
    assert all(np.abs(np.roots(row[3:])).max() < 1 for row in sos)


@pytest.mark.parametrize("rate", [44100, 48000, 96000])
@pytest.mark.parametrize("cut_hz", [30, 120, 4000, 12000, 20000])
@pytest.mark.parametrize("slope", [12, 24])
def test_the_cuts_of_a_key_have_the_prototypes_magnitude(slope, cut_hz, rate):
    order = slope // 6
    for cut, sign in ((low_cut, -1), (high_cut, 1)):
        wanted = -10 * np.log10(1 + (HZ / cut_hz) ** (2.0 * sign * order))
        found = 20 * np.log10(np.abs(response(cut(cut_hz, slope, rate), 2 * np.pi * HZ / rate)) + 1e-9)
        assert np.abs(found - wanted)[wanted > -60].max() < 0.1


@pytest.mark.parametrize("slope", [6, 12, 18, 24, 36, 48, 72, 96])
@pytest.mark.parametrize("cut", [40, 800, 12000])
def test_cuts_are_butterworth_to_18_khz(slope, cut):
    order, x = slope // 6, HZ / cut
    for shape, expected in (
        ("high cut", 1 / np.sqrt(1 + x ** (2 * order))),
        ("low cut", x**order / np.sqrt(1 + x ** (2 * order))),
    ):
        assert error_db(butterworth_cut(shape, cut, slope, 44100), 44100, expected) < 0.1


def test_the_processor_does_what_its_response_says():
    bands = [
        EqBand(shape="bell", hz=300, gain_db=-6, q=2),
        EqBand(shape="high shelf", hz=6000, gain_db=4, q=0.7),
        EqBand(shape="low cut", hz=40, slope_db_oct=24),
        EqBand(shape="tilt", hz=1000, gain_db=3),
        EqBand(shape="notch", hz=2000, q=8),
        EqBand(on=False, hz=100, gain_db=12),
    ]
    hz, found = pulse_response_db(Eq(id="e", bands=bands))
    inside = (hz > 30) & (hz < 20000)
    expected = response_db(bands, hz[inside], RATE)
    heard = expected > -50
    assert np.abs(found[inside] - expected)[heard].max() < 0.05


def test_a_tilt_turns_around_its_centre():
    tilted = response_db([EqBand(shape="tilt", hz=1000, gain_db=6)], np.array([20, 1000, 18000]), RATE)
    assert tilted[1] == pytest.approx(0, abs=0.1)
    assert tilted[0] == pytest.approx(-3, abs=0.5) and tilted[2] == pytest.approx(3, abs=0.5)


@pytest.mark.parametrize(
    ("placement", "pair", "raised"),
    [
        ("middle", (1, 1), True),
        ("middle", (1, -1), False),
        ("sides", (1, -1), True),
        ("sides", (1, 1), False),
        ("left", (1, 0), True),
        ("left", (0, 1), False),
        ("right", (0, 1), True),
    ],
)
def test_a_band_acts_only_where_it_is_placed(placement, pair, raised):
    move = Eq(id="e", bands=[EqBand(hz=1000, gain_db=6, q=1, placement=placement)])
    channel = 0 if pair[0] else 1
    hz, found = pulse_response_db(move, channel=channel, given=pair)
    at = int(np.argmin(np.abs(hz - 1000)))
    assert found[at] == pytest.approx(6 if raised else 0, abs=0.05)


def test_matched_output_is_as_loud_as_the_input():
    # Pink noise: white noise through the square root of 1 / f.
    spectrum = np.fft.rfft(noise(12, 0.5, 1)[:, 0])
    spectrum /= np.sqrt(np.maximum(np.arange(spectrum.size), 1))
    pink = np.fft.irfft(spectrum).astype(np.float32)[:, None]
    pink *= 0.1 / pink.std()
    bands = [EqBand(shape="low shelf", hz=200, gain_db=9), EqBand(hz=3000, gain_db=-8, q=0.7)]
    out = run(Eq(id="e", bands=bands, level_match=True), pink)
    assert loudness_lufs(out, RATE) == pytest.approx(loudness_lufs(pink, RATE), abs=0.3)
    plain = run(Eq(id="e", bands=bands, output_db=-3), pink)
    louder = run(Eq(id="e", bands=bands), pink)
    assert rms_db(plain) == pytest.approx(rms_db(louder) - 3, abs=0.01)


@pytest.mark.parametrize("placement", ["both", "middle", "sides", "left", "right"])
@pytest.mark.parametrize("width", [0.0, 1.0])
def test_matching_follows_the_placement_and_the_parts_own_spectrum(placement, width):
    random = np.random.default_rng(4)
    middle, sides = (np.cumsum(random.standard_normal(5 * RATE)) for _ in "ms")
    middle, sides = (part - np.convolve(part, np.ones(4800) / 4800, "same") for part in (middle, sides))
    sound = np.stack([middle + width * sides, middle - width * sides], axis=1)
    sound = (0.1 * sound / sound.std()).astype("f4")
    bands = [
        {"shape": "high shelf", "hz": 300, "gain_db": 10, "placement": placement},
        {"hz": 90, "gain_db": -9, "placement": "middle"},
    ]
    eq = {"id": "e", "kind": "eq", "bands": bands, "level_match": True}
    session, media = session_of({"id": "a", "moves": [eq]}), ArrayMedia({"a": sound})
    out = render.region(session, media, ("a", "before fader"), 0, 5 * RATE)
    assert loudness_lufs(out, RATE) == pytest.approx(loudness_lufs(sound, RATE), abs=0.3)


def test_a_shelf_on_the_sides_leaves_a_mono_part_as_loud_as_it_was():
    sound = noise(4, 0.2, 1)
    shelf = {"shape": "low shelf", "hz": 2000, "gain_db": 18, "placement": "sides"}
    eq = {"id": "e", "kind": "eq", "bands": [shelf], "level_match": True}
    for channels in (1, 2):
        given = np.repeat(sound, channels, axis=1)
        session = session_of({"id": "a", "moves": [eq]})
        out = render.region(session, ArrayMedia({"a": given}), ("a", "before fader"), 0, 4 * RATE)
        assert rms_db(out) == pytest.approx(rms_db(given), abs=0.01)


def test_matching_adds_no_more_than_the_output_could():
    # A cut that leaves next to nothing would ask for more than 100 dB.
    cut = EqBand(shape="high cut", hz=14, slope_db_oct=48)
    quiet = run(Eq(id="e", bands=[cut]), noise(0.5))
    matched = run(Eq(id="e", bands=[cut], level_match=True), noise(0.5))
    assert rms_db(matched) == pytest.approx(rms_db(quiet) + 24, abs=0.01)


def test_an_eq_without_gain_is_the_part_itself():
    sound = noise(0.5)
    assert np.array_equal(run(Eq(id="e"), sound), sound)


@pytest.mark.parametrize("gain", [-90.0, -6.0, 0.0, 12.0])
@pytest.mark.parametrize("inverted", [False, True])
def test_level_is_exact(gain, inverted):
    sound = noise(0.1)
    out = run(Level(id="l", gain_db=gain, inverted=inverted), sound)
    factor = np.float32((-1 if inverted else 1) * 10 ** (gain / 20))
    assert np.array_equal(out, sound * factor)


def test_full_width_is_a_null_and_the_mono_sum_never_changes():
    sound = noise(1)
    assert np.array_equal(run(Width(id="w"), sound), sound)
    for width in (0.0, 0.4, 2.0):
        out = run(Width(id="w", width=width, mono_below_hz=150), sound)
        assert np.abs(out.sum(axis=1) - sound.sum(axis=1)).max() < 1e-6
    mono = run(Width(id="w", width=0), sound)
    assert np.abs(mono[:, 0] - mono[:, 1]).max() < 1e-7
    swapped = run(Width(id="w", swap=True), sound)
    assert np.array_equal(swapped, sound[:, ::-1])
    one = noise(0.2, channels=1)
    assert np.array_equal(run(Width(id="w", width=2), one), one)


def test_lows_become_mono_and_highs_stay_wide():
    out = run(Width(id="w", mono_below_hz=200), np.hstack([sine(50, 1), -sine(50, 1)]))
    assert rms_db(out[RATE // 2 :]) < rms_db(sine(50, 1)) - 45
    high = np.hstack([sine(3000, 1), -sine(3000, 1)])
    assert rms_db(run(Width(id="w", mono_below_hz=200), high)) == pytest.approx(rms_db(high), abs=0.05)


@pytest.mark.parametrize("rate", [44100, 48000])
@pytest.mark.parametrize("nudge_frames", [0.5, 0.25, 17.3, -4.7, -0.5, 12.0])
def test_a_fractional_nudge_is_flat_to_18_khz_and_lands_where_it_says(rate, nudge_frames):
    move = Alignment(id="a", nudge_ms=nudge_frames * 1000 / rate)
    pulse = np.zeros((4096, 1), np.float32)
    pulse[500] = 1
    from moves_tools import at_work

    processor = at_work(move, rate, 1)
    out = processor.process(pulse, None)[:, 0]
    spectrum = np.fft.rfft(out.astype(np.float64))
    hz = np.fft.rfftfreq(4096, 1 / rate)
    inside = (hz > 50) & (hz < 18000)
    assert np.abs(20 * np.log10(np.abs(spectrum[inside]))).max() < 0.1
    delay = -np.unwrap(np.angle(spectrum))[inside] * rate / (2 * np.pi * hz[inside])
    assert delay - 500 - processor.latency == pytest.approx(nudge_frames, abs=0.01)


def test_polarity_and_rotation_keep_the_level():
    sound = noise(1)
    assert np.array_equal(run(Alignment(id="a", inverted=True), sound), -sound)
    hz, found = pulse_response_db(Alignment(id="a", rotate_hz=100))
    assert np.abs(found[(hz > 10) & (hz < 20000)]).max() < 0.01
    rotated = run(Alignment(id="a", rotate_hz=100), sine(100, 2))[RATE:, 0]
    # A quarter of a turn at the frequency it is set to.
    plain = sine(100, 2)[RATE:, 0]
    assert abs(np.corrcoef(rotated, plain)[0, 1]) < 0.02


TIE = TieRef(part="x", move="y")


@pytest.mark.parametrize("share", [0.0, 0.3, 0.5, 1.0])
def test_what_one_part_gains_the_other_gives(share):
    bands = [TiedBand(hz=400, q=1.5, difference_db=6, share=share), TiedBand(hz=3000, difference_db=-4)]
    found = {}
    for side in ("gains", "gives"):
        move = ComplementaryEq(id="c", side=side, tied_to=TIE, bands=bands)
        hz, found[side] = pulse_response_db(move)
    at = int(np.argmin(np.abs(hz - 400)))
    lone = [band for band in bands if band.hz == 400]
    assert gain_db(lone[0], "gains") == pytest.approx(6 * share)
    alone = {}
    for side in ("gains", "gives"):
        move = ComplementaryEq(id="c", side=side, tied_to=TIE, bands=lone)
        _, alone[side] = pulse_response_db(move)
    assert alone["gains"][at] - alone["gives"][at] == pytest.approx(6, abs=0.01)
    if share == 0.5:
        assert np.abs(found["gains"] + found["gives"])[(hz > 20) & (hz < 18000)].max() < 0.1
        assert alone["gains"][at] == pytest.approx(-alone["gives"][at], abs=0.01)


def test_a_dynamic_side_moves_only_while_the_other_part_sounds():
    band = TiedBand(hz=500, q=1, difference_db=12, share=0, dynamic="gives", full_at_db=-20)
    move = ComplementaryEq(id="c", side="gives", tied_to=TIE, bands=[band])
    part = sine(500, 3, -20)
    other = np.concatenate([np.zeros((RATE, 1)), sine(500, 1, -10), np.zeros((RATE, 1))]).astype("f4")
    out = run(move, part, other)
    level = [rms_db(out[i : i + RATE // 4]) for i in (RATE // 2, RATE * 3 // 2, RATE * 5 // 2 + 10_000)]
    assert level[0] == pytest.approx(-23.01, abs=0.05)
    assert level[1] == pytest.approx(-35.01, abs=0.1)
    assert level[2] == pytest.approx(-23.01, abs=0.2)
