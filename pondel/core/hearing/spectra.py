"""Short-time power in narrow bands, with windows that fit the ear: long for lows, short for highs.

The signal is decimated for the low bands, so that all three windows cost about the same. After
the multi-resolution spectra of Glasberg and Moore, "A model of loudness applicable to
time-varying sounds", JAES 50(5), 2002, section 2.3, with three windows instead of six.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from scipy import fft

from pondel.core.dsp.compiled import kernel, plain
from pondel.core.dsp.decimate import Decimator
from pondel.core.hearing.scale import BANDS_HZ, band_edges_hz

FRAME_S = 0.010
LOW_TOP_HZ = 420.0
MIDDLE_TOP_HZ = 1900.0
SPAN, FADED_IN, AHEAD = 14.0, 6.0, 2.4
"""Length of a window, of its first rise, and how far it looks ahead, in its decay times."""
BATCH = 152
MOST = np.float32(1e6)
HIGHEST_BASE_RATE = 64000


@dataclass(frozen=True)
class Layer:
    """One resolution: how far the signal is decimated, the window, and how bins become bands."""

    factor: int
    size: int
    ahead: int
    """How many of a frame's samples lie after the moment it stands for."""
    padded: int
    window: np.ndarray
    weights: np.ndarray
    """float32 (bands of this layer, most bins): shares of bins' power, scaled to mean square."""
    first_bins: np.ndarray
    first_band: int
    last_band: int


def base_factor(rate: int) -> int:
    """By how much a rate is divided before anything else: to 64 kHz at most."""
    factor = 1
    while rate / factor > HIGHEST_BASE_RATE:
        factor *= 2
    return factor


def _window(size: int, decay: float) -> np.ndarray:
    """Rises slowly out of the past and ends at once: t^3 exp(-t / decay), t samples before its end.

    The envelope of a gammatone filter (Patterson and others 1992): its spectrum has no side lobes,
    1 / (1 + w^2 decay^2)^2, and what is yet to come does not enter into it.
    """
    age = np.arange(size)[::-1] + 0.5
    window = (age / decay) ** 3 * np.exp(-age / decay)
    window *= np.sin(0.5 * np.pi * np.clip((SPAN - age / decay) / FADED_IN, 0.0, 1.0)) ** 2
    return window / window.max()


def _layer(rate: float, factor: int, decay_s: float, low_hz: float, high_hz: float) -> Layer:
    own = rate / factor
    size = round(SPAN * decay_s * own)
    padded = fft.next_fast_len(size, real=True)
    window = _window(size, decay_s * own)
    scale = 2.0 / (padded * float((window**2).sum()))
    edges = band_edges_hz()
    chosen = np.flatnonzero((low_hz <= BANDS_HZ) & (high_hz > BANDS_HZ))
    bins = fft.rfftfreq(padded, 1 / own)
    half = own / padded / 2
    lows, highs = edges[chosen], edges[chosen + 1]
    overlap = np.minimum(bins[:, None] + half, highs) - np.maximum(bins[:, None] - half, lows)
    whole = (np.clip(overlap, 0.0, None) / (2 * half) * scale).T
    first_bins = (whole > 0).argmax(axis=1)
    most = int((whole > 0).sum(axis=1).max())
    first_bins = np.minimum(first_bins, bins.size - most)
    weights = np.stack(
        [row[first : first + most] for row, first in zip(whole, first_bins, strict=True)]
    )
    return Layer(
        factor,
        size,
        round(AHEAD * decay_s * own),
        padded,
        window.astype(np.float32),
        np.ascontiguousarray(weights, np.float32),
        first_bins,
        int(chosen[0]),
        int(chosen[-1]) + 1,
    )


@lru_cache(maxsize=8)
def layers(base_rate: float) -> tuple[Layer, Layer, Layer]:
    """The three resolutions for a rate of 32 to 64 kHz."""
    return (
        _layer(base_rate, 1, 0.0015, MIDDLE_TOP_HZ, 1e6),
        _layer(base_rate, 4, 0.003, LOW_TOP_HZ, MIDDLE_TOP_HZ),
        _layer(base_rate, 16, 0.009, 0.0, LOW_TOP_HZ),
    )


@kernel(error_model="numpy")
def _finite(block, wide):
    """Copy (frames, channels) to (channels, frames) with silence for what is not a number."""
    for c in range(wide.shape[0]):
        for i in range(wide.shape[1]):
            x = block[i, c]
            wide[c, i] = x if abs(x) < MOST else np.float32(0.0)


@kernel(error_model="numpy", fastmath={"contract", "nsz", "reassoc"})
def _cut(signal, starts, window, out):
    """Windowed frames without their mean, which nobody hears and which would leak upwards.

    Returns whether there is anything in them.
    """
    whole, anything = np.float32(0.0), np.float32(0.0)
    for i in range(window.size):
        whole += window[i]
    for k in range(starts.size):
        given = signal[starts[k] : starts[k] + window.size]
        row = out[k]
        total = np.float32(0.0)
        for i in range(window.size):
            row[i] = given[i] * window[i]
            total += row[i]
            anything += abs(given[i])
        mean = total / whole
        for i in range(window.size):
            row[i] -= mean * window[i]
    return anything > 0


@kernel(error_model="numpy", fastmath={"contract", "nsz"})
def _add_power(bins, total):
    for k in range(total.shape[0]):
        given, row = bins[k], total[k]
        for i in range(row.size):
            row[i] += given[i].real * given[i].real + given[i].imag * given[i].imag


@kernel(error_model="numpy", fastmath={"contract", "nsz", "reassoc"})
def _sort_into_bands(power, weights, first_bins, out):
    for f in range(power.shape[0]):
        for b in range(weights.shape[0]):
            given = power[f, first_bins[b] : first_bins[b] + weights.shape[1]]
            row = weights[b]
            total = np.float32(0.0)
            for i in range(row.size):
                total += given[i] * row[i]
            out[f, b] = total


class _LayerAtWork:
    """Cuts one resolution's frames out of a signal that arrives in pieces."""

    def __init__(self, layer: Layer, rate: float, channels: int) -> None:
        self.layer = layer
        self._hop = FRAME_S * rate
        # Silence in front, so that frame n stands for n x 10 ms.
        self._waiting = np.zeros((channels, layer.size - layer.ahead), np.float32)
        self._dropped = 0
        self._next = 0
        self._rows: list[np.ndarray] = []

    def write(self, block: np.ndarray) -> None:
        """Add float32 (channels, frames)."""
        layer = self.layer
        self._waiting = np.concatenate([self._waiting, block], axis=1)
        end = self._dropped + self._waiting.shape[1]
        count = int((end - layer.size) // self._hop) + 1 - self._next
        while count > 0:
            batch = min(count, BATCH)
            starts = np.round((self._next + np.arange(batch)) * self._hop).astype(np.intp)
            self._take(starts - self._dropped)
            self._next += batch
            count -= batch
        used = min(int(self._next * self._hop) - self._dropped, self._waiting.shape[1])
        if used > 0:
            self._waiting = self._waiting[:, used:]
            self._dropped += used

    def _take(self, starts: np.ndarray) -> None:
        layer = self.layer
        cut = np.zeros((starts.size, layer.padded), np.float32)
        total = np.zeros((starts.size, layer.padded // 2 + 1), np.float32)
        for channel in self._waiting:
            if _cut(channel, starts, layer.window, cut):
                _add_power(fft.rfft(cut, axis=1), total)
        rows = np.empty((starts.size, layer.weights.shape[0]), np.float32)
        _sort_into_bands(total, layer.weights, layer.first_bins, rows)
        self._rows.append(rows)

    def ready(self) -> int:
        """How many frames wait to be taken."""
        return sum(rows.shape[0] for rows in self._rows)

    def take(self, frames: int) -> np.ndarray:
        """The next `frames` of them."""
        joined = np.concatenate([np.zeros((0, self.layer.weights.shape[0]), np.float32), *self._rows])
        self._rows = [joined[frames:]]
        return joined[:frames]


class EarSpectrum:
    """Power in the bands of `BANDS_HZ`, mean of the channels, as blocks pass.

    With `mono` it is the power of the channels' mean instead, as after a mono fold.
    """

    def __init__(self, rate: int, channels: int, *, mono: bool = False) -> None:
        first = base_factor(rate)
        self._mono = mono
        self._kept = 1 if mono else channels
        self._share = np.float32(1.0 / self._kept)
        base = rate / first
        self._first = Decimator(first, self._kept, keep=0.38) if first > 1 else None
        self._fourth = Decimator(4, self._kept, keep=0.19)
        self._sixteenth = Decimator(4, self._kept, keep=0.17)
        self._layers = [_LayerAtWork(layer, base / layer.factor, self._kept) for layer in layers(base)]
        self._frames = 0
        self._taken = 0
        self._rate = rate
        self._last_s = max(layer.size * layer.factor for layer in layers(base)) / base

    def write(self, block: np.ndarray) -> None:
        """Add float32 (frames, channels)."""
        self._frames += block.shape[0]
        wide = np.empty((block.shape[1], block.shape[0]), np.float32)
        _finite(plain(block), wide)
        self._push(wide.mean(axis=0, keepdims=True) if self._mono else wide)

    def _push(self, wide: np.ndarray) -> None:
        if self._first is not None:
            wide = self._first.push(wide)
        lower = self._fourth.push(wide)
        for at_work, signal in zip(
            self._layers, (wide, lower, self._sixteenth.push(lower)), strict=True
        ):
            at_work.write(signal)

    def take(self) -> np.ndarray:
        """The frames that are complete since the last call: float32 (frames, bands), mean square."""
        ready = min(at_work.ready() for at_work in self._layers)
        out = np.zeros((min(ready, self._wanted() - self._taken), BANDS_HZ.size), np.float32)
        for at_work in self._layers:
            first, last = at_work.layer.first_band, at_work.layer.last_band
            out[:, first:last] = at_work.take(ready)[: out.shape[0]]
        self._taken += out.shape[0]
        return out * self._share

    def _wanted(self) -> int:
        return -(-self._frames // round(FRAME_S * self._rate))

    def finish(self) -> np.ndarray:
        """The last frames, once nothing more will be written."""
        silence = round(self._rate * (self._last_s + 2 * FRAME_S))
        self._push(np.zeros((self._kept, silence), np.float32))
        return self.take()


def ear_spectrum(blocks: Iterable[np.ndarray], rate: int, *, mono: bool = False) -> np.ndarray:
    """Power in each band of a stream of float32 blocks (frames, channels).

    Returns float32 (frames, bands), mean square re full scale, a frame every 10 ms.
    """
    return np.concatenate(
        [np.zeros((0, BANDS_HZ.size), np.float32), *ear_frames(blocks, rate, mono=mono)]
    )


def ear_frames(blocks: Iterable[np.ndarray], rate: int, *, mono: bool = False) -> Iterator[np.ndarray]:
    """`ear_spectrum` in pieces, as they become complete."""
    spectrum: EarSpectrum | None = None
    for block in blocks:
        if spectrum is None:
            spectrum = EarSpectrum(rate, block.shape[1], mono=mono)
        spectrum.write(block)
        yield spectrum.take()
    if spectrum is not None:
        yield spectrum.finish()
