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

from pondel.core.dsp.matched import response
from pondel.core.dsp.weighting import k_weighting
from pondel.core.dsp.welch import Welch, Windows

POINTS_PER_OCTAVE = 24
LOW_HZ, HIGH_HZ = 20.0, 20_000.0
TONE_HZ = LOW_HZ * 2.0 ** (
    np.arange(int(np.log2(HIGH_HZ / LOW_HZ) * POINTS_PER_OCTAVE) + 1) / POINTS_PER_OCTAVE
)
"""Where the power of a tone is known: 24 points to the octave."""
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


class Loudest:
    """Finds where sound has most energy over EXCERPT_S, as blocks pass."""

    def __init__(self, windows: Windows) -> None:
        self._step, self._rate = windows.size // 2, windows.rate
        self._energies: list[np.ndarray] = []
        self._rest: np.ndarray | None = None

    def write(self, block: np.ndarray) -> None:
        """Add float32 (frames, channels)."""
        joined = block if self._rest is None else np.concatenate([self._rest, block])
        count = joined.shape[0] // self._step
        steps = joined[: count * self._step].reshape(count, self._step * joined.shape[1])
        self._energies.append(np.einsum("ij,ij->i", steps, steps, dtype=np.float64))
        self._rest = joined[count * self._step :]

    def start_s(self) -> float:
        """Where the seconds with most of it begin, on the grid of half windows."""
        energies = np.concatenate([np.empty(0), *self._energies])
        step_s = self._step / self._rate
        count = round(EXCERPT_S / step_s)
        if energies.size <= count:
            return 0.0
        return float(np.argmax(np.convolve(energies, np.ones(count), "valid"))) * step_s


def tone_from(welch: Welch, loudest_s: float) -> Tone:
    """The tone of all that was written."""
    half = 2.0 ** (0.5 / POINTS_PER_OCTAVE)

    def around(bins: np.ndarray) -> np.ndarray:
        return welch.windows.between(bins, TONE_HZ / half, TONE_HZ * half)

    return Tone(around(welch.left), around(welch.right), around(welch.common), loudest_s)


def tone_of(blocks: Iterable[np.ndarray], rate: int) -> Tone:
    """The tone of a stream of float32 blocks (frames, channels)."""
    welch = Welch(rate)
    loudest = Loudest(welch.windows)
    for block in blocks:
        welch.write(block)
        loudest.write(block)
    return tone_from(welch, loudest.start_s())
