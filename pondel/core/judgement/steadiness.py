"""How much a treated part moves: its gain between hits, and what is added to its loudness's beating.

gain_moves_db(before, after, rate, hits_s)                # 1.2
modulation(after_sone) - modulation(before_sone)          # 0.04: pumping
"""

from __future__ import annotations

import numpy as np
from scipy.fft import rfft, rfftfreq

from pondel.core.hearing.spectra import FRAME_S

STEP_S = 0.02
ON_HIT_S = 0.2
QUIET_DB = 40.0
"""A moment so far under the loudest has no gain that anyone could hear move."""
BEATING_HZ = (1.0, 8.0)
LEAST_POWER = 1e-12


def _levels_db(samples: np.ndarray, rate: int) -> np.ndarray:
    step = round(STEP_S * rate)
    count = samples.shape[0] // step
    power = np.square(samples[: count * step], dtype=np.float64).reshape(count, -1).mean(axis=1)
    return 10.0 * np.log10(np.maximum(power, LEAST_POWER))


def gain_moves_db(before: np.ndarray, after: np.ndarray, rate: int, hits_s: np.ndarray) -> float:
    """How far the gain moves between hits, in dB rms around where it usually is.

    before and after: float (frames, channels), one part without and with its moves; the 200 ms
    after each hit do not count, where a duck is meant to move.
    """
    levels = _levels_db(before, rate)
    gain_db = _levels_db(after, rate)[: levels.size] - levels
    counted = levels > levels.max(initial=-200.0) - QUIET_DB
    for hit in hits_s:
        counted[round(hit / STEP_S) : round((hit + ON_HIT_S) / STEP_S)] = False
    if not counted.any():
        return 0.0
    moved = gain_db[counted] - np.median(gain_db[counted])
    return float(np.sqrt(np.mean(np.square(moved))))


def modulation(loudness_sone: np.ndarray) -> float:
    """How far loudness beats between 1 and 8 Hz, rms as a share of its mean.

    loudness_sone: (frames,), one each `FRAME_S`.
    """
    mean = float(loudness_sone.mean()) if loudness_sone.size else 0.0
    if mean <= 0.0:
        return 0.0
    bins = rfft(loudness_sone - mean)
    hz = rfftfreq(loudness_sone.size, FRAME_S)
    beats = (hz >= BEATING_HZ[0]) & (hz <= BEATING_HZ[1])
    power = 2.0 * float(np.square(np.abs(bins[beats])).sum()) / loudness_sone.size**2
    return float(np.sqrt(power)) / mean
