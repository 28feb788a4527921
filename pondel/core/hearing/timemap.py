"""When and where one part hides another: loss by band and time."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from pondel.core.hearing.loudness import partial_loudness
from pondel.core.hearing.spectra import FRAME_S


@dataclass(frozen=True)
class TimeMap:
    """Shares lost, float32 (columns, places), and how loud the part is there, in sones per Cam.

    A column covers `seconds` of sound.
    """

    share: np.ndarray
    alone: np.ndarray
    seconds: float


def time_map(part: np.ndarray, hider: np.ndarray, most_columns: int) -> TimeMap:
    """What a hider takes of a part by itself; both are excitations (frames, places)."""
    frames = min(part.shape[0], hider.shape[0])
    alone = partial_loudness(part[:frames])
    lost = np.maximum(alone - partial_loudness(part[:frames], hider[:frames]), 0.0)
    step = max(1, -(-frames // most_columns))
    columns = -(-frames // step)
    padding = ((0, columns * step - frames), (0, 0))

    def summed(rows: np.ndarray) -> np.ndarray:
        return np.pad(rows, padding).reshape(columns, step, -1).sum(axis=1)

    whole, taken = summed(alone), summed(lost)
    share = np.where(whole > 0, taken / np.maximum(whole, 1e-12), 0.0)
    return TimeMap(share.astype(np.float32), (whole / step).astype(np.float32), step * FRAME_S)


def worst_stretch(lost_per_frame: np.ndarray, frames: int) -> int:
    """The first frame of the stretch of some frames in which most is lost."""
    if lost_per_frame.size <= frames:
        return 0
    sums = np.cumsum(np.concatenate([[0.0], lost_per_frame]))
    return int(np.argmax(sums[frames:] - sums[:-frames]))
