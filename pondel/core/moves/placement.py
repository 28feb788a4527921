"""Where in the stereo field a move acts: everywhere, in the middle, at the sides, left or right."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Literal

import numpy as np

from pondel.core.dsp.delay import DelayLine
from pondel.core.dsp.fold import Fold

Placement = Literal["both", "middle", "sides", "left", "right"]
PLACEMENTS = {
    "both": "left + right",
    "middle": "middle",
    "sides": "sides",
    "left": "left",
    "right": "right",
}
CHANNEL = {"middle": 0, "sides": 1, "left": 0, "right": 1}
FOLDED = ("middle", "sides")
Treat = Callable[[np.ndarray], np.ndarray]


def fold_of(placement: Placement) -> Fold:
    """Where alone what acts there is judged."""
    return placement if placement in ("middle", "sides") else "both"  # type: ignore[return-value]


class Placed:
    """Runs a treatment where it acts, and another beside it on the rest.

    `make(channels)` gives a treatment of float32 (frames, channels); a mono sound is all middle and all
    left, and has neither sides nor right.
    """

    def __init__(
        self,
        make: Callable[[int], Treat],
        beside: Callable[[int], Treat],
        placement: Placement,
        channels: int,
    ) -> None:
        self._channel = CHANNEL.get(placement, 0)
        self._folds = placement in FOLDED
        self.alike = placement == "both" or (channels == 1 and self._channel == 0)
        is_idle = channels == 1 and not self.alike
        self._treat = None if is_idle else make(channels if self.alike else 1)
        self._beside = None if self.alike or is_idle else beside(1)

    def process(self, block: np.ndarray) -> np.ndarray:
        """Treat float32 (frames, channels)."""
        if self._treat is None:
            return block
        if self._beside is None:
            return self._treat(block)
        half = np.float32(0.5)
        left, right = block[:, :1], block[:, 1:]
        pair = [(left + right) * half, (left - right) * half] if self._folds else [left, right]
        pair = [np.ascontiguousarray(one) for one in pair]
        pair[self._channel] = self._treat(pair[self._channel])
        pair[1 - self._channel] = self._beside(pair[1 - self._channel])
        if self._folds:
            return np.hstack([pair[0] + pair[1], pair[0] - pair[1]])
        return np.hstack(pair)


class PlacedProcessor:
    """A processor at work in one place; what is not treated is as late, and turned in phase alike."""

    def __init__(
        self,
        make: Callable[[int], Any],
        in_phase: Callable[[int], Any],
        placement: Placement,
        channels: int,
    ) -> None:
        self.latency = 0
        self._key: np.ndarray | None = None
        self._inner: Any = None

        def treated(count: int) -> Treat:
            self._inner = make(count)
            self.latency = self._inner.latency
            return lambda block: self._inner.process(block, self._key)

        def beside(count: int) -> Treat:
            turned = in_phase(count)
            late = DelayLine(self.latency, count)
            return lambda block: late.push(
                block if turned is None else np.ascontiguousarray(turned.process(block, None))
            )

        self._placed = Placed(treated, beside, placement, channels)

    def start_at(self, place: Any) -> None:
        """Begin at a place in the song."""
        start_at = getattr(self._inner, "start_at", None)
        if start_at is not None:
            start_at(place)

    def process(self, block: np.ndarray, key: np.ndarray | None) -> np.ndarray:
        self._key = key
        return self._placed.process(np.ascontiguousarray(block, np.float32))
