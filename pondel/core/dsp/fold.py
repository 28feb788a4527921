"""What two channels have in common, and what tells them apart."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Literal

import numpy as np

Fold = Literal["both", "middle", "sides"]


def folded(blocks: Iterable[np.ndarray], fold: Fold) -> Iterator[np.ndarray]:
    """The middle (left + right) / 2 of blocks (frames, channels), or the sides (left - right) / 2."""
    for block in blocks:
        if fold == "both":
            yield block
        elif block.shape[1] == 1:
            yield block if fold == "middle" else np.zeros_like(block)
        else:
            other = block[:, 1:2] if fold == "middle" else -block[:, 1:2]
            yield (block[:, :1] + other) * np.float32(0.5)
