"""Bands that add up flat: Linkwitz-Riley crossovers of 24 dB per octave, all-pass compensated.

Linkwitz and Riley, "Active crossover networks for noncoincident drivers", JAES 24(1), 1976: each
side is a Butterworth filter of second order twice over, and both add up to an all-pass of second
order. With several crossovers each band also passes the all-passes of the crossovers it did not
meet (D'Appolito 1987), so that the sum of all bands is all-pass. The linear-phase form takes one
long symmetric kernel a band instead, whose sum is a delay.
"""

from __future__ import annotations

from functools import lru_cache
from itertools import pairwise

import numpy as np
from scipy.fft import irfft, rfftfreq

from pondel.core.dsp.cascade import (
    TAPS,
    TILE,
    Cascade,
    close_tile,
    eight,
    for_each_channel,
    open_tile,
    settle_s,
    through,
)
from pondel.core.dsp.compiled import kernel
from pondel.core.dsp.lanes import even
from pondel.core.dsp.limits import finite
from pondel.core.dsp.partitioned import Partitioned

LINEAR_S = 0.128
TOGETHER = TAPS + 1
"""So many crossovers at once: each takes two of the eight sections that work side by side."""


def _sides(hz: float, rate: int) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Low side, high side and their all-pass sum, as sections."""
    from scipy.signal import butter

    low = butter(2, hz, "lowpass", fs=rate, output="sos")
    high = butter(2, hz, "highpass", fs=rate, output="sos")
    b0, b1, b2 = 1.0, low[0, 4], low[0, 5]
    all_pass = np.array([[b2, b1, b0, 1.0, b1, b2]])
    return np.concatenate([low, low]), np.concatenate([high, high]), all_pass


def band_biquads(crossovers_hz: list[float], rate: int) -> list[np.ndarray]:
    """The sections of each band, lowest first; their outputs add up to an all-pass."""
    parts = [_sides(hz, rate) for hz in crossovers_hz]
    bands = []
    for n in range(len(parts) + 1):
        rows = [high for _, high, _ in parts[:n]]
        if n < len(parts):
            rows.append(parts[n][0])
        rows += [all_pass for _, _, all_pass in parts[n + 1 :]]
        bands.append(np.concatenate(rows) if rows else np.zeros((0, 6)))
    return bands


def all_passes(crossovers_hz: list[float], rate: int) -> np.ndarray:
    """What all bands add up to, as sections: the all-pass of each crossover."""
    return np.concatenate([_sides(hz, rate)[2] for hz in crossovers_hz])


class AllPass:
    """What all bands add up to while nothing is done to them, at work."""

    latency = 0

    def __init__(self, crossovers_hz: list[float], rate: int, channels: int) -> None:
        self._cascade = Cascade(all_passes(crossovers_hz, rate), channels)

    def process(self, block: np.ndarray, key: np.ndarray | None) -> np.ndarray:
        """Float32 (frames, channels); there is nothing to listen to."""
        return self._cascade.process(np.ascontiguousarray(block, np.float32))


@kernel(error_model="numpy")
def _copy_tile(tile, size, out):
    for c in range(tile.shape[0]):
        one, other = tile[c], out[c]
        for i in range(size):
            other[i] = one[i]


@kernel(error_model="numpy")
def _split(block, lows, sizes, highs, low_states, high_states, bands):
    """Bands (bands, frames, channels) of a block, tile by tile.

    lows (crossovers, most sections, channels, 6), `sizes` of each; highs (2 x crossovers, channels, 6);
    states likewise, 2 each.
    """
    frames, last, channels = block.shape[0], lows.shape[0], highs.shape[1]
    # What comes to each of some crossovers, and what lies above the last of them.
    sides = np.zeros((TOGETHER, channels, TILE))
    high = np.zeros((channels, TILE))
    for start in range(0, frames, TILE):
        size = min(TILE, frames - start)
        open_tile(block[start : start + size], high)
        for first in range(0, last, TOGETHER):
            end = min(first + TOGETHER, last)
            _copy_tile(high, size, sides[0])
            for c in range(0, channels, 2):
                pair, both = slice(c, c + 2), slice(2 * first, 2 * end)
                if end - first == 1:
                    through(high[c], high[c + 1], size, highs[both, pair], high_states[both, pair])
                else:
                    taps = sides[1:, pair]
                    eight(high[c], high[c + 1], size, highs[both, pair], high_states[both, pair], taps)
                for n in range(first, end):
                    low, used = sides[n - first], slice(0, sizes[n])
                    through(low[c], low[c + 1], size, lows[n, used, pair], low_states[n, used, pair])
            for n in range(first, end):
                close_tile(sides[n - first], bands[n, start : start + size])
        close_tile(high, bands[last, start : start + size])


class Crossover:
    """Splits a signal into bands, with minimum phase and no latency.

    What lies above a crossover goes on to the next one, so that no filter runs twice.
    """

    latency = 0

    def __init__(self, crossovers_hz: list[float], rate: int, channels: int) -> None:
        parts = [_sides(hz, rate) for hz in crossovers_hz]
        lows = [
            np.concatenate([low, *(all_pass for _, _, all_pass in parts[n + 1 :])])
            for n, (low, _, _) in enumerate(parts)
        ]
        self._sizes = np.array([sos.shape[0] for sos in lows])
        self._lows = np.zeros((len(parts), int(self._sizes.max()), even(channels), 6))
        for n, sos in enumerate(lows):
            self._lows[n, : sos.shape[0]] = for_each_channel(sos, channels)
        self._highs = np.concatenate([for_each_channel(high, channels) for _, high, _ in parts])
        self._low_states = np.zeros((*self._lows.shape[:3], 2))
        self._high_states = np.zeros((*self._highs.shape[:2], 2))

    def split(self, block: np.ndarray) -> list[np.ndarray]:
        """Bands of float32 (frames, channels), lowest first."""
        bands = np.empty((len(self._sizes) + 1, *block.shape), np.float32)
        states = self._low_states, self._high_states
        _split(block, self._lows, self._sizes, self._highs, *states, bands)
        return list(bands)


@lru_cache(maxsize=16)
def linear_kernels(crossovers_hz: tuple[float, ...], rate: int) -> np.ndarray:
    """Symmetric kernels of odd length, (bands, taps), that add up to one unit pulse."""
    taps = round(LINEAR_S * rate) | 1
    size = 1 << int(np.ceil(np.log2(2 * taps)))
    hz = np.maximum(rfftfreq(size, 1 / rate), 1e-3)
    # The magnitude of a Linkwitz-Riley low side is that of a Butterworth filter squared.
    lows = [1.0 / (1.0 + (hz / cut) ** 4) for cut in crossovers_hz]
    edges = [np.zeros_like(hz), *lows, np.ones_like(hz)]
    window = np.hanning(taps + 2)[1:-1]
    rows = []
    for below, above in pairwise(edges):
        pulse = np.roll(irfft(above - below, size), taps // 2)[:taps]
        rows.append(pulse * window)
    kernels = np.array(rows)
    whole = np.zeros(taps)
    whole[taps // 2] = 1.0
    kernels[int(np.argmax(np.abs(kernels).sum(axis=1)))] += whole - kernels.sum(axis=0)
    return kernels


@lru_cache(maxsize=32)
def _filters(crossovers_hz: tuple[float, ...], rate: int) -> Partitioned:
    """All kernels but the last."""
    return Partitioned(linear_kernels(crossovers_hz, rate)[:-1])


@kernel(error_model="numpy")
def _take_out(band, out, rest):
    """Write float32 (channels, frames) as frames, and take them out of the rest."""
    for i in range(out.shape[0]):
        for c in range(out.shape[1]):
            value = band[c, i]
            out[i, c] = value
            rest[i, c] -= value


class LinearCrossover:
    """Splits a signal into bands with linear phase, late by half of its kernels.

    One transform of the signal serves all bands; the last band is what the others leave of it.
    """

    def __init__(self, crossovers_hz: list[float], rate: int, channels: int) -> None:
        self._filters = _filters(tuple(crossovers_hz), rate)
        self.latency = self._filters.past // 2
        self._held = np.zeros((channels, self._filters.past), np.float32)

    def split(self, block: np.ndarray) -> list[np.ndarray]:
        """Bands of float32 (frames, channels), lowest first."""
        frames = block.shape[0]
        joined = np.concatenate([self._held, finite(block).T], axis=1)
        self._held = joined[:, frames:].copy()
        first = self._filters.past - self.latency
        last = np.ascontiguousarray(joined[:, first : first + frames].T)
        bands = []
        for band in self._filters.valid(joined):
            out = np.empty(last.shape, np.float32)
            _take_out(band, out, last)
            bands.append(out)
        return [*bands, last]


def crossover_settle_s(crossovers_hz: list[float], rate: int = 48000) -> float:
    """Seconds for all bands to forget their past."""
    return max((settle_s(sos, rate) for sos in band_biquads(crossovers_hz, rate)), default=0.0)
