"""Where along the frequency scale something is lost: the worst zone, and proposals for more."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from pondel.core.hearing.scale import place_edges_hz
from pondel.core.units import say_hz

HALF = 0.5
"""Of the loss lies in the worst zone."""
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
    """The narrowest range of places in which half of the loss lies; None when nothing is lost.

    `lost` is the specific loudness lost at each place, (places,).
    """
    zones = proposed_zones(lost, most=1)
    return zones[0] if zones else None


def proposed_zones(lost: np.ndarray, most: int = MOST_ZONES) -> list[WorstZone]:
    """Zones that do not overlap, the worst one first.

    Each further one grows from a local maximum of its own, not from the shoulder of another, to the
    places at which half of that is lost, and holds an eighth of the loss at least.
    """
    given = np.maximum(np.asarray(lost, np.float64), 0.0)
    whole = float(given.sum())
    if whole <= 0.0:
        return []
    found = [_narrowest(given, HALF * whole)]
    taken = np.zeros(given.size, bool)
    taken[slice(*found[0])] = True
    while len(found) < most:
        summit = _highest_summit(given, taken)
        if summit is None:
            break
        first, end = _down_to_half(given, taken, summit)
        taken[first:end] = True
        if given[first:end].sum() >= LEAST_SHARE_OF_LOSS * whole:
            found.append((first, end))
    edges = place_edges_hz()
    zones = [
        WorstZone(float(edges[first]), float(edges[end]), float(given[first:end].sum()) / whole)
        for first, end in found
    ]
    return [zones[0], *sorted(zones[1:], key=lambda zone: -zone.share_of_loss)]


def _narrowest(given: np.ndarray, enough: float) -> tuple[int, int]:
    """The fewest neighbouring places that hold so much; of several, those that hold most."""
    sums = np.concatenate([[0.0], np.cumsum(given)])
    ends = np.searchsorted(sums, sums[:-1] + enough * (1.0 - 1e-9))
    within = ends <= given.size
    firsts, ends = np.flatnonzero(within), ends[within]
    order = np.lexsort((-(sums[ends] - sums[firsts]), ends - firsts))
    return int(firsts[order[0]]), int(ends[order[0]])


def _highest_summit(given: np.ndarray, taken: np.ndarray) -> int | None:
    """The place outside of all zones at which most is lost, if it stands above both its neighbours."""
    padded = np.concatenate([[0.0], given, [0.0]])
    is_summit = (given >= padded[:-2]) & (given >= padded[2:]) & (given > 0.0) & ~taken
    beside = np.concatenate([[False], taken[:-1]]) | np.concatenate([taken[1:], [False]])
    is_summit &= ~beside
    return int(np.argmax(np.where(is_summit, given, -1.0))) if is_summit.any() else None


def _down_to_half(given: np.ndarray, taken: np.ndarray, summit: int) -> tuple[int, int]:
    enough = (given >= 0.5 * given[summit]) & ~taken
    first = end = summit
    while first > 0 and enough[first - 1]:
        first -= 1
    while end < given.size and enough[end]:
        end += 1
    return first, end
