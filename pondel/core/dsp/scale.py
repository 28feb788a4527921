"""The ear's frequency scale.

ERB numbers in Cams after Glasberg and Moore, "Derivation of auditory filter shapes from
notched-noise data", Hearing Research 47, 1990, equations 3 and 4.
"""

from __future__ import annotations

import numpy as np


def cam_of(hz: np.ndarray | float) -> np.ndarray:
    """ERB number, in Cams, of a frequency in Hz."""
    return 21.366 * np.log10(0.004368 * np.asarray(hz) + 1.0)


def hz_of(cam: np.ndarray | float) -> np.ndarray:
    """Frequency in Hz of an ERB number."""
    return (10.0 ** (np.asarray(cam) / 21.366) - 1.0) / 0.004368


def erb_hz(hz: np.ndarray | float) -> np.ndarray:
    """Equivalent rectangular bandwidth, in Hz, of the auditory filter at a frequency."""
    return 24.673 * (0.004368 * np.asarray(hz) + 1.0)
