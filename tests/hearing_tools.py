"""Signals whose loudness and masking are known, at sound pressure levels."""

from __future__ import annotations

import numpy as np
from conftest import RATE
from scipy.signal import butter, sosfilt

from pondel.core.hearing.excitation import NORMAL_DB_SPL, REFERENCE_DBFS, excite
from pondel.core.hearing.loudness import partial_loudness, sounding, total_sone

FULL_SCALE_DB_SPL = NORMAL_DB_SPL - REFERENCE_DBFS
STEADY = slice(40, -40)


def tone(hz: float, level_db_spl: float, seconds: float = 1.5, rate: int = RATE) -> np.ndarray:
    """A sine at a sound pressure level, float32 (frames, 1)."""
    t = np.arange(round(seconds * rate)) / rate
    amplitude = np.sqrt(2) * 10 ** ((level_db_spl - FULL_SCALE_DB_SPL) / 20)
    return (amplitude * np.sin(2 * np.pi * hz * t)).astype(np.float32)[:, None]


def band(low: float, high: float, level_dbfs: float, seed: int, seconds: float = 4) -> np.ndarray:
    """Noise between two frequencies at an RMS level, float32 (frames, 1)."""
    noise = np.random.default_rng(seed).standard_normal(round(RATE * seconds))
    noise = sosfilt(butter(8, [low, high], "bandpass", fs=RATE, output="sos"), noise)
    return (noise / noise.std() * 10 ** (level_dbfs / 20)).astype(np.float32)[:, None]


def loudness(sound: np.ndarray, rate: int = RATE) -> float:
    """Loudness of a steady sound in sones."""
    return float(total_sone(partial_loudness(excite([sound], rate).power[STEADY])).mean())


def steady_excitation(sound: np.ndarray) -> np.ndarray:
    """The mean excitation of a steady sound, (1, places)."""
    return excite([sound], RATE).power[STEADY].mean(axis=0, keepdims=True)


def share(part: np.ndarray, *maskers: np.ndarray, level_db_spl: float = NORMAL_DB_SPL) -> float:
    """Hidden share of a part among maskers."""
    own = excite([part], RATE, level_db_spl).power
    others = sum(excite([m], RATE, level_db_spl).power for m in maskers)
    alone = partial_loudness(own)
    heard = sounding(alone)
    left = np.minimum(partial_loudness(own, others), alone)
    return float(1.0 - left[heard].sum() / alone[heard].sum())
