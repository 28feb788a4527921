"""How strongly each place along the ear's frequency scale is driven, moment by moment.

A first, simple form: fixed rounded-exponential filters on the ERB-number scale (Moore and
Glasberg 1983; Glasberg and Moore 1990, equations 3 and 4), without level-dependent spread,
and an absolute threshold after Terhardt (1979).
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from scipy.signal import get_window

FRAME_S = 0.020
WINDOW_S = 0.085
LOWEST_CAM = 1.0
HIGHEST_CAM = 38.0
CAM_STEP = 0.5
REFERENCE_DBFS = -20.0


def cam_of(hz: np.ndarray | float) -> np.ndarray:
    """ERB number of a frequency (Glasberg and Moore 1990, equation 4)."""
    return 21.366 * np.log10(0.004368 * np.asarray(hz) + 1.0)


def hz_of(cam: np.ndarray | float) -> np.ndarray:
    """Frequency of an ERB number."""
    return (10.0 ** (np.asarray(cam) / 21.366) - 1.0) / 0.004368


def erb_hz(hz: np.ndarray | float) -> np.ndarray:
    """Equivalent rectangular bandwidth (Glasberg and Moore 1990, equation 3)."""
    return 24.673 * (0.004368 * np.asarray(hz) + 1.0)


CENTRES_HZ = hz_of(np.arange(LOWEST_CAM, HIGHEST_CAM + 1e-9, CAM_STEP))


def threshold_db_spl(hz: np.ndarray) -> np.ndarray:
    """Threshold in quiet (Terhardt 1979, equation 1)."""
    khz = np.asarray(hz) / 1000.0
    return 3.64 * khz**-0.8 - 6.5 * np.exp(-0.6 * (khz - 3.3) ** 2) + 1e-3 * khz**4


@dataclass(frozen=True)
class Excitation:
    """Power at each place relative to 0 dB SPL, float32 (frames, bands), a frame every 20 ms."""

    power: np.ndarray

    def together_with(self, other: Excitation) -> Excitation:
        """Both at once: powers add."""
        return Excitation(self.power + other.power)


@lru_cache(maxsize=8)
def _filters(rate: int, size: int) -> np.ndarray:
    """Weights of each FFT bin in each band, float32 (bins, bands)."""
    bins = np.fft.rfftfreq(size, 1.0 / rate)[:, np.newaxis]
    centres = CENTRES_HZ[np.newaxis, :]
    sharpness = 4.0 * centres / erb_hz(centres)
    away = sharpness * np.abs(bins - centres) / centres
    weights = (1.0 + away) * np.exp(-away)
    weights[bins[:, 0] < 15.0] = 0.0
    return weights.astype(np.float32)


def excite(blocks: Iterable[np.ndarray], rate: int, listening_level_db_spl: float = 83.0) -> Excitation:
    """Excitation of a stream of float32 blocks (frames, channels).

    -20 dBFS RMS plays at the listening level; the power of the channels is averaged.
    """
    size = 1 << round(np.log2(rate * WINDOW_S))
    hop = round(rate * FRAME_S)
    window = get_window("hann", size).astype(np.float32)
    calibration_db = listening_level_db_spl - REFERENCE_DBFS
    scale = 2.0 / (size * float((window.astype(np.float64) ** 2).sum())) * 10 ** (calibration_db / 10)
    weights = _filters(rate, size) * np.float32(scale)
    rows: list[np.ndarray] = []
    # Half a window of silence in front, so that frame n is centred on n x 20 ms.
    waiting: np.ndarray | None = None
    for block in blocks:
        if waiting is None:
            waiting = np.zeros((size // 2, block.shape[1]), np.float32)
        waiting = np.concatenate([waiting, block])
        waiting = _take(waiting, window, hop, weights, rows)
    if waiting is None:
        return Excitation(np.zeros((0, CENTRES_HZ.size), np.float32))
    end = np.zeros((size // 2, waiting.shape[1]), np.float32)
    _take(np.concatenate([waiting, end]), window, hop, weights, rows)
    return Excitation(np.concatenate(rows) if rows else np.zeros((0, CENTRES_HZ.size), np.float32))


def _take(waiting, window, hop, weights, rows) -> np.ndarray:
    size = window.size
    count = (waiting.shape[0] - size) // hop + 1
    if count <= 0:
        return waiting
    frames = np.lib.stride_tricks.sliding_window_view(waiting, size, axis=0)[: count * hop : hop]
    for first in range(0, count, 256):
        bins = np.fft.rfft(frames[first : first + 256] * window, axis=2)
        power = (bins.real**2 + bins.imag**2).mean(axis=1).astype(np.float32)
        rows.append(power @ weights)
    return waiting[count * hop :]
