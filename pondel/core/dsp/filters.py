"""Second-order sections that stream: Butterworth cuts for keys and bands."""

from __future__ import annotations

import math

import numpy as np
from scipy.signal import butter

from pondel.core.dsp.compiled import kernel


@kernel(error_model="numpy")
def _sections(sos, state, block, out):
    """Transposed direct form II, in double precision; state is (sections, channels, 2)."""
    for c in range(block.shape[1]):
        for s in range(sos.shape[0]):
            b0, b1, b2 = sos[s, 0], sos[s, 1], sos[s, 2]
            a1, a2 = sos[s, 4], sos[s, 5]
            z1 = state[s, c, 0]
            z2 = state[s, c, 1]
            for i in range(block.shape[0]):
                given = np.float64(block[i, c]) if s == 0 else np.float64(out[i, c])
                x = given if abs(given) < 1e6 else 0.0
                y = b0 * x + z1
                z1 = b1 * x - a1 * y + z2
                z2 = b2 * x - a2 * y
                out[i, c] = y
            state[s, c, 0] = z1 if abs(z1) > 1e-25 else 0.0
            state[s, c, 1] = z2 if abs(z2) > 1e-25 else 0.0


class Sections:
    """A cascade of second-order sections at work; `sos` as scipy writes it, (sections, 6)."""

    def __init__(self, sos: np.ndarray, channels: int) -> None:
        self._sos = np.ascontiguousarray(sos, np.float64)
        self._state = np.zeros((self._sos.shape[0], channels, 2))

    def process(self, block: np.ndarray) -> np.ndarray:
        """Filter float32 (frames, channels)."""
        out = np.empty_like(block)
        _sections(self._sos, self._state, block, out)
        return out


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
