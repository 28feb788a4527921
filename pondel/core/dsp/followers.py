"""How detectors follow a level: peaks, peaks that fall back slowly, and the running mean square."""

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
def _largest_of_last(joined, frames, out):
    """out[i] = max(joined[i : i + frames]); `joined` has frames - 1 more than `out`.

    Van Herk, Pattern Recognition Letters 13(7), 1992: largest from each border on, and back to it.
    """
    size = out.size
    back = np.empty(frames, np.float32)
    for first in range(0, size, frames):
        top = joined[first + frames - 1]
        back[frames - 1] = top
        for i in range(frames - 2, -1, -1):
            top = max(top, joined[first + i])
            back[i] = top
        out[first] = back[0]
        top = np.float32(0.0)
        for i in range(1, min(frames, size - first)):
            top = max(top, joined[first + frames - 1 + i])
            out[first + i] = max(back[i], top)


class HeldPeaks:
    """The largest of the last `frames` levels, with carried state."""

    def __init__(self, frames: int) -> None:
        self.frames = max(1, frames)
        self._held = np.zeros(self.frames - 1, np.float32)

    def hold(self, levels: np.ndarray) -> None:
        """Replace each of float32 levels, (frames,), by the largest of those held, in place."""
        joined = np.concatenate([self._held, levels])
        self._held = joined[joined.size - self.frames + 1 :]
        _largest_of_last(joined, self.frames, levels)


@kernel(error_model="numpy")
def mean_square(out, pole, state):
    """Running mean square of the peaks in `out`, back to amplitude; state[0] is carried."""
    mean = state[0]
    left = 1.0 - pole
    for i in range(out.size):
        mean = pole * mean + left * np.float64(out[i]) * np.float64(out[i])
        out[i] = np.sqrt(mean)
    state[0] = mean if mean > 1e-24 else 0.0
