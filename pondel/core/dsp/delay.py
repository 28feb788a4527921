"""A delay of whole frames that streams."""

from __future__ import annotations

import numpy as np


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
