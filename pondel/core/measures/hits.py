"""Hits: the moments at which a part strikes."""

from __future__ import annotations

import numpy as np
from numba import njit
from scipy.ndimage import maximum_filter1d, minimum_filter1d

STEP_S = 0.001
LEAST_RISE_DB = 8.0
LEAST_GAP_S = 0.060
FLOOR_DB = -45.0
FALL_MS = 12.0


@njit(nogil=True, cache=True)
def _follow(power, decay):
    out = np.empty_like(power)
    level = 0.0
    for i in range(power.size):
        level = max(power[i], level * decay)
        out[i] = level
    return out


class Hits:
    """Finds onsets in a part's power, millisecond by millisecond, as blocks pass."""

    def __init__(self, rate: int) -> None:
        self._step = max(1, round(rate * STEP_S))
        self._step_s = self._step / rate
        self._powers: list[np.ndarray] = []
        self._rest = np.empty((0, 1), np.float32)

    def write(self, block: np.ndarray) -> None:
        """Add float32 (frames, channels)."""
        joined = np.concatenate([self._rest, block]) if self._rest.shape[0] else block
        whole = joined.shape[0] // self._step * self._step
        squares = np.square(joined[:whole], dtype=np.float64).mean(axis=1)
        self._powers.append(squares.reshape(-1, self._step).mean(axis=1))
        self._rest = joined[whole:]

    def times_s(self) -> np.ndarray:
        """Seconds of each hit, rising.

        A hit is a rise of at least 8 dB within 20 ms that reaches to within 45 dB of the
        loudest; its moment is where the rise begins, a tenth of its power up.
        """
        power = np.concatenate(self._powers) if self._powers else np.empty(0)
        if power.size < 50 or power.max() <= 1e-12:
            return np.empty(0)
        # A peak follower bridges the cycles of low notes and keeps the rise where it is.
        envelope = _follow(power, float(np.exp(-STEP_S * 1000 / FALL_MS)))
        floor = envelope.max() * 10 ** (FLOOR_DB / 10)
        level = 10.0 * np.log10(envelope + floor)
        reach = 20
        before = minimum_filter1d(level, reach, origin=reach // 2 - 1, mode="nearest")
        after = maximum_filter1d(level, reach, origin=-(reach // 2), mode="nearest")
        rise = after - before
        summit = maximum_filter1d(rise, 2 * reach + 1)
        found: list[float] = []
        for i in np.flatnonzero((rise >= LEAST_RISE_DB) & (rise >= summit)):
            at = self._start_of_rise(power, envelope, int(i), reach)
            if not found or at - found[-1] >= LEAST_GAP_S:
                found.append(at)
        return np.array(found)

    def _start_of_rise(self, power: np.ndarray, envelope: np.ndarray, i: int, reach: int) -> float:
        first, last = max(0, i - reach), min(envelope.size, i + 2 * reach)
        base = envelope[first : i + 1].min()
        top = envelope[i:last].max()
        enough = base + 0.1 * (top - base)
        above = np.flatnonzero(power[first:last] >= enough)
        return (first + int(above[0])) * self._step_s


def gap_s(times_s: np.ndarray) -> float | None:
    """The usual gap to the next hit: the lower quartile, so that most gaps are longer."""
    if times_s.size < 2:
        return None
    return float(np.quantile(np.diff(times_s), 0.25))
