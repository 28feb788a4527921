"""Average spectra on a logarithmic axis."""

from __future__ import annotations

from collections.abc import Iterable
from functools import lru_cache

import numpy as np
from scipy import fft

from pondel.core.dsp.compiled import kernel, plain

POINTS_PER_OCTAVE = 24
LOW_HZ = 20.0
HIGH_HZ = 20000.0
BAND_OCTAVES = 1 / 6
AVERAGE_S, PEAK_S = 0.68, 0.17
"""Lengths of the windows for an average, and for the highest of all of them."""


def axis_hz() -> np.ndarray:
    """Centre frequencies of the points, 24 to the octave from 20 Hz to 20 kHz."""
    points = int(np.floor(np.log2(HIGH_HZ / LOW_HZ) * POINTS_PER_OCTAVE)) + 1
    return LOW_HZ * 2.0 ** (np.arange(points) / POINTS_PER_OCTAVE)


@kernel(error_model="numpy", fastmath={"contract", "nsz"})
def _add_power(bins, total):
    """Add the channels' mean power of complex64 (frames, channels, bins) to float64 (bins,)."""
    share = np.float32(1.0 / bins.shape[1])
    for f in range(bins.shape[0]):
        for c in range(bins.shape[1]):
            given = bins[f, c]
            for i in range(total.size):
                total[i] += share * (given[i].real * given[i].real + given[i].imag * given[i].imag)


@kernel(error_model="numpy")
def _cut(samples, hop, window, frames):
    """Windowed frames of (frames, channels), one every `hop`: (count, channels, size)."""
    for n in range(frames.shape[0]):
        for c in range(frames.shape[1]):
            row = frames[n, c]
            for i in range(row.size):
                row[i] = samples[n * hop + i, c] * window[i]


@lru_cache(maxsize=8)
def _hann(size: int) -> np.ndarray:
    from scipy.signal import get_window

    return get_window("hann", size).astype(np.float32)


class AverageSpectrum:
    """Mean power in a sixth of an octave around each point, as blocks pass.

    Power spectra are averaged (Welch 1967, Hann window, half overlap; 1.5 Hz bins at 48 kHz),
    then summed between the band edges, so that the power of a sine reads the same wherever it
    lies. With `peak` it is the highest that each band has had in any window instead.
    """

    def __init__(self, rate: int, *, peak: bool = False) -> None:
        self._rate = rate
        self._highest: np.ndarray | None = np.zeros(axis_hz().size) if peak else None
        self.size = 1 << round(np.log2(rate * (PEAK_S if peak else AVERAGE_S)))
        self._window = _hann(self.size)
        self._power = np.zeros(self.size // 2 + 1)
        self._count = 0
        self._waiting: np.ndarray | None = None

    def write(self, block: np.ndarray) -> None:
        """Add float32 (frames, channels)."""
        joined = block if self._waiting is None else np.concatenate([self._waiting, block])
        hop = self.size // 2
        count = max(0, (joined.shape[0] - self.size) // hop + 1)
        if count:
            frames = np.empty((count, joined.shape[1], self.size), np.float32)
            _cut(plain(joined), hop, self._window, frames)
            self._add(frames)
            joined = joined[count * hop :]
        self._waiting = joined

    def _add(self, frames: np.ndarray) -> None:
        """Add windowed frames, float32 (frames, channels, size)."""
        bins = fft.rfft(frames, axis=2)
        self._count += frames.shape[0]
        if self._highest is None:
            _add_power(bins, self._power)
            return
        for one in (bins.real**2 + bins.imag**2).mean(axis=1):
            self._highest = np.maximum(self._highest, self._in_bands(one))

    def levels_db(self) -> np.ndarray:
        """dBFS (RMS) in the band around each point of `axis_hz`."""
        if self._waiting is not None and self._waiting.shape[0] and self._count == 0:
            frame = np.zeros((1, self._waiting.shape[1], self.size), np.float32)
            frame[0, :, : self._waiting.shape[0]] = self._waiting[: self.size].T
            self._add(frame * self._window)
        found = self._highest
        if found is None:
            found = self._in_bands(self._power / max(self._count, 1))
        return 10.0 * np.log10(np.maximum(found, 1e-14))

    def _in_bands(self, power: np.ndarray) -> np.ndarray:
        """Mean square in the band around each point, of powers in bins."""
        scale = 2.0 / (self.size * float((self._window.astype(np.float64) ** 2).sum()))
        below = np.concatenate([[0.0], np.cumsum(power * scale)])
        edges = (np.arange(below.size) - 0.5) * self._rate / self.size
        hz = axis_hz()
        upper = np.interp(hz * 2 ** (BAND_OCTAVES / 2), edges, below)
        lower = np.interp(hz * 2 ** (-BAND_OCTAVES / 2), edges, below)
        return upper - lower


def moving_spectrum(samples: np.ndarray, rate: int, at_s: np.ndarray) -> np.ndarray:
    """Levels in dBFS at `axis_hz` around moments of float32 (frames, channels): (moments, points).

    Each is one window of a sixth of a second with its middle at the moment; silence lies around.
    """
    levels = np.empty((at_s.size, axis_hz().size), np.float32)
    for n, moment_s in enumerate(at_s):
        spectrum = AverageSpectrum(rate, peak=True)
        first = round(moment_s * rate) - spectrum.size // 2
        piece = samples[max(0, first) : max(0, first + spectrum.size)]
        before = max(0, -first)
        after = spectrum.size - before - piece.shape[0]
        spectrum.write(np.pad(piece, ((before, after), (0, 0))))
        levels[n] = spectrum.levels_db()
    return levels


def average_spectrum(blocks: Iterable[np.ndarray], rate: int, *, peak: bool = False) -> np.ndarray:
    """Levels in dBFS at `axis_hz` of a stream of blocks, on average or at their highest."""
    spectrum = AverageSpectrum(rate, peak=peak)
    for block in blocks:
        spectrum.write(block)
    return spectrum.levels_db()
