"""A sound's low and its high side, which sum to it exactly.

    low, high = Split(120.0, 48000, 2).process(block)

The low side passes a linear-phase FIR (Kaiser window; J. F. Kaiser 1974), made up for its delay; the
high side is what is left. Streams in blocks: what comes out lies `delay` frames behind what went in.
"""

from __future__ import annotations

import numpy as np

STOPPED_DB, WIDTH = 80.0, 0.7
"""The high side holds so little of the lows; the slope takes this share of the corner frequency."""


class Split:
    """Splits float32 blocks (frames, channels) at a corner frequency."""

    def __init__(self, at_hz: float, rate: int, channels: int) -> None:
        from scipy.signal import firwin, kaiserord

        taps, beta = kaiserord(STOPPED_DB, WIDTH * at_hz / (0.5 * rate))
        self._fir = firwin(taps | 1, at_hz, window=("kaiser", beta), fs=rate)
        self.delay = self._fir.size // 2
        self._past = np.zeros((self._fir.size - 1, channels))

    def process(self, block: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Both sides, `delay` frames late: they sum to the block that went in before them."""
        from scipy.signal import oaconvolve

        if not block.shape[0]:
            return block, block
        joined = np.concatenate([self._past, block])
        low = oaconvolve(joined, self._fir[:, np.newaxis], mode="valid", axes=0)
        size = block.shape[0]
        sound = joined[self.delay : self.delay + size].astype(np.float32)
        self._past = joined[size:]
        low32 = low.astype(np.float32)
        return low32, sound - low32

    def rest(self) -> tuple[np.ndarray, np.ndarray]:
        """What is still inside, once all went in."""
        return self.process(np.zeros((self.delay, self._past.shape[1]), np.float32))
