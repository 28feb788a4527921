"""The compressor against closed forms."""

from __future__ import annotations

import numpy as np
import pytest
from conftest import RATE, hits, sine
from hypothesis import given, settings
from hypothesis import strategies as st

from pondel.core.dsp import ballistics
from pondel.core.dsp.squeeze import static_reduction_db
from pondel.core.moves.compressor import Compressor, CompressorProcessor


def run(
    samples: np.ndarray, key: np.ndarray | None = None, *, rate: int = RATE, block: int = 0, **settings
) -> tuple[np.ndarray, np.ndarray]:
    """Output and reduction per frame of a compressor over the whole of `samples`."""
    reductions: list[np.ndarray] = []
    move = Compressor(id="m", **settings)
    processor = CompressorProcessor(move, rate, samples.shape[1], reductions.append)
    size = block or samples.shape[0]
    out = [
        processor.process(samples[i : i + size], None if key is None else key[i : i + size])
        for i in range(0, samples.shape[0], size)
    ]
    return np.concatenate(out), np.concatenate(reductions)


def steady(level_db: float, seconds: float = 1.0) -> np.ndarray:
    return np.full((round(seconds * RATE), 1), 10 ** (level_db / 20), np.float32)


def expected_db(level: float, threshold: float, ratio: float, knee: float) -> float:
    """Giannoulis, Massberg and Reiss (2012), equation 4, written out by cases."""
    if 2 * (level - threshold) < -knee:
        return level
    if 2 * abs(level - threshold) <= knee and knee > 0:
        return level + (1 / ratio - 1) * (level - threshold + knee / 2) ** 2 / (2 * knee)
    return threshold + (level - threshold) / ratio


@pytest.mark.parametrize("ratio", [1, 1.5, 4, 20, float("inf")])
@pytest.mark.parametrize("knee", [0, 6, 18])
@pytest.mark.parametrize("level", [-60, -33.5, -30, -28, -20, -6, 0])
def test_static_curve(level, knee, ratio):
    out, _ = run(steady(level), threshold_db=-30, ratio=ratio, knee_db=knee, attack_ms=1, range_db=60)
    assert 20 * np.log10(out[-1, 0]) == pytest.approx(expected_db(level, -30, ratio, knee), abs=0.05)
    curve = level - static_reduction_db(np.array(level), -30, ratio, knee, 60)
    assert curve == pytest.approx(expected_db(level, -30, ratio, knee), abs=1e-9)


def test_static_curve_of_a_sine_is_that_of_its_peak():
    out, _ = run(sine(1000, 2, -6), threshold_db=-26, ratio=4, knee_db=0, attack_ms=5, release_ms=2000)
    assert 20 * np.log10(np.abs(out[-RATE // 2 :]).max()) == pytest.approx(-26 + 20 / 4, abs=0.05)


def test_rms_detector_hears_a_sine_three_decibels_below_its_peak():
    settings = {"threshold_db": -30, "ratio": 4, "knee_db": 0, "release_ms": 500}
    out, _ = run(sine(1000, 3, -6), detector="rms", rms_window_ms=100, **settings)
    level = -6 - 10 * np.log10(2)
    reduction = (level + 30) * 0.75
    assert 20 * np.log10(np.abs(out[-RATE:]).max()) == pytest.approx(-6 - reduction, abs=0.05)


@pytest.mark.parametrize("attack", [0.5, 2, 20, 100])
@pytest.mark.parametrize("release", [10, 90, 400])
def test_attack_and_release_cover_63_percent_in_the_stated_time(attack, release):
    quiet, loud = steady(-60, 0.2), steady(-10, 2.0)
    back = steady(-60, 4.0)
    _, reduction = run(
        np.concatenate([quiet, loud, back]),
        threshold_db=-30,
        ratio=4,
        knee_db=0,
        attack_ms=attack,
        release_ms=release,
    )
    share = 1 - np.exp(-1)
    rise = reduction[round(0.2 * RATE) :]
    fall = reduction[round(2.2 * RATE) :]
    assert np.argmax(rise >= share * 15) / RATE * 1000 == pytest.approx(attack, rel=0.05)
    assert np.argmax(fall <= (1 - share) * 15) / RATE * 1000 == pytest.approx(release, rel=0.05)


def test_hold_keeps_the_gain_down_before_it_returns():
    step = np.concatenate([steady(-10, 0.5), steady(-60, 2.0)])
    settings = {"threshold_db": -30, "ratio": 4, "knee_db": 0, "attack_ms": 0.05, "release_ms": 100}
    _, reduction = run(step, hold_ms=250, **settings)
    after = reduction[round(0.5 * RATE) :]
    assert after[round(0.245 * RATE)] == pytest.approx(15, abs=0.01)
    left = np.argmax(after <= 15 * np.exp(-1)) / RATE
    assert left == pytest.approx(0.250 + 0.100, rel=0.05)


def test_each_peak_is_held_for_its_time_and_not_only_the_highest():
    """Peaks at 0 and 200 ms, the second 10 dB lower; held for 300 ms each, then they let go at once."""
    levels_db = np.full(RATE, -80.0)
    levels_db[0], levels_db[round(0.2 * RATE)] = -10, -20
    sound = (10 ** (levels_db / 20))[:, None].astype("f4")
    settings = {"threshold_db": -40, "ratio": 2, "knee_db": 0, "attack_ms": 0.05, "release_ms": 10}
    for block in (0, 480, 9601):
        _, reduction = run(sound, hold_ms=300, block=block, **settings)
        for at_ms, wanted_db in ((10, 15), (299, 15), (400, 10), (499, 10), (700, 0)):
            assert reduction[at_ms * RATE // 1000] == pytest.approx(wanted_db, abs=0.01)


def test_range_bounds_the_reduction_and_makeup_and_mix_are_exact():
    out, reduction = run(steady(0), threshold_db=-60, ratio=20, range_db=9, attack_ms=1)
    assert reduction[-1] == pytest.approx(9, abs=1e-3)
    out, _ = run(steady(-20), ratio=1, makeup_db=6)
    assert 20 * np.log10(out[-1, 0]) == pytest.approx(-14, abs=0.001)
    out, _ = run(steady(0), threshold_db=-40, ratio=20, range_db=20, knee_db=0, mix=0.5, attack_ms=1)
    assert out[-1, 0] == pytest.approx(0.5 + 0.5 * 0.1, abs=1e-4)


def test_ratio_one_changes_nothing_but_rounding():
    samples = sine(100, 0.5)
    out, _ = run(samples, ratio=1)
    assert np.abs(out - samples).max() < 1e-6


def test_a_key_drives_the_gain_and_the_part_does_not():
    quiet_key = np.zeros((RATE, 1), np.float32)
    out, _ = run(steady(0), quiet_key, threshold_db=-30)
    assert np.abs(out - 1.0).max() < 1e-4
    _, reduction = run(steady(-60), steady(-10), threshold_db=-30, ratio=4, knee_db=0, attack_ms=1)
    assert reduction[-1] == pytest.approx(15, abs=0.05)


def test_stereo_link_gives_both_channels_one_gain():
    both = np.hstack([steady(-10), steady(-50)])
    settings = {"threshold_db": -30, "ratio": 4, "knee_db": 0, "attack_ms": 1}
    linked, _ = run(both, stereo_link=True, **settings)
    assert 20 * np.log10(linked[-1]) == pytest.approx([-25, -65], abs=0.05)
    apart, _ = run(both, stereo_link=False, **settings)
    assert 20 * np.log10(apart[-1]) == pytest.approx([-25, -50], abs=0.05)


def test_look_ahead_lowers_the_gain_before_the_hit_by_its_latency():
    step = np.concatenate([steady(-60, 0.1), steady(0, 0.2)])
    move = Compressor(id="m", threshold_db=-20, ratio=20, look_ahead_ms=5, attack_ms=0.5)
    processor = CompressorProcessor(move, RATE, 1)
    out = processor.process(step, None)
    assert processor.latency == round(0.005 * RATE)
    first = round(0.1 * RATE) + processor.latency
    assert out[first - 1, 0] < 10 ** (-60 / 20) * 0.2
    assert np.abs(out[first:]).max() < 0.2


@pytest.mark.parametrize("frames", [1, 7, 1000, 4096])
def test_output_does_not_depend_on_the_block_size(frames):
    samples = np.hstack([hits(1.0), sine(70, 1.0)])
    settings = {"threshold_db": -40, "look_ahead_ms": 3, "hold_ms": 20, "detector": "rms"}
    whole, _ = run(samples, **settings)
    pieces, _ = run(samples, block=frames, **settings)
    assert np.array_equal(whole, pieces)


@settings(max_examples=40, deadline=None)
@given(
    attack=st.floats(0.05, 300),
    release=st.floats(2, 5000),
    hold=st.floats(0, 1000),
    threshold=st.floats(-80, 0),
    ratio=st.one_of(st.floats(1, 100), st.just(float("inf"))),
    knee=st.floats(0, 30),
    rate=st.sampled_from([44100, 48000, 96000, 192000]),
    channels=st.sampled_from([1, 2]),
    detector=st.sampled_from(["peak", "rms"]),
    link=st.booleans(),
)
def test_no_input_makes_it_emit_anything_but_numbers(
    attack, release, hold, threshold, ratio, knee, rate, channels, detector, link
):
    rng = np.random.default_rng(3)
    wild = np.array([np.inf, -np.inf, np.nan, 1e30, -1e30, 1e-40, 0.0, 1.0, -1.0], np.float32)
    samples = rng.choice(wild, (4000, channels))
    out, reduction = run(
        samples,
        rate=rate,
        attack_ms=attack,
        release_ms=release,
        hold_ms=hold,
        threshold_db=threshold,
        ratio=ratio,
        knee_db=knee,
        detector=detector,
        stereo_link=link,
    )
    assert np.isfinite(out).all()
    assert reduction.min() >= 0 and reduction.max() <= 24 + 1e-3


@pytest.mark.parametrize(("release", "second"), [(100, 0), (100, 1), (100, 25), (8, 2)])
def test_two_stages_together_fall_63_percent_in_the_release(release, second):
    first = ballistics.first_stage_ms(release, second)
    left = 1.0 * first
    if second:
        left = first * np.exp(-release / first) - second * np.exp(-release / second)
        left /= first - second
    else:
        left = np.exp(-release / first)
    assert left == pytest.approx(np.exp(-1), rel=1e-6)
