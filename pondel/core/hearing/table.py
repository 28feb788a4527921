"""Who hides whom: all parts against all others, by section, on hits, and by frequency.

The song passes block by block; only sums are kept, so that memory does not grow with length.
"""

from __future__ import annotations

import math
import threading
from collections.abc import Sequence
from dataclasses import dataclass
from operator import attrgetter

import numpy as np
from cachetools import LRUCache

from pondel.core.hearing.clear import clear_by_db
from pondel.core.hearing.scale import CAM_STEP, PLACES_HZ, places_between
from pondel.core.hearing.zones import WorstZone, proposed_zones, worst_zone

LEAST_SHARE = 0.01
AWAY, ON_HITS = 0, 1
HIDERS = 3
"""So many of those that hide a part most are told apart."""
PLACES_A_BAND = 3
LEAST_PRESENCE = 0.1
"""A part that sounds in less of a stretch is none of those beside which another stands."""
SUMS_BYTES = 512 << 20


@dataclass(frozen=True)
class Scope:
    """What a share is about: some segments (None: all), on hits only, a range of frequencies."""

    segments: tuple[int, ...] | None = None
    on_hits: bool = False
    zone_hz: tuple[float, float] | None = None


WHOLE = Scope()


@dataclass(frozen=True)
class HiddenPart:
    """How much of a part all others together hide, and how loud it is by itself."""

    hidden_share: float
    loudness_sone: float


@dataclass(frozen=True)
class HiddenPair:
    """What one part hides of another.

    `share` is its part of all that is hidden in the whole mix, given to the hiders in
    proportion to their excitation; `alone_share` is what it would hide by itself, None but of the three
    that hide a part most; `sone` is the loudness that falls to it while the hidden part sounds;
    `on_hits` is `share` in the 200 ms after the hidden part's hits.
    """

    hidden: str
    by: str
    share: float
    alone_share: float | None
    sone: float
    low_hz: float
    high_hz: float
    on_hits: float


class HiddenTable:
    """Sums of loudness over a song, from which every figure is taken.

    Arrays are float32 with the axes [segment, away from or on hits, part, ...]: `alone` is the
    specific loudness of each part by itself (places,), `by` what of it falls to each other part in
    the whole mix (other, places), and `frames` how many frames were counted. `clear` are histograms of
    its loudness by how far it stands above what the others mask (places, BINS). `hiders` (part, 3) are
    those that hide it most, -1 for none; `alone_by` is what each of these would take by itself (3,
    places), `own_beside` its own loudness where that was heard, `clear_of` has its histograms against
    each by itself (3, BINS), and `without` among all others but that one (3, bands of three places,
    BINS). `lengths` are frames of each segment.
    """

    def __init__(self, ids: Sequence[str], **arrays: np.ndarray) -> None:
        self.ids = list(ids)
        self.arrays = arrays
        self._at = {part: n for n, part in enumerate(self.ids)}
        self._sums: LRUCache[tuple, np.ndarray] = LRUCache(SUMS_BYTES, attrgetter("nbytes"))
        self._lock = threading.Lock()

    def nbytes(self) -> int:
        """Bytes of memory that the sums take."""
        return sum(array.nbytes for array in self.arrays.values())

    def _sum(self, name: str, scope: Scope, *where: int) -> np.ndarray:
        key = name, scope.segments, scope.on_hits
        with self._lock:
            sums = self._sums.get(key)
            if sums is None:
                sums = self._summed(name, scope)
                if sums.nbytes <= SUMS_BYTES:
                    self._sums[key] = sums
        return sums[where]

    def _summed(self, name: str, scope: Scope) -> np.ndarray:
        """All parts' sums over a scope; "lost" is what each loses to all others together."""
        if name == "lost":
            return self._summed("by", scope).sum(axis=1, dtype=np.float64)
        rows = self.arrays[name]
        if scope.segments is not None:
            rows = rows[list(scope.segments)]
        if scope.on_hits:
            rows = rows[:, ON_HITS:]
        return rows.sum(axis=(0, 1), dtype=np.float64).astype(np.float32)

    def clear_db(self, part: str, scope: Scope = WHOLE) -> float | None:
        """How far a quarter of its loudness stands above what the rest masks; None without any."""
        weights = self._sum("clear", scope, self._at[part])
        return clear_by_db(weights[self._places(scope)].sum(axis=0))

    def has_hits(self, part: str, scope: Scope = WHOLE) -> bool:
        """Whether it sounds after any hit of its own."""
        return float(self._sum("frames", Scope(scope.segments, True), self._at[part])) > 0.0

    def hiders(self, part: str) -> list[str]:
        """Those that hide it most, three at most."""
        return [self.ids[at] for at in self.arrays["hiders"][self._at[part]] if at >= 0]

    def _hider(self, part: str, by: str) -> int | None:
        hiders = self.hiders(part)
        return hiders.index(by) if by in hiders else None

    def clear_of_db(self, part: str, by: str, scope: Scope = WHOLE) -> float | None:
        """The same against one hider by itself, all places; None of one that hides little."""
        at = self._hider(part, by)
        return None if at is None else clear_by_db(self._sum("clear_of", scope, self._at[part], at))

    def would_win_db(self, part: str, by: str, scope: Scope = WHOLE) -> float | None:
        """What a part's clear-by would gain were one hider not there; None of one that hides little."""
        at, now_db = self._hider(part, by), self.clear_db(part, scope)
        if at is None or now_db is None:
            return None
        bands = self._sum("without", scope, self._at[part], at)
        places = np.zeros(PLACES_HZ.size, bool)
        places[self._places(scope)] = True
        inside = np.add.reduceat(places, np.arange(0, places.size, PLACES_A_BAND), dtype=np.float64)
        without_db = clear_by_db(inside @ bands)
        return None if without_db is None else max(0.0, without_db - now_db)

    def beside_equal_db(self, part: str, scope: Scope = WHOLE) -> float | None:
        """Its partial loudness against the mean of that of the others, in dB; None without one of them.

        Others count that sound in at least a tenth of the stretch; each is taken over the frames in
        which it sounds.
        """
        scope = Scope(scope.segments, False, scope.zone_hz)
        lengths = self.arrays["lengths"]
        length = lengths.sum() if scope.segments is None else lengths[list(scope.segments)].sum()
        left = {one: self._left_sone(one, scope) for one in self.ids}
        frames = self._sum("frames", scope)
        beside = [
            left[one]
            for n, one in enumerate(self.ids)
            if one != part and frames[n] >= LEAST_PRESENCE * length and frames[n] > 0
        ]
        mean = sum(beside) / len(beside) if beside else 0.0
        return 10.0 * math.log10(left[part] / mean) if mean > 0 and left[part] > 0 else None

    def _left_sone(self, part: str, scope: Scope) -> float:
        return max(0.0, self.loudness_sone(part, scope) - self.sone(part, None, scope))

    def _places(self, scope: Scope) -> np.ndarray | slice:
        return slice(None) if scope.zone_hz is None else places_between(*scope.zone_hz)

    def alone(self, part: str, scope: Scope = WHOLE) -> np.ndarray:
        """Specific loudness of a part by itself, summed over frames, (places,)."""
        return self._sum("alone", scope, self._at[part])

    def lost(self, part: str, by: str | None = None, scope: Scope = WHOLE) -> np.ndarray:
        """What of it is lost, to one other part or to all, (places,)."""
        if by is not None:
            return self._sum("by", scope, self._at[part], self._at[by])
        return self._sum("lost", scope, self._at[part])

    def taken(self, part: str, scope: Scope = WHOLE) -> np.ndarray:
        """What of it each part takes, in the order of `ids`, (parts, places)."""
        return self._sum("by", scope, self._at[part])

    def share(self, part: str, by: str | None = None, scope: Scope = WHOLE) -> float:
        """Hidden share, 0 to 1."""
        places = self._places(scope)
        whole = float(self.alone(part, scope)[places].sum(dtype=np.float64))
        if whole <= 0.0:
            return 0.0
        lost = self.lost(part, by, scope)[places].sum(dtype=np.float64)
        return min(1.0, float(lost) / whole)

    def _shares(self, part: str, scope: Scope) -> np.ndarray:
        """What each part hides of one, (parts,)."""
        places = self._places(scope)
        whole = float(self.alone(part, scope)[places].sum(dtype=np.float64))
        if whole <= 0.0:
            return np.zeros(len(self.ids))
        return self.taken(part, scope)[:, places].sum(axis=1, dtype=np.float64) / whole

    def alone_share(self, part: str, by: str, scope: Scope = WHOLE) -> float | None:
        """What another part would hide by itself, 0 to 1; None of one that hides little."""
        at, places = self._hider(part, by), self._places(scope)
        if at is None:
            return None
        whole = float(self._sum("own_beside", scope, self._at[part], at)[places].sum())
        if whole <= 0.0:
            return None
        taken = self._sum("alone_by", scope, self._at[part], at)
        return min(1.0, float(taken[places].sum()) / whole)

    def sone(self, part: str, by: str | None = None, scope: Scope = WHOLE) -> float:
        """Loudness lost, in sones, averaged over the frames in which the part sounds."""
        frames = float(self._sum("frames", scope, self._at[part]))
        taken = float(self.lost(part, by, scope)[self._places(scope)].sum())
        return taken * CAM_STEP / frames if frames > 0 else 0.0

    def loudness_sone(self, part: str, scope: Scope = WHOLE) -> float:
        """Loudness by itself, in sones, averaged over the frames in which it sounds."""
        frames = float(self._sum("frames", scope, self._at[part]))
        own = float(self.alone(part, scope)[self._places(scope)].sum())
        return own * CAM_STEP / frames if frames > 0 else 0.0

    def zones(self, part: str, by: str, scope: Scope = WHOLE) -> list[WorstZone]:
        """Where the pair loses most, proposed as zones."""
        return proposed_zones(self._within(self.lost(part, by, scope), scope))

    def _within(self, lost: np.ndarray, scope: Scope) -> np.ndarray:
        kept = np.zeros_like(lost)
        places = self._places(scope)
        kept[places] = lost[places]
        return kept

    def parts(self, scope: Scope = WHOLE) -> dict[str, HiddenPart]:
        """Each part against all others together."""
        return {
            part: HiddenPart(self.share(part, None, scope), self.loudness_sone(part, scope))
            for part in self.ids
        }

    def pairs(self, scope: Scope = WHOLE, least_share: float = LEAST_SHARE) -> list[HiddenPair]:
        """All pairs of which at least `least_share` is hidden, most loudness lost first."""
        found = []
        on_hits = Scope(scope.segments, True, scope.zone_hz)
        for part in self.ids:
            shares = self._shares(part, scope)
            for at in np.flatnonzero(shares >= least_share):
                other, share = self.ids[at], min(1.0, float(shares[at]))
                alone = self.alone_share(part, other, scope)
                zone = worst_zone(self._within(self.lost(part, other, scope), scope))
                found.append(
                    HiddenPair(
                        hidden=part,
                        by=other,
                        share=share,
                        alone_share=None if alone is None else max(share, alone),
                        sone=self.sone(part, other, scope),
                        low_hz=zone.low_hz if zone else 0.0,
                        high_hz=zone.high_hz if zone else 0.0,
                        on_hits=self.share(part, other, on_hits),
                    )
                )
        return sorted(found, key=lambda pair: -pair.sone)
