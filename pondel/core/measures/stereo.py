"""Left against right: correlation, by band and over time, and middle against sides."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np

from pondel.core.dsp.compiled import kernel, plain
from pondel.core.dsp.welch import Welch
from pondel.core.measures.spectrum import average_spectrum

BAND_EDGES_HZ = (20.0, 60.0, 120.0, 250.0, 500.0, 1000.0, 2000.0, 4000.0, 8000.0, 20000.0)
STEP_S = 0.1
SILENT_POWER = 1e-11


@dataclass(frozen=True)
class StereoImage:
    """Correlation of the channels from -1 to 1: overall, per band, and every 100 ms.

    Where there is no sound, or it is all in one channel, correlation is None. `side_db` is the
    power of the sides against the middle; `mono_loss_db` what the mean of the channels has less
    than they have on average.
    """

    correlation: float | None
    bands: tuple[float | None, ...]
    over_time: tuple[float | None, ...]
    side_db: float | None
    mono_loss_db: float | None


def correlation_of(cross: float, left: float, right: float) -> float | None:
    """Normalised correlation from a cross power and the powers of both channels."""
    if min(left, right) <= SILENT_POWER:
        return None
    return float(np.clip(cross / np.sqrt(left * right), -1.0, 1.0))


def mono_loss_db(cross: float, left: float, right: float) -> float | None:
    """What the mean of two channels has less than they have on average, from their mean products.

    0 where both are alike, -3 dB where they have nothing to do with each other; None in silence.
    """
    middle, both = (left + right + 2 * cross) / 4, (left + right) / 2
    return float(10 * np.log10(max(middle, 1e-20) / both)) if both > SILENT_POWER else None


@kernel(error_model="numpy", fastmath={"contract", "reassoc", "nsz"})
def _add_up(pair, step, products):
    """Left by right, left by left and right by right in each step of (frames, 2): (3, steps)."""
    for k in range(products.shape[1]):
        cross, left, right = 0.0, 0.0, 0.0
        for i in range(k * step, (k + 1) * step):
            a, b = np.float64(pair[i, 0]), np.float64(pair[i, 1])
            cross += a * b
            left += a * a
            right += b * b
        products[0, k], products[1, k], products[2, k] = cross, left, right


class StereoMeter:
    """Collects as blocks pass; a mono part is its own left and right."""

    def __init__(self, rate: int) -> None:
        self._step = round(STEP_S * rate)
        self._times: list[np.ndarray] = []
        self._rest = np.empty((0, 2), np.float32)

    def write(self, block: np.ndarray) -> None:
        """Add float32 (frames, channels)."""
        pair = np.repeat(block, 2, axis=1) if block.shape[1] == 1 else block
        joined = np.concatenate([self._rest, pair])
        count = joined.shape[0] // self._step
        self._rest = joined[count * self._step :]
        products = np.empty((3, count))
        _add_up(plain(joined), self._step, products)
        self._times.append(products / self._step)

    def image(self, welch: Welch) -> StereoImage:
        """Everything so far; `welch` has got the same blocks."""
        times = np.concatenate([np.empty((3, 0)), *self._times], axis=1)
        if not times.shape[1]:
            return StereoImage(None, (None,) * (len(BAND_EDGES_HZ) - 1), (), None, None)
        cross, left, right = times.mean(axis=1)
        middle, side = (left + right + 2 * cross) / 4, (left + right - 2 * cross) / 4
        heard = (left + right) / 2 > SILENT_POWER
        return StereoImage(
            correlation_of(cross, left, right),
            tuple(correlation_of(*column) for column in _by_band(welch).T),
            tuple(correlation_of(*column) for column in times.T),
            float(10 * np.log10(max(side, 1e-20) / max(middle, 1e-20))) if heard else None,
            mono_loss_db(cross, left, right),
        )


def _by_band(welch: Welch) -> np.ndarray:
    """Mean products between the edges, (3, bands): in common, left, right."""
    left, edges_hz = welch.left, np.array(BAND_EDGES_HZ)
    all_three = (left, left, left) if welch.channels == 1 else (welch.common.real, left, welch.right)
    between = welch.windows.between
    return np.stack([between(welch.mean_of(one), edges_hz[:-1], edges_hz[1:]) for one in all_three])


def stereo_image(blocks: Iterable[np.ndarray], rate: int) -> StereoImage:
    """The stereo image of a stream of float32 blocks (frames, channels)."""
    meter, welch = StereoMeter(rate), Welch(rate)
    for block in blocks:
        meter.write(block)
        welch.write(block)
    return meter.image(welch)


def middle_and_side(samples: np.ndarray, rate: int) -> tuple[np.ndarray, np.ndarray]:
    """Average spectra of the middle and the sides of (frames, 2), dBFS at `axis_hz`."""
    pair = np.repeat(samples, 2, axis=1) if samples.shape[1] == 1 else samples
    middle = (pair[:, :1] + pair[:, 1:]) / 2
    side = (pair[:, :1] - pair[:, 1:]) / 2
    return average_spectrum([middle], rate), average_spectrum([side], rate)
