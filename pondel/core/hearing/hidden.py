"""Hidden share: how much of a part's loudness others take from it, over one stretch of sound."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from pondel.core.hearing.excitation import Excitation
from pondel.core.hearing.loudness import partial_loudness, sounding
from pondel.core.hearing.scale import CAM_STEP, PLACES_HZ
from pondel.core.hearing.spectra import FRAME_S
from pondel.core.hearing.zones import WorstZone, worst_zone

AFTER_HIT_S = 0.2


@dataclass(frozen=True)
class Hidden:
    """What others take from a part.

    `share` runs from 0 (fully heard) to 1; `sone` is the mean loudness lost and `loudness_sone`
    that of the part by itself; `alone` and `left` are its specific loudness, in sones per Cam, by
    itself and among the others, float (places,), averaged over the frames in which it sounds.
    """

    share: float
    sone: float
    loudness_sone: float
    alone: np.ndarray
    left: np.ndarray

    @property
    def lost(self) -> np.ndarray:
        return self.alone - self.left

    @property
    def zone(self) -> WorstZone | None:
        """Where most of it is lost."""
        return worst_zone(self.lost)


def hidden(part: Excitation, others: Excitation, at: np.ndarray | None = None) -> Hidden:
    """What `others` hide of `part`, over the frames in which it sounds.

    `at` (frames, bool) limits this to some frames, such as those around hits.
    """
    frames = min(part.power.shape[0], others.power.shape[0])
    alone = partial_loudness(part.power[:frames])
    counted = sounding(alone)
    if at is not None:
        counted &= at[:frames]
    if not counted.any():
        nothing = np.zeros(PLACES_HZ.size)
        return Hidden(0.0, 0.0, 0.0, nothing, nothing)
    alone = alone[counted]
    left = partial_loudness(part.power[:frames][counted], others.power[:frames][counted])
    left = np.minimum(left, alone)
    total, kept = float(alone.sum(dtype=np.float64)), float(left.sum(dtype=np.float64))
    per_frame = CAM_STEP / alone.shape[0]
    return Hidden(
        max(0.0, 1.0 - kept / total),
        (total - kept) * per_frame,
        total * per_frame,
        alone.mean(axis=0, dtype=np.float64),
        left.mean(axis=0, dtype=np.float64),
    )


def near_hits(hits_s: np.ndarray, frames: int, seconds: float = AFTER_HIT_S) -> np.ndarray:
    """Which frames lie within `seconds` after a hit, bool (frames,)."""
    at = np.zeros(frames, bool)
    for hit in hits_s:
        first = max(0, int(hit / FRAME_S))
        at[first : first + round(seconds / FRAME_S)] = True
    return at
