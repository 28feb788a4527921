"""Whether two lows help or cancel each other at the hits, and which nudge would be best."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

WINDOW_S = 0.2
MOST_NUDGE_MS = 12.0
SLOW_RATE = 6000
LEAST_POWER = 1e-12
LEAST_WON_DB, NEAR_BEST_DB = 0.5, 0.2


@dataclass(frozen=True)
class LowSum:
    """The low end of two parts together, at the hits.

    `gain_db` is their sum's energy against the sum of their energies: +3.01 when they are equal
    and in step, far below 0 when they cancel; `flipped_gain_db` the same with the second part turned
    over. `best_nudge_ms` moves the second part (later when positive), `best_flipped` turns it over,
    and `best_gain_db` is what the sum would gain then. Where no nudge wins, nothing is moved.
    """

    hits: int
    gain_db: float
    flipped_gain_db: float
    best_nudge_ms: float
    best_flipped: bool
    best_gain_db: float

    @property
    def to_win_db(self) -> float:
        return self.best_gain_db - self.gain_db


@dataclass(frozen=True)
class _Together:
    """Energies of both parts and their cross-correlation, summed over some hits."""

    energy: float
    cross: np.ndarray

    def gain_db(self, at: int, flipped: bool) -> float:
        product = -self.cross[at] if flipped else self.cross[at]
        whole = max(self.energy, LEAST_POWER)
        return float(10 * np.log10(max(1.0 + 2.0 * product / whole, 1e-6)))


def low_sum(
    first: np.ndarray, second: np.ndarray, rate: int, hits_s: np.ndarray, below_hz: float
) -> LowSum | None:
    """Compare two parts, float (frames, channels), in the 200 ms after each hit, below a frequency.

    The sum's energy with a nudge of n is E1 + E2 + 2 s R(n), where R is their cross-correlation over
    the hits and s the polarity. A nudge within 12 ms is fitted on every other hit and judged on the
    rest, where it has to win half a decibel; of those within 0.2 dB of the best the smallest is taken,
    unflipped before flipped. None when there is no hit, or either part has no low end there.
    """
    from scipy.signal import correlate

    lows = [_lows(part, rate, below_hz) for part in (first, second)]
    size, reach = round(WINDOW_S * SLOW_RATE), round(MOST_NUDGE_MS / 1000 * SLOW_RATE)
    energies, found = np.zeros(2), []
    for hit in hits_s:
        at = round(hit * SLOW_RATE)
        if at - reach < 0 or at + size + reach > lows[0].size:
            continue
        a = lows[0][at : at + size]
        around = lows[1][at - reach : at + size + reach]
        own = np.array([float(a @ a), float(around[reach:-reach] @ around[reach:-reach])])
        energies += own
        found.append(_Together(float(own.sum()), correlate(around, a, "valid")))
    if not found or energies.min() <= LEAST_POWER * len(found) * size:
        return None
    every = _sum(found)
    now_db, flipped_db = every.gain_db(reach, False), every.gain_db(reach, True)
    at, flipped = _fitted(_sum(found[::2]), reach)
    judged = _sum(found[1::2] or found)
    if judged.gain_db(at, flipped) - judged.gain_db(reach, False) < LEAST_WON_DB:
        at, flipped = reach, False
    nudge_ms = -(at - reach) / SLOW_RATE * 1000.0
    return LowSum(len(found), now_db, flipped_db, nudge_ms, flipped, every.gain_db(at, flipped))


def _sum(found: list[_Together]) -> _Together:
    cross = np.sum([one.cross for one in found], axis=0)
    return _Together(sum(one.energy for one in found), cross)


def _fitted(together: _Together, reach: int) -> tuple[int, bool]:
    """The smallest nudge that comes near the best, and whether it is turned over."""
    ways = [(at, flipped) for at in range(together.cross.size) for flipped in (False, True)]
    gains = {way: together.gain_db(*way) for way in ways}
    best = max(gains.values())
    near = [way for way, gain in gains.items() if gain >= best - NEAR_BEST_DB]
    return min(near, key=lambda way: (way[1], abs(way[0] - reach)))


def _lows(part: np.ndarray, rate: int, below_hz: float) -> np.ndarray:
    from scipy.signal import butter, resample_poly, sosfiltfilt

    mono = np.asarray(part, np.float64).mean(axis=1)
    divisor = int(np.gcd(rate, SLOW_RATE))
    slow = resample_poly(mono, SLOW_RATE // divisor, rate // divisor)
    return sosfiltfilt(butter(4, min(below_hz, 2000.0), fs=SLOW_RATE, output="sos"), slow)
