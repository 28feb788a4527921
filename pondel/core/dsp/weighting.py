"""Weighting of levels after ITU-R BS.1770-5, annex 1."""

from __future__ import annotations

import math

import numpy as np


def k_weighting(rate: int) -> np.ndarray:
    """The two K-weighting sections at any rate, shape (2, 6) as scipy writes them."""
    k = math.tan(math.pi * 1681.974450955533 / rate)
    quality, gain = 0.7071752369554196, 10 ** (3.999843853973347 / 20)
    bend = gain**0.4996667741545416
    a0 = 1 + k / quality + k * k
    shelf = [
        (gain + bend * k / quality + k * k) / a0,
        2 * (k * k - gain) / a0,
        (gain - bend * k / quality + k * k) / a0,
        1.0,
        2 * (k * k - 1) / a0,
        (1 - k / quality + k * k) / a0,
    ]
    k = math.tan(math.pi * 38.13547087602444 / rate)
    quality = 0.5003270373238773
    a0 = 1 + k / quality + k * k
    cut = [1.0, -2.0, 1.0, 1.0, 2 * (k * k - 1) / a0, (1 - k / quality + k * k) / a0]
    return np.array([shelf, cut])
