"""Power as it is kept on disk: half-precision decibels, within 0.07 dB."""

from __future__ import annotations

import numpy as np

FLOOR = 1e-19
_PER_DB = np.float32(np.log(10.0) / 10.0)


def pack(power: np.ndarray) -> np.ndarray:
    """float32 mean squares to float16 dB, any shape."""
    return (10.0 * np.log10(np.maximum(power, np.float32(FLOOR)))).astype(np.float16)


def unpack(packed: np.ndarray) -> np.ndarray:
    """Back to float32 mean squares."""
    return np.exp(packed.astype(np.float32) * _PER_DB)
