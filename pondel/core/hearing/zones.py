"""Where along the frequency scale something is lost: the worst zone, and proposals for more."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from pondel.core.hearing.scale import place_edges_hz
from pondel.core.units import say_hz

LEAST_SHARE_OF_LOSS = 0.12
MOST_ZONES = 3


@dataclass(frozen=True)
class WorstZone:
    """A contiguous range of frequencies, and its share of all that is lost."""

    low_hz: float
    high_hz: float
    share_of_loss: float

    def words(self) -> str:
        return f"{say_hz(self.low_hz)} to {say_hz(self.high_hz)}"


def worst_zone(lost: np.ndarray) -> WorstZone | None:
    """The places around the greatest loss in which at least half of it is lost.

    `lost` is the specific loudness lost at each place, (places,); None when nothing is.
    """
    zones = proposed_zones(lost, most=1)
    return zones[0] if zones else None


def proposed_zones(lost: np.ndarray, most: int = MOST_ZONES) -> list[WorstZone]:
    """Zones that do not overlap, the one that loses most first.

    Each grows from a peak of what is left to give to the places at which half of the peak is
    lost; the first is always named, others only when they hold an eighth of the loss.
    """
    left = np.maximum(np.asarray(lost, np.float64), 0.0)
    whole = float(left.sum())
    if whole <= 0.0:
        return []
    left = left.copy()
    edges = place_edges_hz()
    found: list[WorstZone] = []
    while len(found) < most:
        worst = int(np.argmax(left))
        enough = (left >= 0.5 * left[worst]) & (left > 0.0)
        first = last = worst
        while first > 0 and enough[first - 1]:
            first -= 1
        while last < left.size - 1 and enough[last + 1]:
            last += 1
        share = float(left[first : last + 1].sum()) / whole
        if share <= 0.0 or (found and share < LEAST_SHARE_OF_LOSS):
            break
        found.append(WorstZone(float(edges[first]), float(edges[last + 1]), share))
        left[first : last + 1] = 0.0
    return sorted(found, key=lambda zone: -zone.share_of_loss)
