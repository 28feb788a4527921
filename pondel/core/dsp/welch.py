"""Power of left and right in narrow bins, and what they have in common, averaged over a recording.

welch = Welch(rate)
for block in blocks:
    welch.write(block)
welch.mean_of(welch.left)      # mean square in each bin, up to half of the rate
"""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from scipy import fft

from pondel.core.dsp.compiled import kernel, plain

WINDOW_S = 0.68
"""At 48 kHz bins are 1.5 Hz apart."""


@kernel(error_model="numpy")
def _cut(samples, hop, window, frames):
    """Windowed frames of (frames, channels), one every `hop`: (count, channels, size)."""
    for n in range(frames.shape[0]):
        for c in range(frames.shape[1]):
            row = frames[n, c]
            for i in range(row.size):
                row[i] = samples[n * hop + i, c] * window[i]


@kernel(error_model="numpy", fastmath={"contract", "nsz"})
def _add_products(spectra, sums):
    """Add powers and what is in common of complex64 (count, channels, bins) to float64 (4, bins).

    Power of left and of right; left times right turned, real and imaginary.
    """
    for bins in spectra:
        left, right = bins[0], bins[-1]
        for i in range(left.size):
            sums[0, i] += left[i].real * left[i].real + left[i].imag * left[i].imag
        if bins.shape[0] < 2:
            continue
        for i in range(left.size):
            sums[1, i] += right[i].real * right[i].real + right[i].imag * right[i].imag
            sums[2, i] += left[i].real * right[i].real + left[i].imag * right[i].imag
            sums[3, i] += left[i].imag * right[i].real - left[i].real * right[i].imag


@lru_cache(maxsize=8)
def _hann(size: int) -> np.ndarray:
    from scipy.signal import get_window

    return get_window("hann", size).astype(np.float32)


class Windows:
    """Cuts half overlapping Hann windows out of blocks as they pass."""

    def __init__(self, rate: int, window_s: float) -> None:
        self.rate = rate
        self.size = 1 << round(np.log2(rate * window_s))
        self.count = 0
        self._window = _hann(self.size)
        self._waiting: np.ndarray | None = None
        power = float((self._window.astype(np.float64) ** 2).sum())
        self.scale = 2.0 / (self.size * power)
        """From the power of a bin to its mean square."""

    def cut(self, block: np.ndarray) -> np.ndarray:
        """The spectra that float32 (frames, channels) completes: complex64 (count, channels, bins)."""
        joined = block if self._waiting is None else np.concatenate([self._waiting, block])
        hop = self.size // 2
        count = max(0, (joined.shape[0] - self.size) // hop + 1)
        self._waiting = joined[count * hop :]
        return self._spectra(joined, count)

    def rest(self) -> np.ndarray:
        """One more, where all there was is shorter than a window; silence follows it."""
        given = self._waiting
        if self.count or given is None or not given.shape[0]:
            return np.zeros((0, 1, self.size // 2 + 1), np.complex64)
        return self._spectra(np.pad(given, ((0, self.size - given.shape[0]), (0, 0))), 1)

    def between(self, bins: np.ndarray, low_hz: np.ndarray, high_hz: np.ndarray) -> np.ndarray:
        """The sum of float or complex (bins,) between frequencies, a bin at an edge in part."""
        below = np.concatenate([[0.0], np.cumsum(bins)])
        edges_hz = (np.arange(below.size) - 0.5) * self.rate / self.size
        return np.interp(high_hz, edges_hz, below) - np.interp(low_hz, edges_hz, below)

    def _spectra(self, samples: np.ndarray, count: int) -> np.ndarray:
        channels = samples.shape[1]
        if not count:
            return np.zeros((0, channels, self.size // 2 + 1), np.complex64)
        self.count += count
        frames = np.empty((count, channels, self.size), np.float32)
        _cut(plain(samples), self.size // 2, self._window, frames)
        return fft.rfft(frames, axis=2)


class Welch:
    """Sums over windows as blocks of one or two channels pass (Welch 1967, Hann, half overlap).

    `left`, `right` float64 (bins,) and `common` complex (bins,), once all is written; mono is all left.
    """

    def __init__(self, rate: int) -> None:
        self.windows = Windows(rate, WINDOW_S)
        self.channels = 1
        self._sums = np.zeros((4, self.windows.size // 2 + 1))

    def write(self, block: np.ndarray) -> None:
        """Add float32 (frames, channels)."""
        self.channels = block.shape[1]
        _add_products(self.windows.cut(block), self._sums)

    @property
    def left(self) -> np.ndarray:
        return self._whole()[0]

    @property
    def right(self) -> np.ndarray:
        return self._whole()[1]

    @property
    def common(self) -> np.ndarray:
        real, imaginary = self._whole()[2:]
        return real + 1j * imaginary

    def mean_of(self, sums: np.ndarray) -> np.ndarray:
        """Mean square over time of one of the sums, bin by bin."""
        return sums * (self.windows.scale / max(self.windows.count, 1))

    def _whole(self) -> np.ndarray:
        """The sums, with what was too short for a window."""
        _add_products(self.windows.rest(), self._sums)
        return self._sums
