"""The average spectrum of a recording with what left and right have in common.

tone = tone_of(blocks, rate)
tone.loudness_change_db(matrix)      # what a linear treatment does to its loudness
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from functools import lru_cache
from typing import Any

import numpy as np
from scipy import fft

from pondel.core.dsp.matched import response
from pondel.core.dsp.weighting import k_weighting

POINTS_PER_OCTAVE = 24
LOW_HZ, HIGH_HZ = 20.0, 20_000.0
TONE_HZ = LOW_HZ * 2.0 ** (
    np.arange(int(np.log2(HIGH_HZ / LOW_HZ) * POINTS_PER_OCTAVE) + 1) / POINTS_PER_OCTAVE
)
"""Where the power of a tone is known: 24 points to the octave."""
WINDOW_S = 0.68
EXCERPT_S = 2.0
"""How much of a recording stands for its loud places."""


@lru_cache(maxsize=8)
def _weights(rate: int) -> np.ndarray:
    """K-weighting of power (ITU-R BS.1770) at TONE_HZ."""
    w = 2.0 * np.pi * np.minimum(TONE_HZ, 0.49 * rate) / rate
    return np.abs(response(k_weighting(rate), w)) ** 2


@dataclass(frozen=True)
class Excerpt:
    """The loudest seconds of a recording in mono, float32, read when they are asked for."""

    name: str
    """What it is of: two of one name are alike."""
    read: Callable[[], np.ndarray] = field(compare=False)


@dataclass(frozen=True)
class Tone:
    """Power around each of TONE_HZ: of left, of right, and in common (complex, left times right
    turned); and where the recording is loudest.

    A mono recording is all left, and has nothing right.
    """

    left: np.ndarray
    right: np.ndarray
    common: np.ndarray
    loudest_s: float = 0.0
    """Where its loudest EXCERPT_S begin."""
    excerpt: Excerpt | None = None

    def as_json(self) -> dict[str, Any]:
        rows = {"left": self.left, "right": self.right}
        return {name: row.tolist() for name, row in rows.items()} | {
            "re": self.common.real.tolist(),
            "im": self.common.imag.tolist(),
            "loudest_s": self.loudest_s,
        }

    @classmethod
    def from_json(cls, body: dict[str, Any]) -> Tone:
        common = np.array(body["re"]) + 1j * np.array(body["im"])
        return cls(np.array(body["left"]), np.array(body["right"]), common, body["loudest_s"])

    def loudness_change_db(self, matrix: np.ndarray, rate: int) -> float:
        """What a linear treatment does to the K-weighted power, 0 for silence.

        `matrix` is complex (points, 2, 2): left and right after it, of left and right before.
        """
        before = self.left + self.right
        after = np.zeros_like(before)
        for out in (0, 1):
            of_left, of_right = matrix[:, out, 0], matrix[:, out, 1]
            after += np.abs(of_left) ** 2 * self.left + np.abs(of_right) ** 2 * self.right
            after += 2.0 * np.real(of_left * np.conj(of_right) * self.common)
        weights = _weights(rate)
        whole, left_over = float((weights * before).sum()), float((weights * after).sum())
        return 10.0 * np.log10(left_over / whole) if whole > 0.0 and left_over > 0.0 else 0.0


PINK = Tone(np.ones(TONE_HZ.size), np.zeros(TONE_HZ.size), np.zeros(TONE_HZ.size, complex))
"""Pink noise in mono: as much power in every part of an octave."""


class ToneMeter:
    """Collects a tone as blocks pass (Welch 1967, Hann window, half overlap)."""

    def __init__(self, rate: int) -> None:
        from scipy.signal import get_window

        self._rate = rate
        self._size = 1 << round(np.log2(rate * WINDOW_S))
        self._window = get_window("hann", self._size).astype(np.float32)
        self._sums = np.zeros((3, self._size // 2 + 1), complex)
        self._powers: list[float] = []
        self._waiting: np.ndarray | None = None

    def write(self, block: np.ndarray) -> None:
        """Add float32 (frames, channels)."""
        joined = block if self._waiting is None else np.concatenate([self._waiting, block])
        while joined.shape[0] >= self._size:
            self._add(joined[: self._size])
            joined = joined[self._size // 2 :]
        self._waiting = joined

    def _add(self, frame: np.ndarray) -> None:
        bins = fft.rfft(frame.T * self._window, self._size, axis=1)
        self._sums[0] += np.abs(bins[0]) ** 2
        if bins.shape[0] > 1:
            self._sums[1] += np.abs(bins[1]) ** 2
            self._sums[2] += bins[0] * np.conj(bins[1])
        self._powers.append(float(np.sum(frame.astype(np.float64) ** 2)))

    def tone(self) -> Tone:
        """The tone of everything so far."""
        if not self._powers and self._waiting is not None and self._waiting.shape[0]:
            missing = self._size - self._waiting.shape[0]
            self._add(np.pad(self._waiting, ((0, missing), (0, 0))))
        edges = (np.arange(self._size // 2 + 2) - 0.5) * self._rate / self._size
        half = 2.0 ** (0.5 / POINTS_PER_OCTAVE)
        bands = []
        for row in self._sums:
            below = np.concatenate([[0.0], np.cumsum(row)])
            upper, lower = (np.interp(TONE_HZ * f, edges, below) for f in (half, 1.0 / half))
            bands.append(upper - lower)
        return Tone(bands[0].real, bands[1].real, bands[2], self._loudest_s())

    def _loudest_s(self) -> float:
        step_s = self._size / 2 / self._rate
        count = max(1, round(EXCERPT_S / step_s) - 1)
        if len(self._powers) <= count:
            return 0.0
        return float(np.argmax(np.convolve(self._powers, np.ones(count), "valid"))) * step_s


def tone_of(blocks: Iterable[np.ndarray], rate: int) -> Tone:
    """The tone of a stream of float32 blocks (frames, channels)."""
    meter = ToneMeter(rate)
    for block in blocks:
        meter.write(block)
    return meter.tone()
