"""Adding up who hides whom, block by block."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Sequence
from concurrent.futures import Executor
from dataclasses import dataclass
from functools import partial
from typing import TypeVar

import numpy as np

from pondel.core.dsp.compiled import kernel
from pondel.core.hearing.block import Block, weigh
from pondel.core.hearing.clear import BINS, gather_bands
from pondel.core.hearing.loudness import clear_above_db, partial_loudness, sounding
from pondel.core.hearing.scale import PLACES_HZ
from pondel.core.hearing.table import HIDERS, LEAST_SHARE, PLACES_A_BAND, HiddenTable
from pondel.core.side_by_side import go_on, side_by_side

Made = TypeVar("Made")

THIN, LEAST_AT_ONCE, MOST_AT_ONCE = 4, 64, 600
PART_FRAMES, STEP_FRAMES = 60_000, 40_000
"""Frames of all parts in a block, which bounds the memory it takes, and between two rests."""
BANDS = -(-PLACES_HZ.size // PLACES_A_BAND)


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
        where = self._where(first, frames)
        self._lengths += np.bincount(where, minlength=self._lengths.size)
        block = Block.of(powers, 2 * where + on_hits, self._told)
        if not block.told:
            return
        for part in set(block.there).difference(block.told):
            block.lay_out(part)
        heard = list(self._each(partial(self._hear, block), len(block.told), frames))
        given = block.share_out(self._pool, self._by)
        self._given += given
        # What a hider would take by itself is told well enough by every fourth frame.
        few = np.ascontiguousarray(powers[:, ::THIN])

        def besides(n: int) -> None:
            part, one = block.told[n], heard[n]
            if one is not None:
                self._bands[part][block.present] += one.bands
                self._add_besides(part, one, few, given[part], self._given[part])

        for _ in self._each(besides, len(block.told), frames):
            pass

    def _each(self, work: Callable[[int], Made], count: int, frames: int) -> Iterator[Made]:
        every = parts_between_rests(frames)
        return side_by_side(self._pool, work, range(count), self._step, every)

    def _where(self, first: int, frames: int) -> np.ndarray:
        segment = np.full(frames, len(self._segments))
        for n, (start, end) in enumerate(self._segments):
            segment[max(0, start - first) : max(0, end - first)] = n
        return segment

    def _hear(self, block: Block, n: int) -> _Heard | None:
        """A told part by itself and among the others; None where it does not sound."""
        part = block.told[n]
        block.lay_out(part)
        power, groups, present = block.powers[part], block.groups[part], block.present
        alone = partial_loudness(power)
        counted = sounding(alone)
        if not counted.any():
            block.weights[:, n] = 0.0
            return None
        rows = np.where(counted, np.searchsorted(present, groups), -1)
        groups = np.where(counted, groups, -1)
        others = np.maximum(block.total - power, 0.0)
        clear_db = np.empty_like(alone)
        lost = np.maximum(alone - partial_loudness(power, others, clear_db), 0.0)
        gather_bands(clear_db, alone, groups, 1, self._clear[part])
        weigh(lost, others, groups, alone, block.weights, n, self._alone[part])
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
