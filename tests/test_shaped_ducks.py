"""Spectral duck, drawn duck and tail trim."""

from __future__ import annotations

import numpy as np
import pytest
from conftest import RATE, sine
from moves_tools import at_work, noise, pulse_response_db, rms_db, run
from pydantic import ValidationError

from pondel.core.moves.drawn_duck import DrawnDuck, Point, curve
from pondel.core.moves.spectral_duck import SpectralDuck
from pondel.core.moves.tail_trim import TailTrim

FLAT = [Point(at=0, deep=1), Point(at=1, deep=1)]


def test_an_idle_spectral_duck_is_the_part_itself():
    sound = noise(1)
    out = run(SpectralDuck(id="s"), sound, np.zeros((RATE, 1), "f4"))
    assert np.abs(out - sound).max() < 1e-6


@pytest.mark.parametrize("bands", ["narrow", "middle", "wide"])
def test_all_bands_down_is_the_depth_inside_and_nothing_outside(bands):
    move = SpectralDuck(
        id="s",
        depth_db=12,
        sensitivity_db=-80,
        sharpness=1,
        low_hz=200,
        high_hz=4000,
        bands=bands,
        tilt_db_oct=0,
    )
    key = noise(3, 0.5, 1)
    inside = {hz: run(move, sine(hz, 3, -20), key)[-RATE:] for hz in (400, 1000, 2500)}
    for hz, out in inside.items():
        assert rms_db(out) == pytest.approx(-23 - 12, abs=1.5), hz
    for hz in (40, 80, 12000, 16000):
        out = run(move, sine(hz, 3, -20), key)[-RATE:]
        assert rms_db(out) == pytest.approx(rms_db(sine(hz, 3, -20)[-RATE:]), abs=0.1), hz


def test_only_the_bands_in_which_the_key_sounds_are_lowered():
    move = SpectralDuck(id="s", depth_db=12, sensitivity_db=-50, sharpness=1)
    key = sine(1000, 2, -10)
    assert rms_db(run(move, sine(1000, 2, -20), key)[-RATE:]) < -31
    for hz in (300, 3500):
        assert rms_db(run(move, sine(hz, 2, -20), key)[-RATE:]) == pytest.approx(-23, abs=0.3)


def test_nothing_is_lowered_before_a_key_that_is_one_pulse():
    key = np.zeros((RATE, 1), "f4")
    key[RATE // 2] = 1.0
    sound = noise(1, 0.3, 1, seed=4)
    out = run(
        SpectralDuck(id="s", depth_db=24, sensitivity_db=-80, sharpness=1, attack_ms=0.5), sound, key
    )
    assert np.abs(out - sound)[: RATE // 2].max() < 10 ** (-50 / 20) * 0.3
    assert rms_db((out - sound)[RATE // 2 : RATE // 2 + 4800]) > -40


def test_a_curve_goes_through_its_points_and_bends():
    points = [Point(at=0, deep=0), Point(at=0.25, deep=1), Point(at=1, deep=0, bend=0)]
    table = curve(points, 1001)
    assert table[0] == 0 and table[250] == pytest.approx(1) and table[-1] == 0
    assert table[125] == pytest.approx(0.5) and table[625] == pytest.approx(0.5)
    early = curve([Point(at=0, deep=0, bend=1), Point(at=1, deep=1)], 101)
    late = curve([Point(at=0, deep=0, bend=-1), Point(at=1, deep=1)], 101)
    assert early[50] > 0.8 and late[50] < 0.01


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
