"""How moments follow each other."""

from __future__ import annotations

import numpy as np


def gap_s(times_s: np.ndarray) -> float | None:
    """The usual gap to the next hit: the lower quartile, so that most gaps are longer."""
    if times_s.size < 2:
        return None
    return float(np.quantile(np.diff(times_s), 0.25))
