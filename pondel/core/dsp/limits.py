"""The span of levels that kernels take for real, as amplitudes."""

from __future__ import annotations

import numpy as np

LOUDEST = np.float32(1e6)
"""What is louder, or no number, is no sound: detectors count it as this, what is heard as silence."""
QUIETEST = np.float32(1e-10)
"""What is quieter counts as this where a level is taken in decibels."""


def finite(block: np.ndarray) -> np.ndarray:
    """The block with silence where a sample is not a number or beyond all reason."""
    good = np.abs(block) < LOUDEST
    return block if good.all() else np.where(good, block, np.float32(0.0))
