"""Whether two lows help or cancel each other at the hits, and which nudge would be best."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.signal import butter, correlate, resample_poly, sosfiltfilt

WINDOW_S = 0.2
MOST_NUDGE_MS = 12.0
SLOW_RATE = 6000
LEAST_POWER = 1e-12


@dataclass(frozen=True)
class LowSum:
    """The low end of two parts together, at the hits.

    `gain_db` is their sum's energy against the sum of their energies: +3.01 when they are equal
    and in step, far below 0 when they cancel. `best_nudge_ms` moves the second part (later when
    positive), `best_flipped` turns its polarity over, and `best_gain_db` is what the sum would
    gain then.
    """

    hits: int
    gain_db: float
    best_nudge_ms: float
    best_flipped: bool
    best_gain_db: float

    @property
    def to_win_db(self) -> float:
        return self.best_gain_db - self.gain_db


def low_sum(
    first: np.ndarray, second: np.ndarray, rate: int, hits_s: np.ndarray, below_hz: float
) -> LowSum | None:
    """Compare two parts, float (frames, channels), in the 200 ms after each hit, below a frequency.

    The sum's energy with a nudge of n is E1 + E2 + 2 s R(n), where R is their cross-correlation
    over the hits and s the polarity; the best nudge is where |R| is greatest, within 12 ms.
    None when there is no hit, or either part has no low end there.
    """
    lows = [_lows(part, rate, below_hz) for part in (first, second)]
    size, reach = round(WINDOW_S * SLOW_RATE), round(MOST_NUDGE_MS / 1000 * SLOW_RATE)
    energies = np.zeros(2)
    cross = np.zeros(2 * reach + 1)
    counted = 0
    for hit in hits_s:
        at = round(hit * SLOW_RATE)
        if at - reach < 0 or at + size + reach > lows[0].size:
            continue
        a = lows[0][at : at + size]
        around = lows[1][at - reach : at + size + reach]
        cross += correlate(around, a, "valid")
        energies += [float(a @ a), float(around[reach:-reach] @ around[reach:-reach])]
        counted += 1
    if not counted or energies.min() <= LEAST_POWER * counted * size:
        return None
    whole = float(energies.sum())
    best = int(np.argmax(np.abs(cross)))

    def gain_db(product: float) -> float:
        return float(10 * np.log10(max(1.0 + 2.0 * product / whole, 1e-6)))

    return LowSum(
        counted,
        gain_db(float(cross[reach])),
        -(best - reach) / SLOW_RATE * 1000.0,
        bool(cross[best] < 0),
        gain_db(abs(float(cross[best]))),
    )


def _lows(part: np.ndarray, rate: int, below_hz: float) -> np.ndarray:
    mono = np.asarray(part, np.float64).mean(axis=1)
    divisor = int(np.gcd(rate, SLOW_RATE))
    slow = resample_poly(mono, SLOW_RATE // divisor, rate // divisor)
    return sosfiltfilt(butter(4, min(below_hz, 2000.0), fs=SLOW_RATE, output="sos"), slow)
