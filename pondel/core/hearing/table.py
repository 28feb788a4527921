"""Who hides whom: all parts against all others, by section, on hits, and by frequency.

The song passes block by block; only sums are kept, so that memory does not grow with length.
"""

from __future__ import annotations

import threading
from collections.abc import Sequence
from concurrent.futures import Executor
from dataclasses import dataclass
from operator import attrgetter

import numpy as np
from cachetools import LRUCache

from pondel.core.dsp.compiled import kernel
from pondel.core.hearing.loudness import partial_loudness, sounding
from pondel.core.hearing.scale import CAM_STEP, PLACES_HZ, places_between
from pondel.core.hearing.zones import WorstZone, proposed_zones, worst_zone

LEAST_SHARE = 0.01
THIN = 4
AWAY, ON_HITS = 0, 1
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
    proportion to their excitation; `alone_share` is what it would hide by itself; `sone` is the
    loudness that falls to it while the hidden part sounds; `on_hits` is `share` in the 200 ms
    after the hidden part's hits.
    """

    hidden: str
    by: str
    share: float
    alone_share: float
    sone: float
    low_hz: float
    high_hz: float
    on_hits: float


class HiddenTable:
    """Sums of loudness over a song, from which every share is taken.

    Arrays are float32 with the axes [segment, away from or on hits, part, ...]: `alone` is the
    specific loudness of each part by itself (places,), `by` what of it falls to each other part in
    the whole mix (other, places), `alone_by` what that part would take by itself, and `frames`
    how many frames were counted.
    """

    def __init__(
        self,
        ids: Sequence[str],
        alone: np.ndarray,
        by: np.ndarray,
        alone_by: np.ndarray,
        frames: np.ndarray,
    ) -> None:
        self.ids = list(ids)
        self.arrays = {"alone": alone, "by": by, "alone_by": alone_by, "frames": frames}
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
        lost = self._sum("by", scope, self._at[part])
        return lost[:, places].sum(axis=1, dtype=np.float64) / whole

    def alone_share(self, part: str, by: str, scope: Scope = WHOLE) -> float:
        """What another part would hide by itself, 0 to 1."""
        places = self._places(scope)
        whole = float(self.alone(part, scope)[places].sum())
        taken = self._sum("alone_by", scope, self._at[part], self.ids.index(by))
        return min(1.0, float(taken[places].sum()) / whole) if whole > 0.0 else 0.0

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
                zone = worst_zone(self._within(self.lost(part, other, scope), scope))
                found.append(
                    HiddenPair(
                        hidden=part,
                        by=other,
                        share=share,
                        alone_share=max(share, self.alone_share(part, other, scope)),
                        sone=self.sone(part, other, scope),
                        low_hz=zone.low_hz if zone else 0.0,
                        high_hz=zone.high_hz if zone else 0.0,
                        on_hits=self.share(part, other, on_hits),
                    )
                )
        return sorted(found, key=lambda pair: -pair.sone)


@kernel(error_model="numpy", fastmath={"contract", "nsz", "arcp"})
def _give_to_hiders(lost, others, maskers, part, groups, alone, own, by):
    """Add one part's frames to its sums, what is lost in proportion to each hider's power."""
    least = np.float32(1e-20)
    weight = np.empty(lost.shape[1], np.float32)
    for f in range(lost.shape[0]):
        group = groups[f]
        if group < 0:
            continue
        sums = own[group]
        for b in range(lost.shape[1]):
            weight[b] = lost[f, b] / max(others[f, b], least)
            sums[b] += alone[f, b]
        for k in range(maskers.shape[0]):
            if k == part:
                continue
            row, masker = by[group, k], maskers[k, f]
            for b in range(lost.shape[1]):
                row[b] += weight[b] * masker[b]


class TableMaker:
    """Adds a song up, block by block.

    `segments` are (first, last) frames; a frame outside all of them counts in the last segment.
    """

    def __init__(
        self,
        ids: Sequence[str],
        segments: Sequence[tuple[int, int]] = (),
        pool: Executor | None = None,
    ) -> None:
        self._ids = list(ids)
        self._segments = list(segments)
        self._pool = pool
        parts, groups, places = len(self._ids), 2 * (len(self._segments) + 1), PLACES_HZ.size
        self._alone = np.zeros((parts, groups, places))
        self._by = np.zeros((parts, groups, parts, places))
        self._alone_by = np.zeros((parts, groups, parts, places))
        self._frames = np.zeros((parts, groups))

    def add(self, first: int, powers: np.ndarray, on_hits: np.ndarray) -> None:
        """Add frames from `first` on.

        `powers` is float32 (parts, frames, places), the excitation of each part; `on_hits` bool
        (parts, frames), whether a frame follows one of the part's own hits.
        """
        total = powers.sum(axis=0)
        where = self._where(first, powers.shape[1])
        run = self._pool.map if self._pool else map

        def one(part: int) -> None:
            self._add_part(part, powers, total, where, on_hits[part])

        for _ in run(one, range(len(self._ids))):
            pass

    def _where(self, first: int, frames: int) -> np.ndarray:
        segment = np.full(frames, len(self._segments))
        for n, (start, end) in enumerate(self._segments):
            segment[max(0, start - first) : max(0, end - first)] = n
        return segment

    def _add_part(self, part, powers, total, where, on_hits) -> None:
        power = powers[part]
        alone = partial_loudness(power)
        counted = sounding(alone)
        if not counted.any():
            return
        groups = np.where(counted, where * 2 + on_hits, -1)
        others = np.maximum(total - power, 0.0)
        lost = np.maximum(alone - partial_loudness(power, others), 0.0)
        by = self._by[part]
        before = by.sum(axis=(0, 2))
        _give_to_hiders(lost, others, powers, part, groups, alone, self._alone[part], by)
        self._frames[part] += np.bincount(groups[counted], minlength=by.shape[0])
        given = by.sum(axis=(0, 2)) - before
        enough = LEAST_SHARE * float(alone[counted].sum(dtype=np.float64))
        # What each hider would take by itself is told well enough by every fourth frame.
        few, own, at = power[::THIN], alone[::THIN], groups[::THIN]
        for other in np.flatnonzero(given >= enough):
            taken = np.maximum(own - partial_loudness(few, powers[other][::THIN]), 0.0)
            for group in np.unique(at[at >= 0]):
                rows = taken[at == group]
                self._alone_by[part, group, other] += THIN * rows.sum(axis=0, dtype=np.float64)

    def table(self) -> HiddenTable:
        """Everything added so far."""
        return HiddenTable(
            self._ids,
            *(self._by_segment(a) for a in (self._alone, self._by, self._alone_by, self._frames)),
        )

    def _by_segment(self, sums: np.ndarray) -> np.ndarray:
        """From (parts, groups, ...) to (segments, away or on hits, parts, ...)."""
        split = sums.reshape(sums.shape[0], -1, 2, *sums.shape[2:])
        return np.moveaxis(split, 0, 2).astype(np.float32)
