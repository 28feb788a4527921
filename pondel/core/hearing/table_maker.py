"""Adding up who hides whom, block by block."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from concurrent.futures import Executor
from dataclasses import dataclass

import numpy as np

from pondel.core.dsp.compiled import kernel
from pondel.core.hearing.clear import BINS, gather_bands
from pondel.core.hearing.loudness import Excited, clear_above_db, partial_loudness, sounding
from pondel.core.hearing.scale import PLACES_HZ
from pondel.core.hearing.table import HIDERS, LEAST_SHARE, PLACES_A_BAND, HiddenTable

THIN = 4
BANDS = -(-PLACES_HZ.size // PLACES_A_BAND)


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


@kernel(error_model="numpy", fastmath={"contract", "nsz", "arcp"})
def _take(alone, heard, groups, times, sums):
    """Add what is lost of one part beside another to its sums, float64 (groups, places)."""
    for f in range(alone.shape[0]):
        if groups[f] < 0:
            continue
        row = sums[groups[f]]
        for b in range(alone.shape[1]):
            row[b] += times * max(alone[f, b] - heard[f, b], np.float32(0.0))


@dataclass(frozen=True)
class _PairSums:
    """Histograms of a part's loudness against one hider alone, and among all others but that one."""

    alone: np.ndarray
    without: np.ndarray

    @classmethod
    def of(cls, groups: int) -> _PairSums:
        return cls(np.zeros((groups, BINS), np.float32), np.zeros((groups, BANDS, BINS), np.float32))

    def add(self, alone_db, without_db, loudness, groups) -> None:
        gather_bands(alone_db, loudness, groups, PLACES_HZ.size, self.alone[:, np.newaxis])
        gather_bands(without_db, loudness, groups, PLACES_A_BAND, self.without)


class TableMaker:
    """Adds a song up, block by block.

    `segments` are (first, last) frames; a frame outside all of them counts in the last segment.
    Who is named in `only_hiding` takes from the others and has no figures of its own.
    """

    def __init__(
        self,
        ids: Sequence[str],
        segments: Sequence[tuple[int, int]] = (),
        pool: Executor | None = None,
        only_hiding: Collection[str] = (),
    ) -> None:
        self._ids = list(ids)
        self._told = [n for n, one in enumerate(self._ids) if one not in only_hiding]
        self._segments = list(segments)
        self._pool = pool
        parts, groups, places = len(self._ids), 2 * (len(self._segments) + 1), PLACES_HZ.size
        self._alone = np.zeros((parts, groups, places))
        self._by = np.zeros((parts, groups, parts, places))
        self._alone_by = np.zeros((parts, groups, parts, places))
        self._clear = np.zeros((parts, groups, places, BINS), np.float32)
        self._pairs: list[dict[int, _PairSums]] = [{} for _ in self._ids]
        self._lengths = np.zeros(len(self._segments) + 1)
        self._frames = np.zeros((parts, groups))

    def add(self, first: int, powers: np.ndarray, on_hits: np.ndarray) -> None:
        """Add frames from `first` on.

        `powers` is float32 (parts, frames, places), the excitation of each part; `on_hits` bool
        (parts, frames), whether a frame follows one of the part's own hits.
        """
        total = powers.sum(axis=0)
        where = self._where(first, powers.shape[1])
        self._lengths += np.bincount(where, minlength=self._lengths.size)
        run = self._pool.map if self._pool else map
        # What each hider would take by itself is told well enough by every fourth frame.
        few = list(run(lambda power: Excited(power[::THIN]), powers))

        def one(part: int) -> None:
            self._add_part(part, powers, few, total, where, on_hits[part])

        for _ in run(one, self._told):
            pass

    def _where(self, first: int, frames: int) -> np.ndarray:
        segment = np.full(frames, len(self._segments))
        for n, (start, end) in enumerate(self._segments):
            segment[max(0, start - first) : max(0, end - first)] = n
        return segment

    def _add_part(self, part, powers, few, total, where, on_hits) -> None:
        power = powers[part]
        alone = partial_loudness(power)
        counted = sounding(alone)
        if not counted.any():
            return
        groups = np.where(counted, where * 2 + on_hits, -1)
        others = np.maximum(total - power, 0.0)
        clear_db = np.empty_like(alone)
        lost = np.maximum(alone - partial_loudness(power, others, clear_db), 0.0)
        gather_bands(clear_db, alone, groups, 1, self._clear[part])
        by = self._by[part]
        before = by.sum(axis=(0, 2))
        _give_to_hiders(lost, others, powers, part, groups, alone, self._alone[part], by)
        self._frames[part] += np.bincount(groups[counted], minlength=by.shape[0])
        after = by.sum(axis=(0, 2))
        given = after - before
        enough = LEAST_SHARE * float(alone[counted].sum(dtype=np.float64))
        own, at, rest = alone[::THIN], groups[::THIN], others[::THIN]
        heard, alone_db = np.empty_like(own), np.empty_like(own)
        worst = set(np.argsort(-after, kind="stable")[:HIDERS].tolist())
        for other in np.flatnonzero(given >= enough).tolist():
            few[part].beside(few[other], heard, alone_db)
            _take(own, heard, at, THIN, self._alone_by[part, :, other])
            if other in worst:
                without_db = clear_above_db(few[part].power, rest - few[other].power)
                sums = self._pairs[part].setdefault(other, _PairSums.of(by.shape[0]))
                sums.add(alone_db, without_db, own, at)

    def table(self) -> HiddenTable:
        """Everything added so far."""
        hiders, clear_of, without = self._hiders()
        return HiddenTable(
            self._ids,
            alone=self._by_segment(self._alone),
            by=self._by_segment(self._by),
            alone_by=self._by_segment(self._alone_by),
            frames=self._by_segment(self._frames),
            clear=self._by_segment(self._clear),
            lengths=self._lengths.astype(np.float32),
            hiders=hiders,
            clear_of=self._by_segment(clear_of),
            without=self._by_segment(without),
        )

    def _hiders(self) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """The three that hide each part most, and its histograms against them and without them."""
        parts, groups = self._frames.shape
        hiders = np.full((parts, HIDERS), -1, np.int16)
        clear_of = np.zeros((parts, groups, HIDERS, BINS), np.float32)
        without = np.zeros((parts, groups, HIDERS, BANDS, BINS), np.float32)
        for part, pairs in enumerate(self._pairs):
            lost = self._by[part].sum(axis=(0, 2))
            for n, other in enumerate(sorted(pairs, key=lambda one: -lost[one])[:HIDERS]):
                hiders[part, n] = other
                clear_of[part, :, n], without[part, :, n] = pairs[other].alone, pairs[other].without
        return hiders, clear_of, without

    def _by_segment(self, sums: np.ndarray) -> np.ndarray:
        """From (parts, groups, ...) to (segments, away or on hits, parts, ...)."""
        split = sums.reshape(sums.shape[0], -1, 2, *sums.shape[2:])
        return np.moveaxis(split, 0, 2).astype(np.float32)
