"""Loudness: integrated, momentary, short-term, and its range.

K-weighting, 400 ms blocks and gates after ITU-R BS.1770-5 annex 1 (tables 1 and 2, moved to
other rates through their analogue prototypes); momentary (400 ms) and short-term (3 s) after
EBU Tech 3341; loudness range after EBU Tech 3342. All are computed from the K-weighted power
of consecutive 100 ms steps.
"""

from __future__ import annotations

import numpy as np

from pondel.core.dsp.compiled import kernel, plain
from pondel.core.dsp.weighting import k_weighting

STEP_S = 0.1
MOMENTARY_STEPS = 4
SHORT_TERM_STEPS = 30
ABSOLUTE_GATE_LUFS = -70.0
INTEGRATED_GATE_LU = -10.0
RANGE_GATE_LU = -20.0
RANGE_PERCENTILES = (10.0, 95.0)


@kernel(error_model="numpy", fastmath={"contract", "nsz"})
def _weigh(samples, sos, state, step, counted, out):
    """Add one channel's K-weighted squares into `out`, one place a step.

    `state` holds the four delays; `counted` is how many frames of the first step are done.
    """
    b0, b1, b2, a1, a2 = sos[0, 0], sos[0, 1], sos[0, 2], sos[0, 4], sos[0, 5]
    d1, d2 = sos[1, 4], sos[1, 5]
    s1, s2, c1, c2 = state[0], state[1], state[2], state[3]
    place = 0
    total = 0.0
    left = step - counted
    for i in range(samples.size):
        x = np.float64(samples[i])
        y = b0 * x + s1
        s1 = b1 * x - a1 * y + s2
        s2 = b2 * x - a2 * y
        z = y + c1
        c1 = -2.0 * y - d1 * z + c2
        c2 = y - d2 * z
        total += z * z
        left -= 1
        if left == 0:
            out[place] += total
            place += 1
            total = 0.0
            left = step
    out[place] += total
    state[0] = s1 if abs(s1) > 1e-25 else 0.0
    state[1] = s2 if abs(s2) > 1e-25 else 0.0
    state[2] = c1 if abs(c1) > 1e-25 else 0.0
    state[3] = c2 if abs(c2) > 1e-25 else 0.0


@kernel(error_model="numpy", fastmath={"contract", "nsz"})
def _weigh_two(left, right, sos, states, step, counted, out):
    """`_weigh` for two channels at once, whose chains of sums do not wait for each other."""
    b0, b1, b2, a1, a2 = sos[0, 0], sos[0, 1], sos[0, 2], sos[0, 4], sos[0, 5]
    d1, d2 = sos[1, 4], sos[1, 5]
    s1, s2, c1, c2 = states[0, 0], states[0, 1], states[0, 2], states[0, 3]
    r1, r2, e1, e2 = states[1, 0], states[1, 1], states[1, 2], states[1, 3]
    first, place, size = 0, 0, min(step - counted, left.size)
    while first < left.size:
        total, other = 0.0, 0.0
        lefts, rights = left[first : first + size], right[first : first + size]
        for i in range(lefts.size):
            x, u = np.float64(lefts[i]), np.float64(rights[i])
            y, v = b0 * x + s1, b0 * u + r1
            s1, r1 = b1 * x - a1 * y + s2, b1 * u - a1 * v + r2
            s2, r2 = b2 * x - a2 * y, b2 * u - a2 * v
            z, w = y + c1, v + e1
            c1, e1 = -2.0 * y - d1 * z + c2, -2.0 * v - d1 * w + e2
            c2, e2 = y - d2 * z, v - d2 * w
            total += z * z
            other += w * w
        out[place] += total + other
        counted += lefts.size
        if counted == step:
            place += 1
            counted = 0
        first += lefts.size
        size = min(step, left.size - first)
    states[0, 0], states[0, 1], states[0, 2], states[0, 3] = s1, s2, c1, c2
    states[1, 0], states[1, 1], states[1, 2], states[1, 3] = r1, r2, e1, e2
    for c in range(2):
        for i in range(4):
            if abs(states[c, i]) < 1e-25:
                states[c, i] = 0.0


class LoudnessMeter:
    """K-weighted power of consecutive 100 ms steps, summed over channels, as blocks pass."""

    def __init__(self, rate: int, channels: int) -> None:
        self._sos = k_weighting(rate)
        self._step = round(STEP_S * rate)
        self._states = np.zeros((channels, 4))
        self._counted = 0
        self._begun = 0.0
        self._powers: list[np.ndarray] = []

    def write(self, block: np.ndarray) -> None:
        """Add float32 (frames, channels)."""
        self.write_wide(plain(block.T))

    def write_wide(self, wide: np.ndarray) -> None:
        """Add float32 (channels, frames)."""
        sums = np.zeros((self._counted + wide.shape[1]) // self._step + 1)
        sums[0] = self._begun
        if len(self._states) == 2:
            _weigh_two(wide[0], wide[1], self._sos, self._states, self._step, self._counted, sums)
        else:
            for samples, state in zip(wide, self._states, strict=True):
                _weigh(samples, self._sos, state, self._step, self._counted, sums)
        self._begun = sums[-1]
        self._counted = (self._counted + wide.shape[1]) % self._step
        self._powers.append(sums[:-1] / self._step)

    def step_powers(self) -> np.ndarray:
        """All whole steps so far."""
        return np.concatenate(self._powers) if self._powers else np.empty(0)


def windowed_lufs(step_powers: np.ndarray, steps: int) -> np.ndarray:
    """Loudness of a sliding window of some steps, a value every 100 ms; empty when too short."""
    if step_powers.size < steps:
        return np.empty(0)
    sums = np.cumsum(np.concatenate([[0.0], step_powers]))
    return lufs((sums[steps:] - sums[:-steps]) / steps)


def integrated_lufs(step_powers: np.ndarray) -> float | None:
    """Gated loudness (BS.1770-5 annex 1, equations 3 to 7).

    None when no 400 ms block passes the absolute gate.
    """
    blocks = windowed_lufs(step_powers, MOMENTARY_STEPS)
    heard = blocks[blocks > ABSOLUTE_GATE_LUFS]
    if not heard.size:
        return None
    gate = _mean_lufs(heard) + INTEGRATED_GATE_LU
    return _mean_lufs(heard[heard > gate])


def range_lu(step_powers: np.ndarray) -> float | None:
    """Loudness range: from the 10th to the 95th percentile of gated short-term loudness.

    EBU Tech 3342, section 3.1. None when nothing passes the absolute gate.
    """
    short = windowed_lufs(step_powers, SHORT_TERM_STEPS)
    heard = short[short > ABSOLUTE_GATE_LUFS]
    if not heard.size:
        return None
    heard = heard[heard > _mean_lufs(heard) + RANGE_GATE_LU]
    low, high = np.percentile(heard, RANGE_PERCENTILES)
    return float(high - low)


def loudest_lufs(step_powers: np.ndarray, steps: int) -> float | None:
    """The loudest window of some steps; None when it is below the absolute gate."""
    found = windowed_lufs(step_powers, steps)
    if not found.size or found.max() <= ABSOLUTE_GATE_LUFS:
        return None
    return float(found.max())


def loudness_lufs(samples: np.ndarray, rate: int) -> float | None:
    """Integrated loudness of float32 (frames, channels)."""
    meter = LoudnessMeter(rate, samples.shape[1])
    meter.write(samples)
    return integrated_lufs(meter.step_powers())


def lufs(power: np.ndarray) -> np.ndarray:
    """Loudness of a K-weighted power summed over channels (BS.1770-5, equation 2)."""
    return -0.691 + 10.0 * np.log10(np.maximum(power, 1e-20))


def _mean_lufs(levels: np.ndarray) -> float:
    return float(10.0 * np.log10(np.mean(10.0 ** (levels / 10.0))))
