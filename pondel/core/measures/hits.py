"""Hits: the moments at which a part strikes, and how long each one lasts."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from pondel.core.dsp.compiled import kernel, plain
from pondel.core.dsp.followers import followed
from pondel.core.measures.restruck import BandRises

STEP_S = 0.001
REACH = 20
LEAST_GAP_S, ANEW_GAP_S = 0.035, 0.060
DEEPEST_DB = -70.0
FALL_MS = 12.0
PEAK_WITHIN = 60
STRUCK_ANEW = 0.1
AHEAD, AGO, SWELLING = 8, 25, 90
CONFIRMING = 0.4
"""A hit of the whole level counts as so much of what its bands rise by, where that is less."""
MIDDLE = 0.5
_SENSITIVITIES = (0.0, MIDDLE, 1.0)
_LEAST_RISE_DB = (14.0, 8.0, 3.0)
_LEAST_LEVEL_DB = (-10.0, -26.0, -60.0)


@dataclass(frozen=True)
class Onset:
    """A possible hit: when it begins, how far the level rises, and how loud it gets.

    `level_db` is relative to the loudest onset of the part; `length_20_s` and `length_40_s` are
    the times until it has fallen by 20 and 40 dB from its peak, None when the next hit comes first.
    """

    time_s: float
    rise_db: float
    level_db: float
    length_20_s: float | None
    length_40_s: float | None

    def as_json(self) -> list[float | None]:
        return [
            round(self.time_s, 4),
            round(self.rise_db, 2),
            round(self.level_db, 2),
            None if self.length_20_s is None else round(self.length_20_s, 3),
            None if self.length_40_s is None else round(self.length_40_s, 3),
        ]


@kernel(fastmath={"contract", "reassoc", "nsz"})
def _step_powers(block, step, out):
    """Mean square of all channels in each step of (frames, channels)."""
    flat = block.ravel()
    size = step * block.shape[1]
    for k in range(out.size):
        given = flat[k * size : (k + 1) * size]
        total = np.float32(0.0)
        for i in range(size):
            total += given[i] * given[i]
        out[k] = total / size


class Hits:
    """Finds onsets in a part's power, millisecond by millisecond, as blocks pass."""

    def __init__(self, rate: int) -> None:
        self._step = max(1, round(rate * STEP_S))
        self._step_s = self._step / rate
        self._powers: list[np.ndarray] = []
        self._rest = np.empty((0, 1), np.float32)

    def write(self, block: np.ndarray) -> None:
        """Add float32 (frames, channels)."""
        joined = np.concatenate([self._rest, block]) if self._rest.shape[0] else block
        whole = joined.shape[0] // self._step * self._step
        powers = np.empty(whole // self._step)
        _step_powers(plain(joined[:whole]), self._step, powers)
        self._powers.append(np.nan_to_num(powers, nan=0.0, posinf=0.0))
        self._rest = joined[whole:]

    def onsets(self, bands: BandRises | None = None) -> list[Onset]:
        """Everything that may be a hit, rising in time: each rise of 3 dB or more within 20 ms.

        The moment is where the rise begins, a tenth of its power up. With the rises of its `bands`,
        notes struck anew while others ring are found too, and where no band rises there is none.
        """
        from scipy.ndimage import maximum_filter1d, minimum_filter1d

        power = np.concatenate(self._powers) if self._powers else np.empty(0)
        if power.size < 50 or power.max() <= 1e-12:
            return []
        # A peak follower bridges the cycles of low notes and keeps the rise where it is.
        envelope = followed(power, float(np.exp(-STEP_S * 1000 / FALL_MS)))
        level = 10.0 * np.log10(envelope + envelope.max() * 10 ** (DEEPEST_DB / 10))
        before = minimum_filter1d(level, REACH, origin=REACH // 2 - 1, mode="nearest")
        after = maximum_filter1d(level, REACH, origin=-(REACH // 2), mode="nearest")
        rise = after - before
        summit = maximum_filter1d(rise, 2 * REACH + 1)
        starts: list[int] = []
        rises: list[float] = []
        for i in np.flatnonzero((rise >= _LEAST_RISE_DB[-1]) & (rise >= summit)):
            at = _start_of_rise(power, envelope, int(i))
            if not starts or (at - starts[-1]) * self._step_s >= LEAST_GAP_S:
                starts.append(at)
                rises.append(float(rise[i]))
        if bands is None:
            return self._described(envelope, starts, rises)
        anew = [(round(at_s / self._step_s), rise) for at_s, rise in bands.anew]
        starts = [_with_its_bands(start, [at for at, _ in anew], power, envelope) for start in starts]
        confirmed = [CONFIRMING * bands.near_db(start * self._step_s) for start in starts]
        rises = [min(both) for both in zip(rises, confirmed, strict=True)]
        return self._described(envelope, *_merged(starts, rises, anew))

    def _described(self, envelope: np.ndarray, starts: list[int], rises: list[float]) -> list[Onset]:
        if not starts:
            return []
        following = [*starts[1:], envelope.size]
        reach = [min(s + PEAK_WITHIN, after) for s, after in zip(starts, following, strict=True)]
        peaks = [int(envelope[s:end].argmax()) + s for s, end in zip(starts, reach, strict=True)]
        heights = envelope[peaks]
        loudest = heights.max()
        struck = np.array(rises) >= _LEAST_RISE_DB[1]
        found = []
        for n, (start, peak) in enumerate(zip(starts, peaks, strict=True)):
            # A tail goes on through what is much weaker than its hit, and through its own beats.
            anew = (heights[n + 1 :] >= STRUCK_ANEW * heights[n]) & struck[n + 1 :]
            later = np.flatnonzero(anew)
            end = starts[n + 1 + int(later[0])] if later.size else envelope.size
            tail = envelope[peak:end]
            lengths = [self._fall_s(tail, peak - start, db) for db in (-20.0, -40.0)]
            level_db = 10.0 * float(np.log10(heights[n] / loudest))
            found.append(Onset(start * self._step_s, rises[n], level_db, *lengths))
        return found

    def _fall_s(self, tail: np.ndarray, rise_steps: int, by_db: float) -> float | None:
        below = np.flatnonzero(tail <= tail[0] * 10 ** (by_db / 10))
        return (int(below[0]) + rise_steps) * self._step_s if below.size else None

    def times_s(self, sensitivity: float = MIDDLE) -> np.ndarray:
        """Seconds of each hit, rising."""
        return times_s(hits_among(self.onsets(), sensitivity))


def _merged(
    starts: list[int], rises: list[float], others: list[tuple[int, float]]
) -> tuple[list[int], list[float]]:
    """Both together; within 60 ms they are one: that of the whole level if it is a hit by itself."""
    least = round(ANEW_GAP_S / STEP_S)
    known = dict(zip(starts, rises, strict=True))
    for at, rise in others:
        near = [start for start in known if abs(start - at) <= least]
        if any(known[start] >= min(rise, _LEAST_RISE_DB[1]) for start in near):
            continue
        for start in near:
            del known[start]
        known[at] = rise
    struck = sorted(at for at, _ in others)
    kept: list[int] = []
    for start in sorted(known):
        swelling = bool(kept) and start - kept[-1] < SWELLING and not _near(struck, start, AGO)
        if not swelling:
            kept.append(start)
    return kept, [known[start] for start in kept]


def _near(rising: list[int], at: int, within: int) -> bool:
    k = bisect_left(rising, at - within)
    return k < len(rising) and rising[k] <= at + within


def _with_its_bands(start: int, anew: list[int], power: np.ndarray, envelope: np.ndarray) -> int:
    """A start more than 8 ms ahead of its bands was a stir of the note before: the one after it."""
    k = bisect_left(anew, start + AHEAD + 1)
    if k == len(anew) or anew[k] - start > round(ANEW_GAP_S / STEP_S):
        return start
    if k and start - anew[k - 1] < AHEAD:
        return start
    first, last = anew[k] - AHEAD, min(envelope.size, anew[k] + REACH)
    lowest = first + int(envelope[first : anew[k] + 1].argmin())
    base, top = envelope[lowest], envelope[lowest:last].max()
    risen = np.flatnonzero(power[lowest:last] >= base + 0.1 * (top - base))
    return lowest + int(risen[0]) if risen.size else start


def _start_of_rise(power: np.ndarray, envelope: np.ndarray, i: int) -> int:
    """Where a tenth of the rise is done, after what sounded before has fallen the furthest."""
    first, last = max(0, i - REACH), min(envelope.size, i + 2 * REACH)
    before = envelope[first : i + 1]
    lowest = first + before.size - 1 - int(before[::-1].argmin())
    base, top = envelope[lowest], envelope[i:last].max()
    above = np.flatnonzero(power[lowest:last] >= base + 0.1 * (top - base))
    return lowest + int(above[0])


def hits_among(onsets: Sequence[Onset], sensitivity: float = MIDDLE) -> list[Onset]:
    """The onsets that count as hits at a sensitivity from 0 (only the boldest) to 1 (every stir).

    In the middle a hit rises by 8 dB and lies within 26 dB of the loudest: ghost notes count,
    the bleed of other parts does not.
    """
    rise = float(np.interp(sensitivity, _SENSITIVITIES, _LEAST_RISE_DB))
    level = float(np.interp(sensitivity, _SENSITIVITIES, _LEAST_LEVEL_DB))
    return [onset for onset in onsets if onset.rise_db >= rise and onset.level_db >= level]


def times_s(onsets: Sequence[Onset]) -> np.ndarray:
    """Their times in seconds."""
    return np.array([onset.time_s for onset in onsets], np.float64)
