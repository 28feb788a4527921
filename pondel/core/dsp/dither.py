"""Triangular dither: noise of two quantising steps' width that makes the error plain noise.

Lipshitz, Wannamaker and Vanderkooy, "Quantization and dither: a theoretical survey",
JAES 40(5), 1992: with triangular density of +-1 step neither the mean nor the power of the
error depends on the signal.
"""

from __future__ import annotations

import numpy as np


class Dither:
    """Adds the same noise every run, and rounds to whole steps of a `bits`-bit format."""

    def __init__(self, bits: int, channels: int, seed: int = 104) -> None:
        self._steps = float(2 ** (bits - 1))
        self._channels = channels
        self._random = np.random.default_rng(seed)

    def process(self, block: np.ndarray) -> np.ndarray:
        """Quantised samples, still as float (frames, channels), within full scale."""
        shape = (block.shape[0], self._channels, 2)
        noise = np.diff(self._random.random(shape, np.float64), axis=2)[..., 0]
        steps = np.round(block.astype(np.float64) * self._steps + noise)
        return np.clip(steps, -self._steps, self._steps - 1.0) / self._steps
