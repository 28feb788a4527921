"""Attack and release of a gain reduction, in the logarithmic domain.

The smooth decoupled detector of Giannoulis, Massberg and Reiss, "Digital dynamic range
compressor design", JAES 60(6), 2012, equation 17, fed with the reduction the static curve
asks for: a first stage jumps up and falls with the release, a second one smooths its rise
with the attack. In that form the fall takes about release plus attack; here the first
stage's time is shortened so that 63 % of a falling step takes the stated release, at every
setting. A hold comes before all this: it holds the level that is judged (`followers.HeldPeaks`).
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from pondel.core.dsp.compiled import kernel

STEP_SHARE = 1.0 - math.exp(-1.0)


def one_pole(time_ms: float, rate: float) -> float:
    """The coefficient that covers 63 % of a step in `time_ms`."""
    if time_ms <= 0.0:
        return 0.0
    return math.exp(-1000.0 / (time_ms * rate))


def _cascade_left(time: float, first: float, second: float) -> float:
    """What is left of a falling step after `time` in two one-pole stages in series."""
    if abs(first - second) < 1e-9 * second:
        return (1.0 + time / second) * math.exp(-time / second)
    fall = first * math.exp(-time / first) - second * math.exp(-time / second)
    return fall / (first - second)


def first_stage_ms(release_ms: float, second_ms: float) -> float:
    """The first stage's time constant for which the cascade falls 63 % in `release_ms`."""
    from scipy.optimize import brentq

    if second_ms <= 0.0:
        return release_ms
    return float(
        brentq(
            lambda first: _cascade_left(release_ms, first, second_ms) - (1.0 - STEP_SHARE),
            1e-6 * release_ms,
            release_ms,
        )
    )


@dataclass(frozen=True)
class Times:
    """Ballistics as coefficients at one rate."""

    rise: float
    fall_first: float
    fall_second: float

    @classmethod
    def of(cls, attack_ms: float, release_ms: float, rate: int) -> Times:
        second_ms = min(attack_ms, release_ms / 4.0)
        return cls(
            rise=one_pole(attack_ms, rate),
            fall_first=one_pole(first_stage_ms(release_ms, second_ms), rate),
            fall_second=one_pole(second_ms, rate),
        )


def settle_s(attack_ms: float, hold_ms: float, release_ms: float, range_db: float) -> float:
    """Seconds after which a start from rest is within -100 dB of having run for ever."""
    wanted = 1e-5 / max(range_db * math.log(10.0) / 20.0, 1e-3)
    decades = math.log(1.0 / wanted)
    return (hold_ms + decades * (release_ms + attack_ms)) / 1000.0


@kernel(error_model="numpy", fastmath={"contract", "nnan", "nsz"})
def smooth_reduction(
    wanted_db: np.ndarray,
    state: np.ndarray,
    rise: float,
    fall_first: float,
    fall_second: float,
) -> None:
    """Smooth `wanted_db` (float32, positive dB of reduction) in place.

    The second stage may fall faster than it rises but never slower (`fall_second <= rise`), so
    the smaller of its two next values is always the one whose direction applies.
    `state` is float64 [first stage, second stage] and is carried on.
    """
    first = state[0]
    second = state[1]
    rise_in = 1.0 - rise
    first_in = 1.0 - fall_first
    second_in = 1.0 - fall_second
    done = 0
    if rise == fall_second:
        # Where the second stage has one time, two frames are done at once: the most of lines that rise
        # is one after two frames too, so that neither waits for the other.
        done = wanted_db.size - wanted_db.size % 2
        twice, rise_twice = fall_first * fall_first, rise * rise
        for i in range(0, done, 2):
            x, u = np.float64(wanted_db[i]), np.float64(wanted_db[i + 1])
            given, more = first_in * x, first_in * u
            between = max(x, fall_first * first + given)
            latest = max(u, fall_first * x + more)
            first = max(latest, twice * first + (fall_first * given + more))
            up, then = rise_in * between, rise_in * first
            wanted_db[i] = rise * second + up
            second = rise_twice * second + (rise * up + then)
            wanted_db[i + 1] = second
    for i in range(done, wanted_db.size):
        x = np.float64(wanted_db[i])
        first = max(x, fall_first * first + first_in * x)
        second = min(
            rise * second + rise_in * first,
            fall_second * second + second_in * first,
        )
        wanted_db[i] = second
    # What is far below hearing is nothing, before it becomes denormal.
    state[0] = first if first > 1e-12 else 0.0
    state[1] = second if second > 1e-12 else 0.0
