"""How moments follow each other."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np


def gap_s(times_s: np.ndarray) -> float | None:
    """The usual gap to the next hit: the lower quartile, so that most gaps are longer."""
    if times_s.size < 2:
        return None
    return float(np.quantile(np.diff(times_s), 0.25))


def reigns(starts: np.ndarray, first: int, size: int) -> Iterator[tuple[int, int, int]]:
    """Each start that is the last one before some frames of a block: its number, and those frames.

    starts: whole frames of the song, rising; the block has `size` frames from `first` on. Frames are
    counted from the block's beginning, (from, to).
    """
    end = first + size
    n = max(int(np.searchsorted(starts, first, side="right")) - 1, 0)
    while n < starts.size and starts[n] < end:
        following = int(starts[n + 1]) if n + 1 < starts.size else end
        begin, to = max(first, int(starts[n])), min(end, following)
        if begin < to:
            yield n, begin - first, to - first
        n += 1
