"""Delays that stream: of whole frames, and by a short filter."""

from __future__ import annotations

import numpy as np

from pondel.core.dsp.cascade import TILE, close_tile, open_tile
from pondel.core.dsp.compiled import kernel
from pondel.core.dsp.decimate import add_weighed
from pondel.core.dsp.lanes import even


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
def _run(block, taps, held, out):
    frames, past = block.shape[0], held.shape[1]
    # A little longer than is used: taps are taken four at a time.
    tile = np.zeros((held.shape[0], past + TILE + 4))
    treated = np.zeros((held.shape[0], TILE))
    tile[:, :past] = held
    for start in range(0, frames, TILE):
        size = min(TILE, frames - start)
        open_tile(block[start : start + size], tile[:, past:])
        for c in range(out.shape[1]):
            treated[c, :size] = 0.0
            add_weighed(tile[c], taps, 0, 1, size, treated[c])
        close_tile(treated, out[start : start + size])
        for c in range(tile.shape[0]):
            for i in range(past):
                tile[c, i] = tile[c, size + i]
    held[:] = tile[:, :past]


class ShortFilter:
    """A filter of some dozens of taps, double inside, single outside; as it is, without a transform."""

    def __init__(self, kernel: np.ndarray, channels: int) -> None:
        self._taps = np.ascontiguousarray(kernel[::-1], np.float64)
        self._held = np.zeros((even(channels), kernel.size - 1))

    def process(self, block: np.ndarray) -> np.ndarray:
        """Filter float32 (frames, channels)."""
        block = np.ascontiguousarray(block, np.float32)
        out = np.empty_like(block)
        _run(block, self._taps, self._held, out)
        return out
