"""Hidden share: how much of a part's loudness others take from it.

Specific loudness and specific partial loudness after Moore, Glasberg and Baer, "A model for
the prediction of thresholds, loudness, and partial loudness", JAES 45(4), 1997, equations 7
and 17 to 20, with the constants that hold above 500 Hz used throughout.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from pondel.core.hearing.excitation import (
    CAM_STEP,
    CENTRES_HZ,
    FRAME_S,
    Excitation,
    cam_of,
    hz_of,
    threshold_db_spl,
)
from pondel.core.units import say_hz

SCALE = 0.047
EXPONENT = 0.2
EFFICIENCY = 10 ** (-3 / 10)
"""Signal to noise, within one auditory filter, at the masked threshold (K of the paper)."""
AUDIBLE_SONE = 0.05


@dataclass(frozen=True)
class Hidden:
    """What others take from a part.

    `share` runs from 0 (fully heard) to 1; `sone` is the mean loudness lost; `alone` and
    `left` are the part's specific loudness by itself and among the others, float (bands,),
    averaged over the frames in which it sounds.
    """

    share: float
    sone: float
    alone: np.ndarray
    left: np.ndarray

    @property
    def lost(self) -> np.ndarray:
        return self.alone - self.left


@dataclass(frozen=True)
class WorstZone:
    """Where a part loses most: a contiguous range and its part of all that is lost."""

    low_hz: float
    high_hz: float
    share_of_loss: float

    def words(self) -> str:
        return f"{say_hz(self.low_hz)} to {say_hz(self.high_hz)}"


def partial_loudness(power: np.ndarray, masker: np.ndarray | float) -> np.ndarray:
    """Loudness per Cam, sone, of an excitation heard among others; (frames, bands).

    MGB 1997, equation 19 above the masked threshold and equation 20 below it. With a masker of
    0 both turn into the loudness in quiet.
    """
    signal = np.maximum(np.asarray(power, np.float64), 1e-30)
    noise = np.asarray(masker, np.float64)
    quiet = 10 ** (threshold_db_spl(CENTRES_HZ) / 10)
    a = 2.0 * quiet
    threshold = EFFICIENCY * noise + quiet
    at_quiet = (quiet + a) ** EXPONENT
    together = (signal + noise + a) ** EXPONENT
    at_threshold = (noise + threshold + a) ** EXPONENT
    noise_alone = (noise + a) ** EXPONENT
    above = together - a**EXPONENT - (at_threshold - at_quiet) * (threshold / signal) ** 0.3
    below = (
        (2.0 * signal / (signal + threshold)) ** 1.5
        * (at_quiet - a**EXPONENT)
        / (at_threshold - noise_alone)
        * (together - noise_alone)
    )
    return SCALE * np.maximum(np.where(signal > threshold, above, below), 0.0)


def hidden(part: Excitation, others: Excitation, at: np.ndarray | None = None) -> Hidden:
    """What `others` hide of `part`, over the frames in which it sounds.

    `at` (frames, bool) limits this to some frames, such as those around hits.
    """
    frames = min(part.power.shape[0], others.power.shape[0])
    alone = partial_loudness(part.power[:frames], 0.0)
    sounds = alone.sum(axis=1) * CAM_STEP > AUDIBLE_SONE
    if at is not None:
        sounds &= at[:frames]
    if not sounds.any():
        nothing = np.zeros(CENTRES_HZ.size)
        return Hidden(0.0, 0.0, nothing, nothing)
    alone = alone[sounds]
    left = partial_loudness(part.power[:frames][sounds], others.power[:frames][sounds])
    left = np.minimum(left, alone)
    share = 1.0 - float(left.sum() / alone.sum())
    lost = float((alone - left).sum(axis=1).mean()) * CAM_STEP
    return Hidden(share, lost, alone.mean(axis=0), left.mean(axis=0))


def worst_zone(found: Hidden) -> WorstZone | None:
    """The contiguous bands around the greatest loss in which at least half of it is lost."""
    lost = found.lost
    if lost.max() <= 0.0:
        return None
    worst = int(np.argmax(lost))
    enough = lost >= 0.5 * lost[worst]
    first = last = worst
    while first > 0 and enough[first - 1]:
        first -= 1
    while last < lost.size - 1 and enough[last + 1]:
        last += 1
    half = CAM_STEP / 2
    edges = hz_of(cam_of(CENTRES_HZ[[first, last]]) + np.array([-half, half]))
    share = float(lost[first : last + 1].sum() / lost.sum())
    return WorstZone(float(edges[0]), float(edges[1]), share)


def near_hits(hits_s: np.ndarray, frames: int, seconds: float = 0.2) -> np.ndarray:
    """Which frames lie within `seconds` after a hit, bool (frames,)."""
    at = np.zeros(frames, bool)
    for hit in hits_s:
        first = max(0, int(hit / FRAME_S))
        at[first : first + round(seconds / FRAME_S)] = True
    return at
