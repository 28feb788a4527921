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
def mean_square(out, pole, state):
    """Running mean square of the peaks in `out`, back to amplitude; state[0] is carried."""
    mean = state[0]
    left = 1.0 - pole
    for i in range(out.size):
        mean = pole * mean + left * np.float64(out[i]) * np.float64(out[i])
        out[i] = np.sqrt(mean)
    state[0] = mean if mean > 1e-24 else 0.0
