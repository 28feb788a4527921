"""Average spectra on a logarithmic axis."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

import numpy as np

from pondel.core.dsp.welch import Welch, Windows

POINTS_PER_OCTAVE = 24
LOW_HZ = 20.0
HIGH_HZ = 20000.0
BAND_OCTAVES = 1 / 6
PEAK_S = 0.17
"""Length of the windows, where it is the highest of all of them that counts."""


def axis_hz() -> np.ndarray:
    """Centre frequencies of the points, 24 to the octave from 20 Hz to 20 kHz."""
    points = int(np.floor(np.log2(HIGH_HZ / LOW_HZ) * POINTS_PER_OCTAVE)) + 1
    return LOW_HZ * 2.0 ** (np.arange(points) / POINTS_PER_OCTAVE)


def levels_db(welch: Welch) -> np.ndarray:
    """dBFS (RMS) in the band around each point of `axis_hz`, mean of the channels."""
    power = welch.mean_of(welch.left + welch.right) / welch.channels
    return _level_db(_in_bands(power, welch.windows))


def highest_spectrum(blocks: Iterable[np.ndarray], rate: int) -> np.ndarray:
    """The highest that each band has had in any window, dBFS at `axis_hz`."""
    windows, highest = Windows(rate, PEAK_S), np.zeros(axis_hz().size)
    for spectra in _as_they_come(windows, blocks):
        power = (spectra.real**2 + spectra.imag**2).mean(axis=0)
        highest = np.maximum(highest, _in_bands(power * windows.scale, windows))
    return _level_db(highest)


def _as_they_come(windows: Windows, blocks: Iterable[np.ndarray]) -> Iterator[np.ndarray]:
    """Complex64 (channels, bins) of each window; no more of them are held than a block completes."""
    for block in blocks:
        yield from windows.cut(block)
    yield from windows.rest()


def _in_bands(power: np.ndarray, windows: Windows) -> np.ndarray:
    """Mean square in a sixth of an octave around each point, of that in bins.

    Summed between the band's edges, so that the power of a sine reads the same wherever it lies.
    """
    half = 2 ** (BAND_OCTAVES / 2)
    return windows.between(power.astype(np.float64), axis_hz() / half, axis_hz() * half)


def _level_db(power: np.ndarray) -> np.ndarray:
    return 10.0 * np.log10(np.maximum(power, 1e-14))


def moving_spectrum(samples: np.ndarray, rate: int, at_s: np.ndarray) -> np.ndarray:
    """Levels in dBFS at `axis_hz` around moments of float32 (frames, channels): (moments, points).

    Each is one window of a sixth of a second with its middle at the moment; silence lies around.
    """
    levels = np.empty((at_s.size, axis_hz().size), np.float32)
    size = Windows(rate, PEAK_S).size
    for n, moment_s in enumerate(at_s):
        first = round(moment_s * rate) - size // 2
        piece = samples[max(0, first) : max(0, first + size)]
        before = max(0, -first)
        after = size - before - piece.shape[0]
        levels[n] = highest_spectrum([np.pad(piece, ((before, after), (0, 0)))], rate)
    return levels


def average_spectrum(blocks: Iterable[np.ndarray], rate: int, *, peak: bool = False) -> np.ndarray:
    """Levels in dBFS at `axis_hz` of a stream of blocks, on average or at their highest."""
    if peak:
        return highest_spectrum(blocks, rate)
    welch = Welch(rate)
    for block in blocks:
        welch.write(block)
    return levels_db(welch)
