"""Taking every n-th frame of a signal after a filter that keeps what folds back below -80 dB."""

from __future__ import annotations

import numpy as np
from scipy.signal import firwin, kaiserord

from pondel.core.dsp.compiled import kernel

STOP_DB = 85.0


@kernel(fastmath=True, error_model="numpy")
def keep_every(signal, taps, factor, out):
    """Each `factor`-th of (channels, frames) through a filter, into (channels, fewer frames)."""
    for c in range(out.shape[0]):
        for i in range(out.shape[1]):
            given = signal[c, i * factor : i * factor + taps.size]
            total = np.float32(0.0)
            for t in range(taps.size):
                total += given[t] * taps[t]
            out[c, i] = total


class Decimator:
    """Keeps every `factor`-th frame; flat up to `keep` of the new rate, aligned in time.

    What lies above folds back only onto frequencies above `keep`.
    """

    def __init__(self, factor: int, channels: int, keep: float) -> None:
        self._factor = factor
        nyquist = factor / 2.0
        passed, stopped = keep / nyquist, (1.0 - keep) / nyquist
        count, beta = kaiserord(STOP_DB, stopped - passed)
        count |= 1
        taps = firwin(count, (passed + stopped) / 2, window=("kaiser", beta))
        self._taps = taps[::-1].astype(np.float32)
        self._waiting = np.zeros((channels, count // 2), np.float32)

    def push(self, wide: np.ndarray) -> np.ndarray:
        """float32 (channels, frames) in; as many whole steps out as there are."""
        joined = np.concatenate([self._waiting, wide], axis=1)
        count = max(0, (joined.shape[1] - self._taps.size) // self._factor + 1)
        out = np.empty((joined.shape[0], count), np.float32)
        keep_every(joined, self._taps, self._factor, out)
        self._waiting = joined[:, count * self._factor :]
        return out
