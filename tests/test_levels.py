"""Levels against ITU-R BS.1770-5 and the signals of EBU Tech 3341."""

from __future__ import annotations

import numpy as np
import pyloudnorm
import pytest
from conftest import RATE, sine

from pondel.core.dsp.weighting import k_weighting
from pondel.core.measures import levels, loudness


def stereo(hz: float, seconds: float, level_db: float, rate: int = RATE) -> np.ndarray:
    return np.repeat(sine(hz, seconds, level_db, rate), 2, axis=1)


def measured(samples: np.ndarray, rate: int = RATE, block: int = 10007) -> levels.Levels:
    blocks = (samples[i : i + block] for i in range(0, len(samples), block))
    return levels.measure(blocks, rate, samples.shape[1])


def test_k_weighting_is_that_of_the_standard_at_48_khz():
    shelf, cut = k_weighting(48000)
    table_1 = [1.53512485958697, -2.69169618940638, 1.19839281085285, 1]
    assert shelf == pytest.approx([*table_1, -1.69065929318241, 0.73248077421585], abs=1e-6)
    assert cut == pytest.approx([1, -2, 1, 1, -1.99004745483398, 0.99007225036621], abs=1e-6)


@pytest.mark.parametrize("rate", [44100, 48000, 96000])
@pytest.mark.parametrize("level", [-23.0, -33.0])
def test_ebu_3341_cases_1_and_2_stereo_sine(level, rate):
    assert measured(stereo(1000, 20, level, rate), rate).integrated_lufs == pytest.approx(
        level, abs=0.1
    )


@pytest.mark.parametrize(
    ("steps", "expected"),
    [
        ([(10, -36), (60, -23), (10, -36)], -23.0),
        ([(10, -72), (10, -36), (60, -23), (10, -36), (10, -72)], -23.0),
        ([(20, -26), (20.1, -20), (20, -26)], -23.0),
    ],
    ids=["case 3", "case 4", "case 5"],
)
def test_ebu_3341_gating(steps, expected):
    signal = np.concatenate([stereo(1000, seconds, level) for seconds, level in steps])
    assert measured(signal).integrated_lufs == pytest.approx(expected, abs=0.1)


def repeated(*steps: tuple[float, float], times: int) -> np.ndarray:
    return np.concatenate([stereo(1000, seconds, level) for seconds, level in steps] * times)


def test_ebu_3341_case_9_short_term_stays_at_minus_23():
    meter = loudness.LoudnessMeter(RATE, 2)
    meter.write(repeated((1.34, -20), (1.66, -30), times=5))
    found = loudness.windowed_lufs(meter.step_powers(), loudness.SHORT_TERM_STEPS)
    assert found == pytest.approx(-23, abs=0.1)


def test_ebu_3341_case_12_momentary_stays_at_minus_23():
    meter = loudness.LoudnessMeter(RATE, 2)
    meter.write(repeated((0.18, -20), (0.22, -30), times=25))
    found = loudness.windowed_lufs(meter.step_powers(), loudness.MOMENTARY_STEPS)
    assert found[6:] == pytest.approx(-23, abs=0.1)


def test_loudest_momentary_and_short_term_of_a_burst():
    signal = np.concatenate([stereo(1000, 4, -40), stereo(1000, 0.5, -10), stereo(1000, 4, -40)])
    found = measured(signal)
    assert found.momentary_max_lufs == pytest.approx(-10, abs=0.1)
    # Half a second at -10 in three seconds, the rest at -40.
    expected = 10 * np.log10((0.5 * 10**-1 + 2.5 * 10**-4) / 3)
    assert found.short_term_max_lufs == pytest.approx(expected, abs=0.1)


@pytest.mark.parametrize(
    ("levels_db", "expected"),
    [((-20, -30), 10), ((-20, -15), 5), ((-40, -20), 20), ((-50, -35, -20, -35, -50), 15)],
    ids=["case 1", "case 2", "case 3", "case 4"],
)
def test_ebu_3342_loudness_range(levels_db, expected):
    signal = np.concatenate([stereo(1000, 20, level) for level in levels_db])
    assert measured(signal).loudness_range_lu == pytest.approx(expected, abs=0.1)


@pytest.mark.parametrize(
    ("hz", "phase", "expected"),
    [(RATE / 4, 0, -6), (RATE / 4, 45, -6), (RATE / 6, 60, -6), (RATE / 8, 67.5, -6)],
    ids=["case 15", "case 16", "case 17", "case 18"],
)
def test_ebu_3341_true_peak_of_sines_between_samples(hz, phase, expected):
    t = np.arange(RATE) / RATE
    tone = 0.5 * np.sin(2 * np.pi * hz * t + np.radians(phase))
    tone *= np.minimum(1, np.minimum(t, t[::-1]) / 0.01)
    found = measured(np.repeat(tone[:, None], 2, axis=1).astype(np.float32)).true_peak_dbtp
    assert expected - 0.4 <= found <= expected + 0.2


def test_loudness_of_noise_agrees_with_an_independent_meter():
    rng = np.random.default_rng(4)
    noise = (rng.standard_normal((RATE * 8, 2)) * np.linspace(0.01, 0.2, RATE * 8)[:, None]).astype(
        "f4"
    )
    other = pyloudnorm.Meter(RATE).integrated_loudness(noise.astype(float))
    assert measured(noise).integrated_lufs == pytest.approx(other, abs=0.1)
    assert loudness.loudness_lufs(noise, RATE) == pytest.approx(
        measured(noise).integrated_lufs, abs=1e-6
    )


def test_peak_rms_crest_and_dc_of_a_sine():
    found = measured(sine(1000, 1, -6) + np.float32(0.1))
    assert found.dc_offset == pytest.approx(0.1, abs=1e-4)
    plain = measured(sine(1000, 1, -6))
    assert plain.sample_peak_dbfs == pytest.approx(-6, abs=0.01)
    assert plain.rms_dbfs == pytest.approx(-9.0103, abs=0.01)
    assert plain.crest_db == pytest.approx(3.0103, abs=0.01)


def test_clipped_runs_are_counted_across_blocks():
    samples = np.zeros((5000, 1), np.float32)
    samples[100:104] = 1.0
    samples[999:1002] = -1.0
    samples[3000] = 1.0
    assert measured(samples, block=1000).clipped_runs == 2


def test_silence_and_a_single_sample_have_no_loudness():
    for samples in (np.zeros((RATE, 2), np.float32), np.ones((1, 1), np.float32)):
        found = measured(samples)
        assert found.integrated_lufs is None and found.loudness_range_lu is None
        assert np.isfinite(found.rms_dbfs)


@pytest.mark.parametrize("hz", [997, 9000, 15000, 18000, 20000])
@pytest.mark.parametrize("rate", [44100, 48000])
def test_true_peak_of_a_sine_is_its_amplitude_up_to_20_khz(hz, rate):
    turns = np.linspace(0, np.pi, 7)
    t = np.arange(rate // 2) / rate
    for turn in turns:
        shape = np.minimum(1, 20 * np.minimum(t, t[-1] - t)) ** 2
        samples = (0.5 * shape * np.sin(2 * np.pi * hz * t + turn))[:, None]
        found = levels.measure([samples.astype("f4")], rate, 1).true_peak_dbtp
        assert found == pytest.approx(-6.02, abs=0.1)


@pytest.mark.parametrize("trim_db", [0, -20])
def test_flat_tops_are_what_clipping_leaves_whatever_the_level(trim_db):
    clipped = np.clip(sine(100, 1, 3), -1, 1) * np.float32(10 ** (trim_db / 20))
    assert measured(clipped, block=777).flat_tops == pytest.approx(200, abs=16)
    rounded = np.round(sine(40, 2, -1) * 32767).astype("f4") / 32768
    assert measured(rounded).flat_tops == 0
    quiet_square = np.sign(sine(100, 1)) * np.float32(0.1) + np.float32(0.5) * (sine(3000, 1) > 0.999)
    assert measured(quiet_square).flat_tops < 20


def test_dc_is_that_of_the_worst_channel_and_samples_over_full_scale_are_counted():
    both = np.hstack([sine(1000, 1, -6), sine(1000, 1, -6) - np.float32(0.2)])
    assert measured(both).dc_offset == pytest.approx(-0.2, abs=1e-3)
    over = sine(1000, 1, 1)
    assert measured(over).over_full_scale == int((np.abs(over) > 1).sum()) > 0
    assert measured(sine(1000, 1, -1)).over_full_scale == 0
