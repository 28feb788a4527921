"""Delays that stream: of whole frames, and by a short filter."""

from __future__ import annotations

import numpy as np

from pondel.core.dsp.compiled import kernel
from pondel.core.dsp.weighed import REST, TILE, add_weighed


class DelayLine:
    """Holds `frames` frames back; before the first input there was silence."""

    def __init__(self, frames: int, channels: int) -> None:
        self._held = np.zeros((frames, channels), np.float32)

    def push(self, block: np.ndarray) -> np.ndarray:
        """Give back as many frames as came in, `frames` late; shape (frames, channels)."""
        held = self._held.shape[0]
        if held == 0:
            return block
        joined = np.concatenate([self._held, block])
        self._held = joined[joined.shape[0] - held :].copy()
        return joined[: block.shape[0]]


@kernel(error_model="numpy")
def _run(sound, taps, channels, out):
    """(past and frames, channels), laid flat; each tile is filtered while it is near the core."""
    for start in range(0, out.size, TILE):
        tile = out[start : start + TILE]
        tile[:] = 0.0
        add_weighed(sound[start:], taps, channels, tile)


class ShortFilter:
    """A filter of some dozens of taps, of single precision; as it is, without a transform."""

    def __init__(self, kernel: np.ndarray, channels: int) -> None:
        self._taps = np.zeros(-(-kernel.size // REST) * REST, np.float32)
        self._taps[: kernel.size] = kernel[::-1]
        self._past = kernel.size - 1
        self._held = np.zeros((self._past, channels), np.float32)

    def process(self, block: np.ndarray) -> np.ndarray:
        """Filter float32 (frames, channels)."""
        frames, channels = block.shape
        joined = np.zeros((self._past + frames + REST, channels), np.float32)
        joined[: self._past], joined[self._past : self._past + frames] = self._held, block
        self._held = joined[frames : frames + self._past].copy()
        out = np.empty((frames, channels), np.float32)
        _run(joined.reshape(-1), self._taps, channels, out.reshape(-1))
        return out
