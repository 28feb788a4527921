"""What meters show while a sound plays: peak, momentary loudness, and left with right.

    found = metered(sound, 48000, lead_frames)
    found.peak_dbfs[n], found.momentary_lufs[n], found.correlation[n]     # from n x 100 ms on

Momentary loudness and correlation look back 400 ms (EBU Tech 3341), so that a sound begins with some
frames of what came before it.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from pondel.core.dsp.compiled import plain
from pondel.core.dsp.decibels import to_db
from pondel.core.measures.loudness import MOMENTARY_STEPS, STEP_S, LoudnessMeter, windowed_lufs

SILENT_DB = -90.0
SILENT_POWER = 1e-9


@dataclass(frozen=True)
class Metered:
    """Readings every 100 ms, (steps,); no correlation where hardly anything sounds."""

    peak_dbfs: np.ndarray
    momentary_lufs: np.ndarray
    correlation: np.ndarray

    @property
    def highest_peak_dbfs(self) -> float:
        return float(self.peak_dbfs.max(initial=SILENT_DB))

    @property
    def lowest_correlation(self) -> float | None:
        known = self.correlation[~np.isnan(self.correlation)]
        return float(known.min()) if known.size else None


def lead_frames(rate: int) -> int:
    """Frames before a sound that its first readings look back on."""
    return MOMENTARY_STEPS * round(STEP_S * rate)


def metered(sound: np.ndarray, rate: int) -> Metered:
    """Readings of float32 (frames, 2) after its first `lead_frames`."""
    step = round(STEP_S * rate)
    steps = sound.shape[0] // step
    wide = plain(sound[: steps * step].T)
    blocks = wide.reshape(2, steps, step).astype(np.float64)
    meter = LoudnessMeter(rate, 2)
    meter.write_wide(wide)
    products = {
        (a, b): _over((blocks[a] * blocks[b]).mean(axis=1)) for a, b in ((0, 0), (1, 1), (0, 1))
    }
    power = np.sqrt(products[0, 0] * products[1, 1])
    with np.errstate(invalid="ignore", divide="ignore"):
        correlation = np.where(power > SILENT_POWER, products[0, 1] / power, np.nan)
    peaks = np.abs(blocks).max(axis=(0, 2))[MOMENTARY_STEPS:]
    return Metered(
        np.maximum(to_db(peaks), SILENT_DB),
        np.maximum(windowed_lufs(meter.step_powers(), MOMENTARY_STEPS)[1:], SILENT_DB),
        np.clip(correlation, -1.0, 1.0),
    )


def _over(steps: np.ndarray) -> np.ndarray:
    """Means over the 400 ms up to and with each step after the lead, (steps - 4,)."""
    sums = np.cumsum(np.concatenate([[0.0], steps]))
    return ((sums[MOMENTARY_STEPS:] - sums[:-MOMENTARY_STEPS]) / MOMENTARY_STEPS)[1:]
