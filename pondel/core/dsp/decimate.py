"""Taking every n-th frame of a signal after a filter that keeps what folds back below -80 dB."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from scipy.signal import firwin, kaiserord

from pondel.core.dsp.cascade import TILE
from pondel.core.dsp.compiled import kernel

STOP_DB = 85.0


@kernel(fastmath={"contract", "nsz"}, error_model="numpy")
def add_weighed(given, taps, first, step, size, out):
    """Add to each of `size` frames those from it on, times every `step`-th tap from `first` on.

    As many frames at once as the processor has lanes, four taps a time.
    """
    none = np.float32(0.0)
    count = (taps.size - first + step - 1) // step
    for n in range(0, count, 4):
        t = first + n * step
        a = taps[t]
        b = taps[t + step] if n + 1 < count else none
        c = taps[t + 2 * step] if n + 2 < count else none
        d = taps[t + 3 * step] if n + 3 < count else none
        one, two, three, four = given[n:], given[n + 1 :], given[n + 2 :], given[n + 3 :]
        for i in range(size):
            out[i] += a * one[i] + b * two[i] + c * three[i] + d * four[i]


@kernel(error_model="numpy")
def keep_every(signal, taps, factor, out):
    """Each `factor`-th of (channels, frames) through a filter, into (channels, fewer frames)."""
    reach = -(-taps.size // factor)
    every = np.zeros(TILE + reach + 4, np.float32)
    for c in range(out.shape[0]):
        for start in range(0, out.shape[1], TILE):
            size = min(TILE, out.shape[1] - start)
            row, given = out[c, start : start + size], signal[c, start * factor :]
            row[:] = 0.0
            for p in range(factor):
                count = min(size + reach, (given.size - p + factor - 1) // factor)
                for i in range(count):
                    every[i] = given[i * factor + p]
                every[count : count + 4] = 0.0
                add_weighed(every, taps, p, factor, size, row)


@lru_cache(maxsize=16)
def _taps(factor: int, keep: float) -> np.ndarray:
    """A filter that passes up to `keep` of the new rate and nothing from 1 - `keep` on, float32."""
    nyquist = factor / 2.0
    passed, stopped = keep / nyquist, (1.0 - keep) / nyquist
    count, beta = kaiserord(STOP_DB, stopped - passed)
    taps = firwin(count | 1, (passed + stopped) / 2, window=("kaiser", beta))
    return taps[::-1].astype(np.float32)


class Decimator:
    """Keeps every `factor`-th frame; flat up to `keep` of the new rate, aligned in time.

    What lies above folds back only onto frequencies above `keep`.
    """

    def __init__(self, factor: int, channels: int, keep: float) -> None:
        self._factor = factor
        self._taps = _taps(factor, keep)
        self._waiting = np.zeros((channels, self._taps.size // 2), np.float32)

    def push(self, wide: np.ndarray) -> np.ndarray:
        """float32 (channels, frames) in; as many whole steps out as there are."""
        joined = np.concatenate([self._waiting, wide], axis=1)
        count = max(0, (joined.shape[1] - self._taps.size) // self._factor + 1)
        out = np.empty((joined.shape[0], count), np.float32)
        keep_every(joined, self._taps, self._factor, out)
        self._waiting = joined[:, count * self._factor :]
        return out
