"""How detectors follow a level: peaks, held or falling back slowly, and the running mean square."""

from __future__ import annotations

import numpy as np

from pondel.core.dsp.compiled import kernel
from pondel.core.dsp.limits import LOUDEST


@kernel(error_model="numpy", fastmath={"contract", "arcp", "nsz"})
def peaks(key, out):
    # Written so that a level that is not a number counts as the loudest one.
    if key.shape[1] == 2:
        for i in range(out.size):
            level = max(abs(key[i, 0]), abs(key[i, 1]))
            out[i] = level if level < LOUDEST else LOUDEST
        return
    for i in range(out.size):
        level = abs(key[i, 0])
        for c in range(1, key.shape[1]):
            level = max(level, abs(key[i, c]))
        out[i] = level if level < LOUDEST else LOUDEST


@kernel(error_model="numpy")
def fall_back(levels, decay, state):
    """Let levels fall by no more than a factor a step, in place; state[0] is carried."""
    now = state[0]
    for i in range(levels.size):
        now = max(np.float64(levels[i]), now * decay)
        levels[i] = now
    state[0] = now


def followed(levels: np.ndarray, decay: float) -> np.ndarray:
    """A copy of levels that fall by no more than a factor a step, any float, (steps,)."""
    out = levels.copy()
    fall_back(out, decay, np.zeros(1))
    return out


@kernel(error_model="numpy")
def hold_largest(levels, held, state):
    """Each of `levels` becomes the largest of itself and those before it in a window, in place.

    held (window + 1,): behind state[1], the levels of this stretch; before it, the largest from there
    to the end of the last stretch. state: largest of this stretch, place in it. After van Herk, Pattern
    Recognition Letters 13(7), 1992: largest from each border on, and back to it.
    """
    window = held.size - 1
    if window < 2:
        return
    front, p = np.float32(state[0]), int(state[1])
    i = 0
    while i < levels.size:
        end = min(levels.size, i + window - p)
        for j in range(i, end):
            front = max(front, levels[j])
            held[p], levels[j] = levels[j], max(front, held[p + 1])
            p += 1
        i = end
        if p == window:
            for n in range(window - 2, -1, -1):
                held[n] = max(held[n], held[n + 1])
            front, p = np.float32(0.0), 0
    state[0], state[1] = front, p


class HeldPeaks:
    """The largest of the last levels, with carried state; a hold is nothing else.

    What is held hangs on nothing older than the window, wherever in the song it began.
    """

    def __init__(self, frames: int) -> None:
        self.frames = max(1, frames)
        self.held, self.state = np.zeros(self.frames + 1, np.float32), np.zeros(2)

    def hold(self, levels: np.ndarray) -> None:
        """Replace each of float32 levels, (frames,), by the largest of those held, in place."""
        hold_largest(levels, self.held, self.state)


@kernel(error_model="numpy")
def mean_square(out, pole, state):
    """Running mean square of the peaks in `out`, back to amplitude; state[0] is carried."""
    mean = state[0]
    left = 1.0 - pole
    for i in range(out.size):
        mean = pole * mean + left * np.float64(out[i]) * np.float64(out[i])
        out[i] = np.sqrt(mean)
    state[0] = mean if mean > 1e-24 else 0.0
