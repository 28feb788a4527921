"""What two channels have in common, what tells them apart, and the ways to listen to them."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Literal

import numpy as np

Fold = Literal["both", "middle", "sides"]
FOLDS: tuple[Fold, ...] = ("both", "middle", "sides")
MONITOR_FOLDS: dict[str, tuple[float, float, float, float]] = {
    "stereo": (1.0, 0.0, 0.0, 1.0),
    "mono": (0.5, 0.5, 0.5, 0.5),
    "sides": (0.5, -0.5, 0.5, -0.5),
    "left": (1.0, 0.0, 1.0, 0.0),
    "right": (0.0, 1.0, 0.0, 1.0),
    "swapped": (0.0, 1.0, 1.0, 0.0),
}
"""What the left speaker gets of left and right, and the right one; mono is the middle, on both."""


Side = Literal["both", "middle", "sides", "left", "right"]
SIDES: tuple[Side, ...] = ("both", "middle", "sides", "left", "right")
"""Of what of two channels a spectrum is, and where alone a move may be judged."""


def folded(blocks: Iterable[np.ndarray], fold: Side) -> Iterator[np.ndarray]:
    """The middle (left + right) / 2 of blocks (frames, channels), the sides (left - right) / 2, or one
    channel."""
    for block in blocks:
        if fold == "both":
            yield block
        elif fold in ("left", "right"):
            yield block[:, :1] if fold == "left" else block[:, -1:]
        elif block.shape[1] == 1:
            yield block if fold == "middle" else np.zeros_like(block)
        else:
            other = block[:, 1:2] if fold == "middle" else -block[:, 1:2]
            yield (block[:, :1] + other) * np.float32(0.5)


def monitored(sound: np.ndarray, fold: str) -> np.ndarray:
    """float32 (frames, 2) as it is listened to, in one of `MONITOR_FOLDS`."""
    matrix = np.array(MONITOR_FOLDS[fold], np.float32).reshape(2, 2)
    return sound if fold == "stereo" else sound @ matrix.T
