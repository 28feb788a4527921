"""Kernels that do many things at once, against the same in plain double precision, one by one."""

from __future__ import annotations

import numpy as np
import pytest
from moves_tools import noise
from scipy.signal import butter, sosfilt

from pondel.core.dsp.ballistics import Times, smooth_reduction
from pondel.core.dsp.cascade import Cascade
from pondel.core.dsp.crossover import Crossover, band_biquads

RATE = 48_000
FAR_BELOW_DB = -120.0


def error_db(found: np.ndarray, wanted: np.ndarray) -> float:
    """The largest difference against the largest sample."""
    return float(20 * np.log10(np.abs(found - wanted).max() / np.abs(wanted).max() + 1e-30))


@pytest.mark.parametrize("channels", [1, 2, 3])
@pytest.mark.parametrize("count", [1, 2, 3, 7, 8, 9, 11, 17])
def test_a_cascade_is_its_sections_one_after_another(count, channels):
    rows = [butter(2, hz, "highpass", fs=RATE, output="sos") for hz in np.geomspace(20, 2000, count)]
    rows[0] = np.array([[1.1, -1.8, 0.85, 1.0, -1.9, 0.905]])
    sos, sound = np.concatenate(rows), noise(0.25, 0.3, channels)
    wanted = sosfilt(sos, sound.astype(np.float64), axis=0)
    for block in (sound.shape[0], 1025, 7, 1):
        cascade = Cascade(sos, channels)
        pieces = [cascade.process(sound[i : i + block]) for i in range(0, len(sound), block)]
        assert error_db(np.concatenate(pieces), wanted) < FAR_BELOW_DB


@pytest.mark.parametrize("rate", [44_100, 192_000])
@pytest.mark.parametrize("channels", [1, 2, 3])
@pytest.mark.parametrize("count", [1, 2, 4, 5])
def test_a_split_is_what_its_bands_are_as_sections(count, channels, rate):
    cuts, sound = [31.0, 80.0, 300.0, 1200.0, 5000.0][:count], noise(0.25, 0.3, channels)
    every = [sosfilt(sos, sound.astype(np.float64), axis=0) for sos in band_biquads(cuts, rate)]
    for block in (sound.shape[0], 1025, 7, 1):
        split = Crossover(cuts, rate, channels)
        found = [split.split(sound[i : i + block]) for i in range(0, len(sound), block)]
        for n, wanted in enumerate(every):
            assert error_db(np.concatenate([bands[n] for bands in found]), wanted) < FAR_BELOW_DB


@pytest.mark.parametrize(
    "times_ms", [(5.0, 100.0), (0.1, 30.0), (40.0, 50.0), (0.0, 0.0), (200.0, 80.0)]
)
def test_ballistics_are_equation_17_frame_by_frame(times_ms):
    times = Times.of(*times_ms, RATE)
    wanted_db = np.maximum(30 * noise(0.1, 0.5, 1, seed=4)[:, 0], 0.0)
    first, second, wanted = 0.0, 0.0, []
    for x in wanted_db.astype(np.float64):
        first = max(x, times.fall_first * first + (1 - times.fall_first) * x)
        pole = times.rise if first > second else times.fall_second
        second = pole * second + (1 - pole) * first
        wanted.append(second)
    found, state = wanted_db.copy(), np.zeros(2)
    for at in range(0, found.size, 333):
        smooth_reduction(found[at : at + 333], state, times.rise, times.fall_first, times.fall_second)
    np.testing.assert_allclose(found, wanted, rtol=3e-7, atol=1e-9)
