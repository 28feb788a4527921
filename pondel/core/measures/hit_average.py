"""One hit, averaged: envelopes and gain around the hits of a part, with their spread."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from pondel.core.dsp.followers import followed

STEP_S = 0.002
LEAST_DB = -80.0
FALL_S = 0.025


@dataclass(frozen=True)
class Averaged:
    """Mean, lowest and highest value at each step of 2 ms from before a hit, float64 (steps,)."""

    mean: np.ndarray
    low: np.ndarray
    high: np.ndarray


def steps_db(samples: np.ndarray, rate: int) -> np.ndarray:
    """Peak level in dB of each step of 2 ms of (frames, channels), at least -80 dB.

    It falls slowly enough to bridge the cycles of low notes.
    """
    size = max(1, round(STEP_S * rate))
    count = samples.shape[0] // size
    steps = np.abs(samples[: count * size]).max(axis=1).reshape(count, size).max(axis=1)
    peaks = followed(steps.astype(np.float64), float(np.exp(-STEP_S / FALL_S)))
    return np.maximum(20.0 * np.log10(np.maximum(peaks, 1e-10)), LEAST_DB)


def average_around(
    values: np.ndarray, step_s: float, hits_s: np.ndarray, before_s: float, after_s: float
) -> Averaged | None:
    """Average of (steps,) values around hits, in seconds from the start of the values.

    Only hits whose whole window lies inside count; None when there is none.
    """
    first, last = -round(before_s / step_s), round(after_s / step_s)
    windows = []
    for hit in hits_s:
        at = round(float(hit) / step_s)
        if at + first >= 0 and at + last <= values.size:
            windows.append(values[at + first : at + last])
    if not windows:
        return None
    rows = np.array(windows)
    return Averaged(rows.mean(axis=0), rows.min(axis=0), rows.max(axis=0))
