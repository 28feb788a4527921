"""Left against right: correlation, by band and over time, and middle against sides."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np
from scipy import fft

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


class StereoMeter:
    """Collects as blocks pass; a mono part is its own left and right."""

    def __init__(self, rate: int) -> None:
        from scipy.signal import get_window

        self._step = round(STEP_S * rate)
        self._window = get_window("hann", self._step).astype(np.float32)
        hz = fft.rfftfreq(self._step, 1 / rate)
        self._edges = np.searchsorted(hz, BAND_EDGES_HZ)
        self._bands = np.zeros((3, len(BAND_EDGES_HZ) - 1))
        self._times: list[np.ndarray] = []
        self._rest = np.empty((0, 2), np.float32)

    def write(self, block: np.ndarray) -> None:
        """Add float32 (frames, channels)."""
        pair = np.repeat(block, 2, axis=1) if block.shape[1] == 1 else block
        joined = np.concatenate([self._rest, pair])
        count = joined.shape[0] // self._step
        frames = joined[: count * self._step].reshape(count, self._step, 2)
        self._rest = joined[count * self._step :]
        if not count:
            return
        left, right = frames[:, :, 0], frames[:, :, 1]
        products = [(left * right), (left * left), (right * right)]
        self._times.append(np.stack([p.mean(axis=1, dtype=np.float64) for p in products]))
        a, b = (fft.rfft(x * self._window, axis=1) for x in (left, right))
        powers = [(a * b.conj()).real, np.abs(a) ** 2, np.abs(b) ** 2]
        for n, power in enumerate(powers):
            below = np.concatenate([[0.0], np.cumsum(power.sum(axis=0, dtype=np.float64))])
            self._bands[n] += np.diff(below[np.minimum(self._edges, below.size - 1)])

    def image(self) -> StereoImage:
        """Everything so far."""
        if not self._times:
            return StereoImage(None, (None,) * self._bands.shape[1], (), None, None)
        times = np.concatenate(self._times, axis=1)
        cross, left, right = times.mean(axis=1)
        scale = 2.0 / (self._step * float((self._window**2).sum()) * times.shape[1])
        middle, side = (left + right + 2 * cross) / 4, (left + right - 2 * cross) / 4
        heard = (left + right) / 2 > SILENT_POWER
        return StereoImage(
            correlation_of(cross, left, right),
            tuple(correlation_of(*column) for column in (self._bands * scale).T),
            tuple(correlation_of(*column) for column in times.T),
            float(10 * np.log10(max(side, 1e-20) / max(middle, 1e-20))) if heard else None,
            mono_loss_db(cross, left, right),
        )


def stereo_image(blocks: Iterable[np.ndarray], rate: int) -> StereoImage:
    """The stereo image of a stream of float32 blocks (frames, channels)."""
    meter = StereoMeter(rate)
    for block in blocks:
        meter.write(block)
    return meter.image()


def middle_and_side(samples: np.ndarray, rate: int) -> tuple[np.ndarray, np.ndarray]:
    """Average spectra of the middle and the sides of (frames, 2), dBFS at `axis_hz`."""
    pair = np.repeat(samples, 2, axis=1) if samples.shape[1] == 1 else samples
    middle = (pair[:, :1] + pair[:, 1:]) / 2
    side = (pair[:, :1] - pair[:, 1:]) / 2
    return average_spectrum([middle], rate), average_spectrum([side], rate)
