"""Butterworth cuts for keys and bands, as biquads in the order scipy writes them."""

from __future__ import annotations

import math

import numpy as np
from scipy.signal import butter


def low_cut(cut_hz: float, slope_db_oct: int, rate: int) -> np.ndarray:
    """Butterworth high-pass: -3 dB at `cut_hz`, 6 dB per octave and order."""
    return butter(slope_db_oct // 6, cut_hz, "highpass", fs=rate, output="sos")


def high_cut(cut_hz: float, slope_db_oct: int, rate: int) -> np.ndarray:
    """Butterworth low-pass: -3 dB at `cut_hz`; at or above Nyquist it is held just below."""
    cut_hz = min(cut_hz, 0.49 * rate)
    return butter(slope_db_oct // 6, cut_hz, "lowpass", fs=rate, output="sos")


def settle_s(cut_hz: float, slope_db_oct: int) -> float:
    """Seconds for a Butterworth cut to forget its past to below -100 dB.

    Its slowest pole pair has the damping sin(pi / 2n) for order n.
    """
    damping = math.sin(math.pi / (2 * (slope_db_oct // 6)))
    return math.log(1e5) / (2.0 * math.pi * cut_hz * damping)
