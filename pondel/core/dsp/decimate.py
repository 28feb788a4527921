"""Taking every n-th frame of a signal after a filter that keeps what folds back below -80 dB."""

from __future__ import annotations

from functools import lru_cache

import numpy as np

from pondel.core.dsp.compiled import kernel
from pondel.core.dsp.weighed import TILE, add_row, by_phase, deinterleave, in_rows

STOP_DB = 85.0


@kernel(error_model="numpy")
def keep_every(signal, taps, firsts, counts, out):
    """Each n-th of (channels, frames) through a filter in n `Rows`, into (channels, fewer frames)."""
    factor, reach = taps.shape[0], np.max(firsts + counts)
    parted = np.empty((factor, TILE + reach), np.float32)
    for c in range(out.shape[0]):
        for start in range(0, out.shape[1], TILE):
            size = min(TILE, out.shape[1] - start)
            kept = out[c, start : start + size]
            deinterleave(signal[c, start * factor :], size + reach, parted)
            kept[:] = 0.0
            for p in range(factor):
                add_row(parted[p], taps[p], firsts[p], counts[p], kept)


@lru_cache(maxsize=16)
def _taps(factor: int, keep: float) -> np.ndarray:
    """A filter that passes up to `keep` of the new rate and nothing from 1 - `keep` on, float32."""
    from scipy.signal import firwin, kaiserord

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
        taps = _taps(factor, keep)
        self._size, self._rows = taps.size, in_rows(by_phase(taps, factor))
        self._waiting = np.zeros((channels, taps.size // 2), np.float32)

    def push(self, wide: np.ndarray) -> np.ndarray:
        """float32 (channels, frames) in; as many whole steps out as there are."""
        joined = np.concatenate([self._waiting, wide], axis=1)
        count = max(0, (joined.shape[1] - self._size) // self._factor + 1)
        out = np.empty((joined.shape[0], count), np.float32)
        keep_every(joined, *self._rows, out)
        self._waiting = joined[:, count * self._factor :]
        return out
