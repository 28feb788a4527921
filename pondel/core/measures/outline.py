"""The outline of a waveform: the lowest and highest sample of each column."""

from __future__ import annotations

import numpy as np


class Outline:
    """Collects the extremes of fixed steps as blocks pass."""

    def __init__(self, frames_per_column: int) -> None:
        self._step = max(1, frames_per_column)
        self._low: list[np.ndarray] = []
        self._high: list[np.ndarray] = []
        self._rest = np.empty((0, 1), np.float32)

    def write(self, block: np.ndarray) -> None:
        """Add float32 (frames, channels)."""
        joined = np.concatenate([self._rest, block]) if self._rest.shape[0] else block
        whole = joined.shape[0] // self._step * self._step
        if whole:
            self._take(joined[:whole])
        self._rest = joined[whole:]

    def _take(self, frames: np.ndarray) -> None:
        columns = frames.reshape(-1, self._step * frames.shape[1])
        self._low.append(columns.min(axis=1))
        self._high.append(columns.max(axis=1))

    def columns(self) -> np.ndarray:
        """float32 (columns, 2): lowest and highest sample of each."""
        if self._rest.shape[0]:
            self._low.append(np.array([self._rest.min()]))
            self._high.append(np.array([self._rest.max()]))
            self._rest = self._rest[:0]
        if not self._low:
            return np.zeros((0, 2), np.float32)
        return np.stack([np.concatenate(self._low), np.concatenate(self._high)], axis=1)


def outline(samples: np.ndarray, columns: int) -> np.ndarray:
    """float32 (columns, 2) over float32 (frames, channels), at least one frame a column."""
    collected = Outline(max(1, -(-samples.shape[0] // columns)))
    collected.write(samples)
    return collected.columns()
