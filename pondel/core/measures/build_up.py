"""Where two parts build up: both strong at one frequency, and their sum standing out over the mix.

build_up_db(leader_db, yielder_db, both_db, mix_db)      # 0 where nothing builds up
"""

from __future__ import annotations

import numpy as np

from pondel.core.measures.spectrum import POINTS_PER_OCTAVE

ALIKE_DB = 9.0
"""Of two parts further apart than this one alone is strong."""
FAINT_DB = 30.0
MOST_DB = 12.0


def build_up_db(
    leader_db: np.ndarray, yielder_db: np.ndarray, both_db: np.ndarray, mix_db: np.ndarray
) -> np.ndarray:
    """How far the sum of two parts stands out over the octave of the mix around it, in dB, (points,).

    All are levels at `spectrum.axis_hz`. Nothing where one of the parts is 30 dB under its own loudest
    point, or 9 dB under the other.
    """
    from scipy.ndimage import uniform_filter1d

    alike = np.abs(leader_db - yielder_db) <= ALIKE_DB
    strong = (leader_db > leader_db.max() - FAINT_DB) & (yielder_db > yielder_db.max() - FAINT_DB)
    ground_db = uniform_filter1d(mix_db, POINTS_PER_OCTAVE, mode="nearest")
    return np.where(alike & strong, np.clip(both_db - ground_db, 0.0, MOST_DB), 0.0)
