"""Spectral duck, drawn duck and tail trim."""

from __future__ import annotations

import numpy as np
import pytest
from conftest import RATE, sine
from moves_tools import at_work, noise, pulse_response_db, rms_db, run
from pydantic import ValidationError
from scipy.fft import rfft, rfftfreq

from pondel.core.dsp.bell_row import bell_row
from pondel.core.moves.drawn_duck import DrawnDuck, Point, curve
from pondel.core.moves.spectral_duck import SpectralDuck
from pondel.core.moves.tail_trim import TailTrim

FLAT = [Point(at=0, deep=1), Point(at=1, deep=1)]


def test_an_idle_spectral_duck_is_the_part_itself():
    sound = noise(1)
    out = run(SpectralDuck(id="s"), sound, np.zeros((RATE, 1), "f4"))
    assert np.abs(out - sound).max() < 1e-6


FULL = {"threshold_db": -80, "ratio": "inf", "tilt_db_oct": 0, "release_ms": 2000}


def answer_db(move, rate: int = RATE, frames: int = 1 << 16):
    """Frequencies, and what a loud key in all bands makes of each, measured with one pulse."""
    random = np.random.default_rng(3)
    key = random.normal(0, 0.3, (3 * rate + frames, 1)).astype("f4")
    processor = at_work(move, rate, 1)
    processor.process(np.zeros((3 * rate, 1), "f4"), key[: 3 * rate])
    pulse = np.zeros((frames, 1), "f4")
    pulse[0] = 1
    out = processor.process(pulse, key[3 * rate :])[:, 0]
    return rfftfreq(frames, 1 / rate), 20 * np.log10(np.abs(rfft(out.astype(float))) + 1e-9)


@pytest.mark.parametrize("depth_db", [3, 9, 16, 24])
@pytest.mark.parametrize(
    ("bands", "low_hz", "high_hz", "rate"),
    [
        ("narrow", 100, 8000, 48000),
        ("middle", 300, 1200, 48000),
        ("middle", 600, 9000, 44100),
        ("wide", 200, 4000, 96000),
    ],
)
def test_a_key_that_fills_its_bands_takes_the_depth_from_limit_to_limit(
    depth_db, bands, low_hz, high_hz, rate
):
    move = SpectralDuck(id="s", depth_db=depth_db, bands=bands, low_hz=low_hz, high_hz=high_hz, **FULL)
    hz, found = answer_db(move, rate)
    inside = (hz >= low_hz) & (hz <= high_hz)
    assert np.abs(found[inside] + depth_db).max() < 1.0
    beyond = ((hz > 10) & (hz < low_hz / 2)) | ((hz > 2 * high_hz) & (hz < 0.45 * rate))
    least = 0.1 if low_hz >= 300 and bands != "wide" else 0.35
    assert np.abs(found[beyond]).max() < least


@pytest.mark.parametrize("mix", [1.0, 0.5])
def test_the_trace_of_a_spectral_duck_is_what_the_sound_does(mix):
    move = SpectralDuck(id="s", depth_db=18, low_hz=300, high_hz=3000, mix=mix, **FULL)
    key, part = noise(3, 0.5, 1), sine(1000, 3, -20)
    traces, out = applied_db(move, key, part), run(move, part, key)
    change = rms_db(part[-RATE:]) - rms_db(out[-RATE:])
    centres = bell_row(300, 3000, 0.5, RATE).centres_hz
    near = int(np.abs(centres - 1000).argmin())
    assert traces[near] == pytest.approx(change, abs=0.5)
    assert change == pytest.approx(-20 * np.log10(1 - mix + mix * 10 ** (-18 / 20)), abs=1.0)
    assert traces[None] == max(fall for band, fall in traces.items() if band is not None)


def test_a_spectral_duck_holds_before_it_returns():
    key = noise(2, 0.5, 1)
    key[RATE:] = 0
    held = {}
    for hold_ms in (0, 300):
        move = SpectralDuck(id="s", depth_db=12, hold_ms=hold_ms, **{**FULL, "release_ms": 50})
        out = run(move, sine(1000, 2, -20), key)
        levels = [rms_db(out[RATE + n : RATE + n + 480]) for n in range(0, RATE // 2, 480)]
        held[hold_ms] = next(n for n, level in enumerate(levels) if level > -29) * 10
    assert held[300] - held[0] == pytest.approx(300, abs=20)


@pytest.mark.parametrize("bands", ["narrow", "wide"])
def test_a_key_that_comes_and_goes_through_the_threshold_never_raises_the_part(bands):
    """What is asked passes through next to nothing in every band, from above and from below."""
    swell = (0.5 + 0.5 * np.sin(2 * np.pi * 0.9 * np.arange(14 * RATE) / RATE))[:, None]
    key = (noise(14, 0.2, 1) * swell).astype("f4")
    move = SpectralDuck(id="s", threshold_db=-60, bands=bands, low_hz=20, high_hz=18000, hold_ms=3)
    part = sine(300, 14, -12)
    out = run(move, part, key)
    assert np.abs(out).max() < 1.05 * np.abs(part).max()


def test_only_the_bands_in_which_the_key_sounds_are_lowered():
    move = SpectralDuck(id="s", depth_db=12, threshold_db=-50, ratio="inf")
    key = sine(1000, 2, -10)
    assert rms_db(run(move, sine(1000, 2, -20), key)[-RATE:]) < -31
    for hz in (300, 3500):
        assert rms_db(run(move, sine(hz, 2, -20), key)[-RATE:]) == pytest.approx(-23, abs=0.3)


def applied_db(move, key, part) -> dict:
    """What each band says at the end of what it did, in dB, and all of it under None."""
    found: dict = {}
    run(move, part, key, trace=lambda values, band=None: found.update({band: float(values[-1])}))
    return {band: fall for band, fall in found.items() if not isinstance(band, str)}


@pytest.mark.parametrize(("ratio", "more"), [(2, 5.0), (5, 8.0), ("inf", 10.0)])
def test_the_ratio_of_a_spectral_duck_is_that_of_the_trade(ratio, more):
    key, part = noise(3, 0.1, 1), sine(1000, 3, -20)
    found = []
    for threshold_db in (-52, -62):
        move = SpectralDuck(
            id="s", depth_db=30, threshold_db=threshold_db, ratio=ratio, tilt_db_oct=0, release_ms=2000
        )
        found.append(rms_db(part[-RATE:]) - rms_db(run(move, part, key)[-RATE:]))
    # Of ten more decibels over the threshold all but one in `ratio` are answered.
    assert found[1] - found[0] == pytest.approx(more, abs=0.6) and found[0] > 1


def test_nothing_is_lowered_before_a_key_that_is_one_pulse():
    key = np.zeros((RATE, 1), "f4")
    key[RATE // 2] = 1.0
    sound = noise(1, 0.3, 1, seed=4)
    out = run(
        SpectralDuck(id="s", depth_db=24, threshold_db=-80, ratio="inf", attack_ms=0.5), sound, key
    )
    assert np.abs(out - sound)[: RATE // 2].max() < 10 ** (-50 / 20) * 0.3
    assert rms_db((out - sound)[RATE // 2 : RATE // 2 + 4800]) > -40


def test_a_curve_goes_through_its_points_and_bends():
    points = [Point(at=0, deep=0), Point(at=0.25, deep=1), Point(at=1, deep=0, bend=0)]
    table = curve(points, np.linspace(0, 1, 1001))
    assert table[0] == 0 and table[250] == pytest.approx(1) and table[-1] == 0
    assert table[125] == pytest.approx(0.5) and table[625] == pytest.approx(0.5)
    early = curve([Point(at=0, deep=0, bend=1), Point(at=1, deep=1)], np.linspace(0, 1, 101))
    late = curve([Point(at=0, deep=0, bend=-1), Point(at=1, deep=1)], np.linspace(0, 1, 101))
    assert early[50] > 0.8 and late[50] < 0.01


@pytest.mark.parametrize("bend", [-1, -0.5, 0.5, 1])
def test_the_gain_of_a_drawn_duck_is_the_curve_that_was_drawn(bend):
    points = [Point(at=0, deep=1), Point(at=0.5, deep=1, bend=bend), Point(at=1, deep=0)]
    move = DrawnDuck(id="d", depth_db=20, length_ms=4000, points=points, ramp_ms=0.5)
    out = run(move, np.ones((5 * RATE, 1), "f4"), hits_s=[0.0])[:, 0]
    frames = np.arange(round(2.02 * RATE), round(3.99 * RATE))
    way = (frames / RATE - 2) / 2
    # A bend of 1 is the eighth root of the way, one of -1 its eighth power.
    wanted = -20 * (1 - way ** (8.0**-bend))
    assert np.abs(20 * np.log10(out[frames]) - wanted).max() < 0.01


@pytest.mark.parametrize("hit", [0.1, 0.250013, 0.6777])
def test_a_drawn_duck_begins_at_the_frame_of_the_hit(hit):
    move = DrawnDuck(id="d", depth_db=12, length_ms=200, points=FLAT, ramp_ms=1)
    out = run(move, np.ones((RATE, 1), "f4"), hits_s=[hit])[:, 0]
    first = round(hit * RATE)
    assert out[first - 1] == pytest.approx(1, abs=1e-6) and out[first] < 0.99
    assert 20 * np.log10(out[first + 100]) == pytest.approx(-12, abs=0.01)
    assert np.abs(np.diff(20 * np.log10(out))).max() <= 12 / (0.001 * RATE) + 1e-4
    assert out[first + round(0.202 * RATE)] == pytest.approx(1.0, abs=1e-4)


def test_a_drawn_duck_on_the_beat_keeps_to_the_tempo():
    move = DrawnDuck(
        id="d", trigger="beats", every_beats=1, depth_db=6, length_beats=0.25, points=FLAT, ramp_ms=0.5
    )
    processor = at_work(move, RATE, 1, bpm=104)
    out = processor.process(np.ones((RATE * 4, 1), "f4"), None)[:, 0]
    down = np.flatnonzero((out[1:] < 0.99) & (out[:-1] >= 0.99)) + 1
    starts = np.arange(1, 7) * RATE * 60 / 104
    assert down[:6] == pytest.approx(starts[: down[:6].size], abs=1)


def test_an_early_hit_restarts_smoothly():
    move = DrawnDuck(id="d", depth_db=20, length_ms=400, ramp_ms=4)
    out = run(move, np.ones((RATE, 1), "f4"), hits_s=[0.1, 0.2])[:, 0]
    assert np.abs(np.diff(20 * np.log10(out))).max() <= 20 / (0.004 * RATE) + 1e-3


def test_a_drawn_duck_of_the_lows_leaves_the_highs():
    options = {"depth_db": 18, "length_ms": 4000, "points": FLAT, "crossover_hz": 200}
    low, high = sine(50, 2, -10), sine(4000, 2, -10)
    lows, highs = (DrawnDuck(id="d", acts_on=side, **options) for side in ("lows", "highs"))
    assert rms_db(run(lows, low, hits_s=[0])[RATE:]) == pytest.approx(-31, abs=0.3)
    assert rms_db(run(lows, high, hits_s=[0])[RATE:]) == pytest.approx(-13, abs=0.02)
    assert rms_db(run(highs, high, hits_s=[0])[RATE:]) == pytest.approx(-31, abs=0.3)
    hz, flat = pulse_response_db(DrawnDuck(id="d", acts_on="lows", crossover_hz=200))
    assert np.abs(flat[(hz > 15) & (hz < 20000)]).max() < 0.01


def test_points_follow_each_other():
    with pytest.raises(ValidationError, match="follow each other"):
        DrawnDuck(id="d", points=[Point(at=0.5), Point(at=0.1)])


@pytest.mark.parametrize("shape", ["line", "round", "steep"])
def test_a_tail_ends_where_it_should_and_the_attack_is_untouched(shape):
    move = TailTrim(id="t", end_ms=300, fade_ms=100, shape=shape)
    out = run(move, np.ones((RATE, 1), "f4"), hits_s=[0.1, 0.6])[:, 0]

    def at(seconds: float) -> float:
        return float(out[round(seconds * RATE)])

    assert at(0.0) == 1 and at(0.1) == 1 and at(0.29) == 1
    assert 0 < at(0.35) < 1 and at(0.41) < 1e-6 and at(0.59) < 1e-6
    assert at(0.6) == 1 and at(0.79) == 1
    assert np.abs(np.diff(out)).max() < 0.02
