"""What a part's tone, and its warmth, lost: by third octave, between 120 and 500 Hz.

change = tone_change(before_db, after_db)
change.largest_db, change.at_hz      # -4.1, 63.0
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from pondel.core.dsp.decimate import Decimator
from pondel.core.measures.spectrum import average_spectrum, axis_hz

THIRDS_HZ = 1000.0 * 2.0 ** (np.arange(-16, 13) / 3.0)
"""Middles of the third octaves, 25 Hz to 16 kHz (IEC 61260-1, base two)."""
HEARD_DB = 40.0
"""What lies further under the loudest band is no part of the tone."""
WARMTH_HZ = (120.0, 500.0)
LEAST_POWER = 1e-14


@dataclass(frozen=True)
class ToneChange:
    """How far third octaves went up or down: the one that went furthest, the mean of all, in dB."""

    largest_db: float
    at_hz: float
    mean_db: float
    warmth_db: float


def thirds_db(levels_db: np.ndarray) -> np.ndarray:
    """Levels in dB of the third octaves at `THIRDS_HZ`, from levels at `axis_hz`."""
    power = 10.0 ** (levels_db / 10.0)
    inside = np.abs(np.log2(axis_hz()[None, :] / THIRDS_HZ[:, None])) <= 1 / 6
    return 10.0 * np.log10(np.maximum((inside @ power) / inside.sum(axis=1), LEAST_POWER))


def warmth_db(levels_db: np.ndarray) -> float:
    """The level between 120 and 500 Hz, from levels at `axis_hz`."""
    return level_between_db(levels_db, *WARMTH_HZ)


def warmth_of_db(sound: np.ndarray, rate: int) -> float:
    """`warmth_db` of float32 (frames, channels), from a sixteenth of them; at 44.1 kHz or more."""
    slow = np.ascontiguousarray(sound.T)
    for _ in range(2):
        slow = Decimator(4, slow.shape[0], keep=0.25).push(slow)
    return warmth_db(average_spectrum([slow.T], rate // 16))


def level_between_db(levels_db: np.ndarray, low_hz: float, high_hz: float) -> float:
    """The mean level in a range, from levels at `axis_hz`."""
    hz = axis_hz()
    inside = (hz >= low_hz) & (hz <= high_hz)
    return float(10.0 * np.log10(max((10.0 ** (levels_db[inside] / 10.0)).mean(), LEAST_POWER)))


def tone_change(before_db: np.ndarray, after_db: np.ndarray) -> ToneChange:
    """What happened to a spectrum; both are levels at `axis_hz`."""
    before, after = thirds_db(before_db), thirds_db(after_db)
    heard = before > before.max() - HEARD_DB
    change = np.where(heard, after - before, 0.0)
    at = int(np.argmax(np.abs(change)))
    return ToneChange(
        float(change[at]),
        float(THIRDS_HZ[at]),
        float(np.abs(change[heard]).mean()) if heard.any() else 0.0,
        warmth_db(after_db) - warmth_db(before_db),
    )
