"""Butterworth cuts for keys and bands, as biquads in the order scipy writes them."""

from __future__ import annotations

import math

import numpy as np

from pondel.core.dsp.matched import butterworth_cut


def low_cut(cut_hz: float, slope_db_oct: int, rate: int) -> np.ndarray:
    """Butterworth high-pass with the prototype's magnitude: -3 dB at `cut_hz`, 6 dB an octave and
    order."""
    return butterworth_cut("low cut", cut_hz, slope_db_oct, rate)


def high_cut(cut_hz: float, slope_db_oct: int, rate: int) -> np.ndarray:
    """Butterworth low-pass with the prototype's magnitude: -3 dB at `cut_hz`."""
    return butterworth_cut("high cut", cut_hz, slope_db_oct, rate)


def settle_s(cut_hz: float, slope_db_oct: int) -> float:
    """Seconds for a Butterworth cut to forget its past to below -100 dB.

    Its slowest pole pair has the damping sin(pi / 2n) for order n.
    """
    damping = math.sin(math.pi / (2 * (slope_db_oct // 6)))
    return math.log(1e5) / (2.0 * math.pi * cut_hz * damping)
