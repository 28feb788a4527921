"""Clear by: how far above what the rest masks a part stands, in dB.

    gather_bands(clear_db, alone, groups, 1, weights)    # a histogram of the part's own loudness
    clear_by_db(weights[0].sum(axis=0))          # 4.3: a quarter of it stands at least so far above

At a place and a moment, a part with excitation E stands 10 log10(E / (K E_others + E_quiet)) dB above
what the others mask there, K E_others + E_quiet being the masked threshold (Moore, Glasberg and Baer
1997, equation 17). Of these, the 75th percentile is told, weighted by the part's specific loudness
alone: unlike the share that is hidden, it moves a decibel with each decibel of the fader.
"""

from __future__ import annotations

import numpy as np

from pondel.core.dsp.compiled import kernel

LOWEST_DB = -50.0
BINS = 120
"""A decibel each; what stands higher or lower counts in the last ones."""
UPPER_SHARE = 0.25
CLEAR_DB, LOW_DB, BURIED_DB = 3.0, -3.0, -6.0
SMALLEST_CHANGE_DB = 1.0
SMALLEST_CHANGE_OF_SHARE = 0.03


@kernel(error_model="numpy")
def gather_bands(clear_db, alone, groups, places_a_band, weights):
    """Add loudness to the histograms; frames of a group below 0 do not count.

    clear_db and alone: float32 (frames, places); weights: float32 (groups, bands, BINS). What lies
    between the middles of two decibels is shared by both, so that small changes are seen.
    """
    frames, places = clear_db.shape
    most = np.float32(BINS - 1.001)
    bins, firsts = np.empty(places, np.int64), np.empty(places, np.int64)
    below, above = np.empty(places, np.float32), np.empty(places, np.float32)
    for b in range(places):
        firsts[b] = b // places_a_band * BINS
    for f in range(frames):
        if groups[f] < 0:
            continue
        for b in range(places):
            at = clear_db[f, b] - np.float32(LOWEST_DB + 0.5)
            at = min(max(at, np.float32(0.0)), most)
            n = np.int32(at)
            above[b] = (at - np.float32(n)) * alone[f, b]
            below[b] = alone[f, b] - above[b]
            bins[b] = firsts[b] + n
        rows = weights[groups[f]].reshape(-1)
        for b in range(places):
            rows[bins[b]] += below[b]
            rows[bins[b] + 1] += above[b]


def clear_by_db(weights: np.ndarray) -> float | None:
    """The height above which a quarter of the loudness lies; None where there is none.

    weights: (BINS,), loudness in each decibel from LOWEST_DB on.
    """
    from_top = np.cumsum(weights[::-1], dtype=np.float64)
    if from_top[-1] <= 0.0:
        return None
    wanted = UPPER_SHARE * from_top[-1]
    n = int(np.searchsorted(from_top, wanted))
    beyond = float(from_top[n - 1]) if n else 0.0
    into = (wanted - beyond) / (float(from_top[n]) - beyond)
    return LOWEST_DB + BINS - n - into


def standing(clear_db: float) -> str:
    """How a part stands in the mix, in a word or three."""
    if clear_db > CLEAR_DB:
        return "clear"
    if clear_db >= LOW_DB:
        return "in the texture"
    return "low" if clear_db >= BURIED_DB else "buried"


def too_small_to_hear(clear_change_db: float | None, share_change: float) -> bool:
    """Whether a change of both headline numbers is one that nobody hears."""
    if clear_change_db is not None and abs(clear_change_db) >= SMALLEST_CHANGE_DB:
        return False
    return abs(share_change) < SMALLEST_CHANGE_OF_SHARE
