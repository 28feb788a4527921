"""A filter of minimum phase for any magnitude, and its running convolution.

The phase follows from the logarithm of the magnitude by folding its cepstrum (Oppenheim and Schafer,
"Discrete-time signal processing", 1989, chapter 12).
"""

from __future__ import annotations

import numpy as np
from scipy.fft import irfft, rfft

from pondel.core.dsp.partitioned import Partitioned


def minimum_phase(gain_db: np.ndarray, taps: int) -> np.ndarray:
    """`taps` of the answer with the magnitudes `gain_db` at evenly spaced frequencies from 0 to half
    the rate, (2 ** n + 1,); its end is faded."""
    size = 2 * (gain_db.size - 1)
    cepstrum = irfft(np.asarray(gain_db) * (np.log(10.0) / 20.0), size)
    folded = np.zeros(size)
    folded[0], folded[size // 2] = cepstrum[0], cepstrum[size // 2]
    folded[1 : size // 2] = 2.0 * cepstrum[1 : size // 2]
    answer = irfft(np.exp(rfft(folded)), size)[:taps]
    fade = taps // 4
    answer[taps - fade :] *= 0.5 + 0.5 * np.cos(np.pi * (np.arange(fade) + 0.5) / fade)
    return answer


class Convolved:
    """A sound through a filter, block by block."""

    def __init__(self, taps: np.ndarray, channels: int) -> None:
        self._filter = Partitioned(taps[np.newaxis])
        self._before = np.zeros((channels, taps.size - 1), np.float32)

    def process(self, block: np.ndarray) -> np.ndarray:
        """Treat float32 (frames, channels)."""
        joined = np.concatenate([self._before, block.T], axis=1)
        self._before = joined[:, block.shape[0] :].copy()
        (found,) = self._filter.valid(joined)
        return np.ascontiguousarray(found.T)
