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

THIN, LEAST_AT_ONCE, MOST_AT_ONCE = 4, 64, 1000
MOST_BESIDES = 16
"""As many hiders of a part are heard beside it in every frame that counts; more of them share those."""
BANDS = -(-PLACES_HZ.size // PLACES_A_BAND)


@kernel(error_model="numpy", fastmath={"contract", "nsz", "arcp"})
def _weigh(lost, others, groups, present, alone, weights, own):
    """What is lost of a part for each power of its hiders, and the part's own sums.

    weights: float32 (groups present, places, frames); `present` are the numbers of these groups; own:
    float64 (groups, places).
    """
    least = np.float32(1e-20)
    for f in range(lost.shape[0]):
        if groups[f] < 0:
            continue
        n = np.searchsorted(present, groups[f])
        sums = own[groups[f]]
        for b in range(lost.shape[1]):
            weights[n, b, f] = lost[f, b] / max(others[f, b], least)
            sums[b] += alone[f, b]


@kernel(error_model="numpy", fastmath={"contract", "nsz", "arcp"})
def _take(alone, heard, groups, times, hiders, sums):
    """Add what is lost of a part beside each of some others, float64 (groups, parts, places).

    heard: float32 (hiders, frames, places).
    """
    for n in range(hiders.size):
        for f in range(alone.shape[0]):
            if groups[f] < 0:
                continue
            row = sums[groups[f], hiders[n]]
            for b in range(alone.shape[1]):
                row[b] += times * max(alone[f, b] - heard[n, f, b], np.float32(0.0))


def frames_at_once(parts: int, part_frames: int) -> int:
    """Frames of a block in which all parts together have so many: work stands still between blocks."""
    frames = part_frames // max(parts, 1) // THIN * THIN
    return min(max(frames, LEAST_AT_ONCE), MOST_AT_ONCE)


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


@dataclass(frozen=True)
class _Heard:
    """Every fourth frame of a part: its loudness, the group of each, and the power of the others.

    `enough` is what a hider has to take for it to be told.
    """

    alone: np.ndarray
    groups: np.ndarray
    others: np.ndarray
    enough: float


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
        self._blocks = 0

    def add(self, first: int, powers: np.ndarray, on_hits: np.ndarray) -> None:
        """Add frames from `first` on.

        `powers` is float32 (parts, frames, places), the excitation of each part; `on_hits` bool
        (parts, frames), whether a frame follows one of the part's own hits.
        """
        self._blocks += 1
        total = powers.sum(axis=0)
        where = self._where(first, powers.shape[1])
        self._lengths += np.bincount(where, minlength=self._lengths.size)
        run = self._pool.map if self._pool else map
        # What each hider would take by itself is told well enough by every fourth frame.
        few = list(run(lambda power: Excited(power[::THIN]), powers))
        present = np.unique(np.concatenate([2 * where, 2 * where + 1]))
        shape = (len(self._told), present.size, PLACES_HZ.size, powers.shape[1])
        weights = np.zeros(shape, np.float32)

        def hear(n: int) -> _Heard | None:
            part = self._told[n]
            return self._hear(part, powers[part], total, where * 2 + on_hits[part], present, weights[n])

        heard = list(run(hear, range(len(self._told))))
        before = self._by.sum(axis=(1, 3))
        self._give_to_hiders(weights, powers, present)
        after = self._by.sum(axis=(1, 3))

        def besides(n: int) -> None:
            part, one = self._told[n], heard[n]
            if one is not None:
                self._add_besides(part, one, few, after[part] - before[part], after[part])

        for _ in run(besides, range(len(self._told))):
            pass

    def _give_to_hiders(self, weights: np.ndarray, powers: np.ndarray, present: np.ndarray) -> None:
        """Add what is lost of all parts at once, to each hider in proportion to its power.

        For each place a product of matrices: what is lost of the parts, over frames, by the powers of
        all. So it takes next to nothing, however many parts there are.
        """
        told, groups, places, frames = weights.shape
        given = weights.transpose(2, 0, 1, 3).reshape(places, told * groups, frames)
        maskers = powers.transpose(2, 1, 0)
        lost = np.matmul(np.ascontiguousarray(given), np.ascontiguousarray(maskers))
        lost = lost.reshape(places, told, groups, -1)
        for n, part in enumerate(self._told):
            lost[:, n, :, part] = 0.0
            self._by[part, present] += np.moveaxis(lost[:, n], 0, -1)

    def _where(self, first: int, frames: int) -> np.ndarray:
        segment = np.full(frames, len(self._segments))
        for n, (start, end) in enumerate(self._segments):
            segment[max(0, start - first) : max(0, end - first)] = n
        return segment

    def _hear(self, part, power, total, groups, present, weights) -> _Heard | None:
        """A part by itself and among the others; None where it does not sound."""
        alone = partial_loudness(power)
        counted = sounding(alone)
        if not counted.any():
            return None
        groups = np.where(counted, groups, -1)
        others = np.maximum(total - power, 0.0)
        clear_db = np.empty_like(alone)
        lost = np.maximum(alone - partial_loudness(power, others, clear_db), 0.0)
        gather_bands(clear_db, alone, groups, 1, self._clear[part])
        _weigh(lost, others, groups, present, alone, weights, self._alone[part])
        self._frames[part] += np.bincount(groups[counted], minlength=self._frames.shape[1])
        enough = LEAST_SHARE * float(alone[counted].sum(dtype=np.float64))
        return _Heard(alone[::THIN], groups[::THIN], others[::THIN], enough)

    def _add_besides(self, part: int, heard: _Heard, few: list[Excited], given, all_given) -> None:
        """Add what each of those that hide enough of a part would hide by itself."""
        left, alone_db = np.empty_like(heard.alone), np.empty_like(heard.alone)
        worst = np.argsort(-all_given, kind="stable")[:HIDERS].tolist()
        hiders = np.flatnonzero(given >= heard.enough).tolist()
        for other in set(hiders).intersection(worst):
            few[part].beside(few[other], left, alone_db)
            took, sums = np.array([other]), self._alone_by[part]
            _take(heard.alone, left[np.newaxis], heard.groups, float(THIN), took, sums)
            without_db = clear_above_db(few[part].power, heard.others - few[other].power)
            pair = self._pairs[part].setdefault(other, _PairSums.of(self._frames.shape[1]))
            pair.add(alone_db, without_db, heard.alone, heard.groups)
        self._add_lesser(part, heard, few, [one for one in hiders if one not in worst])

    def _add_lesser(self, part: int, heard: _Heard, few: list[Excited], hiders: list[int]) -> None:
        """The same for those of whom no more is told; the more there are, the fewer frames each."""
        if not hiders:
            return
        step = min(-(-len(hiders) // MOST_BESIDES), heard.alone.shape[0])
        rows = slice(self._blocks % step, None, step)
        left = few[part].beside_each([few[one] for one in hiders], rows)
        times = THIN * heard.alone.shape[0] / left.shape[1]
        sums = self._alone_by[part]
        _take(heard.alone[rows], left, heard.groups[rows], times, np.array(hiders), sums)

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
