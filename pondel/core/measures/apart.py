"""How far two balances are apart: a rough mix against the plain sum of the parts.

found = apart(rough_db, sum_db)
found.rms_db, found.most_hz, found.most_db     # 0.2 dB, most at 63 Hz: +0.6 dB
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from pondel.core.measures.spectrum import POINTS_PER_OCTAVE, axis_hz

COMPARED_HZ = (40.0, 16_000.0)
HEARD_WITHIN_DB = 50.0
SILENT_DB = -150.0
SAME_DB, NEAR_DB = 0.5, 2.0


@dataclass(frozen=True)
class Apart:
    """How one sound's tone differs from another's at the same level, over third octaves."""

    rms_db: float
    most_hz: float
    most_db: float

    def words(self) -> str:
        """As a mixer is told."""
        where = f"{self.most_hz:.0f} Hz" if self.most_hz < 1000 else f"{self.most_hz / 1000:.2g} kHz"
        most = f", most at {where} ({self.most_db:+.1f} dB)".replace("-", "\u2212")
        if self.rms_db < SAME_DB:
            return f"{self.rms_db:.1f} dB apart: this is the balance you heard"
        if self.rms_db < NEAR_DB:
            return f"{self.rms_db:.1f} dB apart{most}: nearly the balance you heard"
        return f"{self.rms_db:.1f} dB apart{most}: this is another balance"


def apart(one_db: np.ndarray, other_db: np.ndarray) -> Apart | None:
    """How `one` differs from `other`; None where no band is heard in both.

    Both are levels at the points of `axis_hz`, each in a sixth of an octave; two sixths make a third.
    The level they differ by overall is taken out: the mean over the bands that are heard in both.
    """
    hz, step = axis_hz(), POINTS_PER_OCTAVE // 3
    bands = [
        slice(n - step // 4, n + step // 4 + 1, step // 2)
        for n in range(step // 2, hz.size - step, step)
    ]
    middles = np.array([hz[band].prod() ** (1 / len(hz[band])) for band in bands])
    one, other = (
        np.array([10 * np.log10(np.sum(10 ** (np.asarray(db)[band] / 10)) + 1e-20) for band in bands])
        for db in (one_db, other_db)
    )
    if min(one.max(), other.max()) < SILENT_DB:
        return None
    heard = (one > one.max() - HEARD_WITHIN_DB) & (other > other.max() - HEARD_WITHIN_DB)
    heard &= (middles >= COMPARED_HZ[0]) & (middles <= COMPARED_HZ[1])
    if not heard.any():
        return None
    away = one[heard] - other[heard]
    away = away - away.mean()
    at = int(np.argmax(np.abs(away)))
    return Apart(float(np.sqrt(np.mean(away**2))), float(middles[heard][at]), float(away[at]))
