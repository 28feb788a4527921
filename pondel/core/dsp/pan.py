"""A sound's place between left and right, by constant power."""

from __future__ import annotations

import math


def pan_gains(pan: float, channels: int) -> tuple[float, float]:
    """Left and right gain of constant-power panning.

    Mono sits at -3 dB in both channels when centred; stereo passes unchanged there, and off
    centre only the far channel falls.
    """
    angle = (pan + 1.0) * math.pi / 4.0
    left, right = math.cos(angle), math.sin(angle)
    if channels == 1:
        return left, right
    return min(1.0, left * math.sqrt(2.0)), min(1.0, right * math.sqrt(2.0))


def pan_for(far_loss_db: float) -> float:
    """The place to the right at which the left loses so much against the centre, 0 to 1.

    >>> round(pan_for(3.0), 2)
    0.33
    """
    far = min(1.0, 10.0 ** (-far_loss_db / 20.0) / math.sqrt(2.0))
    return math.acos(far) * 4.0 / math.pi - 1.0
