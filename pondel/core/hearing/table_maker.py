"""Adding up who hides whom, block by block."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Sequence
from concurrent.futures import Executor
from dataclasses import dataclass
from typing import TypeVar

import numpy as np

from pondel.core.dsp.compiled import kernel
from pondel.core.hearing.clear import BINS, gather_bands
from pondel.core.hearing.loudness import clear_above_db, partial_loudness, sounding
from pondel.core.hearing.scale import PLACES_HZ
from pondel.core.hearing.table import HIDERS, LEAST_SHARE, PLACES_A_BAND, HiddenTable
from pondel.core.side_by_side import go_on, side_by_side

Made = TypeVar("Made")

THIN, LEAST_AT_ONCE, MOST_AT_ONCE = 4, 64, 600
PART_FRAMES, STEP_FRAMES = 60_000, 40_000
"""Frames of all parts in a block, which bounds the memory it takes, and between two rests."""
AT_ONCE = 200_000
"""Numbers that one product of matrices is made of: they stay near the core that works at them."""
BANDS = -(-PLACES_HZ.size // PLACES_A_BAND)


@kernel(error_model="numpy", fastmath={"contract", "nsz", "arcp"})
def _weigh(lost, others, groups, alone, weights, n, own):
    """What is lost of part `n` for each power of its hiders, and the part's own sums.

    weights: float32 (places, parts, frames); own: float64 (groups, places).
    """
    least = np.float32(1e-20)
    for f in range(lost.shape[0]):
        if groups[f] < 0:
            for b in range(lost.shape[1]):
                weights[b, n, f] = np.float32(0.0)
            continue
        sums = own[groups[f]]
        for b in range(lost.shape[1]):
            weights[b, n, f] = lost[f, b] / max(others[f, b], least)
            sums[b] += alone[f, b]


@kernel(error_model="numpy", fastmath={"contract", "nsz", "arcp"})
def _take(alone, left, groups, sums, own):
    """Add what is lost of a part beside one other, and its own loudness, float64 (groups, places)."""
    for f in range(alone.shape[0]):
        if groups[f] < 0:
            continue
        row, whole = sums[groups[f]], own[groups[f]]
        for b in range(alone.shape[1]):
            whole[b] += THIN * alone[f, b]
            row[b] += THIN * max(alone[f, b] - left[f, b], np.float32(0.0))


def frames_at_once(parts: int) -> int:
    """Frames of a block of so many parts."""
    frames = PART_FRAMES // max(parts, 1) // THIN * THIN
    return min(max(frames, LEAST_AT_ONCE), MOST_AT_ONCE)


def parts_between_rests(frames: int) -> int:
    """After so many parts, of so many frames each, work rests."""
    return max(1, STEP_FRAMES // frames)


@dataclass(frozen=True)
class _PairSums:
    """A part beside one hider, where it was heard beside it.

    What that one takes by itself, of how much; the histogram of the part's loudness against it alone,
    and what the histogram among all others would gain were it not there.
    """

    taken: np.ndarray
    own: np.ndarray
    alone: np.ndarray
    won: np.ndarray

    @classmethod
    def of(cls, groups: int) -> _PairSums:
        return cls(
            np.zeros((groups, PLACES_HZ.size)),
            np.zeros((groups, PLACES_HZ.size)),
            np.zeros((groups, BINS), np.float32),
            np.zeros((groups, BANDS, BINS), np.float32),
        )

    def add(self, power: np.ndarray, by: np.ndarray, heard: _Heard) -> None:
        """Add every fourth frame of a part and of the hider, float32 (frames, places)."""
        loudness, groups = heard.alone, heard.groups
        alone_db = np.empty_like(power)
        _take(loudness, partial_loudness(power, by, alone_db), groups, self.taken, self.own)
        gather_bands(alone_db, loudness, groups, PLACES_HZ.size, self.alone[:, np.newaxis])
        without_db = clear_above_db(power, heard.others - by)
        gather_bands(without_db, loudness, groups, PLACES_A_BAND, self.won)
        self.won[heard.present] -= heard.bands


@dataclass(frozen=True)
class _Heard:
    """Every fourth frame of a part: its loudness, the group of each, and the power of the others.

    `bands` are histograms of its loudness among them, of the groups that are present; `enough` is what
    a hider has to take for it to be told.
    """

    alone: np.ndarray
    groups: np.ndarray
    present: np.ndarray
    others: np.ndarray
    bands: np.ndarray
    enough: float


class TableMaker:
    """Adds a song up, block by block.

    `segments` are (first, last) frames; a frame outside all of them counts in the last segment.
    Who is named in `only_hiding` takes from the others and has no figures of its own. The work rests in
    `step` now and then.
    """

    def __init__(
        self,
        ids: Sequence[str],
        segments: Sequence[tuple[int, int]] = (),
        pool: Executor | None = None,
        only_hiding: Collection[str] = (),
        step: Callable[[], None] = go_on,
    ) -> None:
        self._pool, self._step = pool, step
        self._ids = list(ids)
        self._told = [n for n, one in enumerate(self._ids) if one not in only_hiding]
        self._segments = list(segments)
        parts, groups, places = len(self._ids), 2 * (len(self._segments) + 1), PLACES_HZ.size
        self._alone = np.zeros((parts, groups, places))
        self._by = np.zeros((groups, places, parts, parts), np.float32)
        self._given = np.zeros((parts, parts))
        self._clear = np.zeros((parts, groups, places, BINS), np.float32)
        self._bands = np.zeros((parts, groups, BANDS, BINS), np.float32)
        self._pairs: list[dict[int, _PairSums]] = [{} for _ in self._ids]
        self._lengths = np.zeros(len(self._segments) + 1)
        self._frames = np.zeros((parts, groups))

    def add(self, first: int, powers: np.ndarray, on_hits: np.ndarray) -> None:
        """Add frames from `first` on.

        `powers` is float32 (parts, frames, places), the excitation of each part; `on_hits` bool
        (parts, frames), whether a frame follows one of the part's own hits.
        """
        frames = powers.shape[1]
        if not frames:
            return
        total = powers.sum(axis=0)
        where = self._where(first, frames)
        self._lengths += np.bincount(where, minlength=self._lengths.size)
        groups = 2 * where + on_hits
        there = [part for part, power in enumerate(powers) if power.any()]
        told = [part for part in there if part in self._told]
        if not told:
            return
        present = np.flatnonzero(np.bincount(groups[told].ravel()))
        weights = np.empty((PLACES_HZ.size, len(told), frames), np.float32)
        by_place = np.empty((PLACES_HZ.size, len(there), frames), np.float32)

        def hear(n: int) -> _Heard | None:
            part = told[n]
            by_place[:, there.index(part)] = powers[part].T
            return self._hear(part, powers[part], total, groups[part], present, weights, n)

        for part in set(there).difference(told):
            by_place[:, there.index(part)] = powers[part].T
        heard = list(self._each(hear, len(told), frames))
        given = self._give_to_hiders(weights, by_place, groups[told], present, told, there)
        self._given += given
        # What a hider would take by itself is told well enough by every fourth frame.
        few = np.ascontiguousarray(powers[:, ::THIN])

        def besides(n: int) -> None:
            part, one = told[n], heard[n]
            if one is not None:
                self._bands[part][present] += one.bands
                self._add_besides(part, one, few, given[part], self._given[part])

        for _ in self._each(besides, len(told), frames):
            pass

    def _each(self, work: Callable[[int], Made], count: int, frames: int) -> Iterator[Made]:
        every = parts_between_rests(frames)
        return side_by_side(self._pool, work, range(count), self._step, every)

    def _give_to_hiders(
        self,
        weights: np.ndarray,
        by_place: np.ndarray,
        groups: np.ndarray,
        present: np.ndarray,
        told: list[int],
        there: list[int],
    ) -> np.ndarray:
        """Add what is lost of all parts at once, to each hider in proportion to its power.

        For each place and group a product of matrices: what is lost of the parts, over frames, by the
        powers of all that sound. So it takes next to nothing, however many parts there are. weights:
        (places, told, frames); by_place: (places, there, frames); groups: (told, frames). Returns what
        each takes of each in these frames, (parts, parts).
        """
        rest, *others = present
        inside = [(group, (groups == group).astype(np.float32)) for group in others]
        own = np.arange(len(told)), np.searchsorted(there, told)
        all_are_there = len(told) == len(self._ids)
        pairs = (slice(None), slice(None)) if all_are_there else np.ix_(told, there)

        def give(places: slice) -> np.ndarray:
            weight, power = weights[places], by_place[places].transpose(0, 2, 1)
            left = np.matmul(weight, power)
            left[:, *own] = 0.0
            taken = left.sum(axis=0, dtype=np.float64)
            for group, counts in inside:
                lost = np.matmul(weight * counts, power)
                lost[:, *own] = 0.0
                self._by[group, places][:, *pairs] += lost
                left -= lost
            self._by[rest, places][:, *pairs] += np.maximum(left, 0.0, out=left)
            return taken

        step = max(1, AT_ONCE // max(weights[0].size, 1))
        pieces = [slice(place, place + step) for place in range(0, PLACES_HZ.size, step)]
        given = np.zeros_like(self._given)
        given[pairs] = np.sum(list(side_by_side(self._pool, give, pieces)), axis=0)
        return given

    def _where(self, first: int, frames: int) -> np.ndarray:
        segment = np.full(frames, len(self._segments))
        for n, (start, end) in enumerate(self._segments):
            segment[max(0, start - first) : max(0, end - first)] = n
        return segment

    def _hear(self, part, power, total, groups, present, weights, n) -> _Heard | None:
        """A part by itself and among the others; None where it does not sound."""
        alone = partial_loudness(power)
        counted = sounding(alone)
        if not counted.any():
            weights[:, n] = 0.0
            return None
        rows = np.where(counted, np.searchsorted(present, groups), -1)
        groups = np.where(counted, groups, -1)
        others = np.maximum(total - power, 0.0)
        clear_db = np.empty_like(alone)
        lost = np.maximum(alone - partial_loudness(power, others, clear_db), 0.0)
        gather_bands(clear_db, alone, groups, 1, self._clear[part])
        _weigh(lost, others, groups, alone, weights, n, self._alone[part])
        self._frames[part] += np.bincount(groups[counted], minlength=self._frames.shape[1])
        enough = LEAST_SHARE * float(alone[counted].sum(dtype=np.float64))
        alone, groups, rows, others, clear_db = (
            np.ascontiguousarray(one[::THIN]) for one in (alone, groups, rows, others, clear_db)
        )
        bands = np.zeros((present.size, BANDS, BINS), np.float32)
        gather_bands(clear_db, alone, rows, PLACES_A_BAND, bands)
        return _Heard(alone, groups, present, others, bands, enough)

    def _add_besides(self, part: int, heard: _Heard, few: np.ndarray, given, all_given) -> None:
        """Hear a part beside each of those that hide it most, where that one hides enough of it."""
        pairs = self._pairs[part]
        for other in np.argsort(-all_given, kind="stable")[:HIDERS].tolist():
            if given[other] >= heard.enough:
                if other not in pairs:
                    pairs[other] = _PairSums.of(self._frames.shape[1])
                pairs[other].add(few[part], few[other], heard)

    def table(self) -> HiddenTable:
        """Everything added so far."""
        hiders, pairs = self._hiders()
        return HiddenTable(
            self._ids,
            alone=self._by_segment(self._alone),
            by=self._by_part(),
            frames=self._by_segment(self._frames),
            clear=self._by_segment(self._clear),
            lengths=self._lengths.astype(np.float32),
            hiders=hiders,
            **{name: self._by_segment(sums) for name, sums in pairs.items()},
        )

    def _by_part(self) -> np.ndarray:
        """What each loses to each other, float32 (segments, away or on hits, parts, parts, places)."""
        by = self._by.reshape(-1, 2, *self._by.shape[1:])
        return np.ascontiguousarray(np.moveaxis(by, 2, -1))

    def _hiders(self) -> tuple[np.ndarray, dict[str, np.ndarray]]:
        """The three that hide each part most, and its sums with each of them."""
        parts, groups = self._frames.shape
        hiders = np.full((parts, HIDERS), -1, np.int16)
        found = {
            "own_beside": np.zeros((parts, groups, HIDERS, PLACES_HZ.size), np.float32),
            "alone_by": np.zeros((parts, groups, HIDERS, PLACES_HZ.size), np.float32),
            "clear_of": np.zeros((parts, groups, HIDERS, BINS), np.float32),
            "without": np.zeros((parts, groups, HIDERS, BANDS, BINS), np.float32),
        }
        for part in self._told:
            given, bands, pairs = self._given[part], self._bands[part], self._pairs[part]
            for n, other in enumerate(sorted(pairs, key=lambda one: -given[one])[:HIDERS]):
                hiders[part, n], one = other, pairs[other]
                found["own_beside"][part, :, n] = one.own
                found["alone_by"][part, :, n] = one.taken
                found["clear_of"][part, :, n] = one.alone
                found["without"][part, :, n] = np.maximum(bands + one.won, 0.0)
        return hiders, found

    def _by_segment(self, sums: np.ndarray) -> np.ndarray:
        """From (parts, groups, ...) to (segments, away or on hits, parts, ...)."""
        split = sums.reshape(sums.shape[0], -1, 2, *sums.shape[2:])
        return np.moveaxis(split, 0, 2).astype(np.float32)
