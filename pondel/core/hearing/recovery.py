"""How long a hit goes on hiding another part, were nothing done about it.

    recovery_s(tuba_power, drum_power, hits_s, (40, 143))    # 0.14

That time, not the gap to the next hit, tells how long a duck should hold and release.
"""

from __future__ import annotations

import numpy as np

from pondel.core.hearing.hidden import near_hits
from pondel.core.hearing.loudness import partial_loudness
from pondel.core.hearing.scale import places_between
from pondel.core.hearing.spectra import FRAME_S

HEARD_AGAIN = 0.9
LEAST_LOSS = 0.1
"""A hit that takes less than this of a part does not hide it."""


def recovery_s(
    part: np.ndarray,
    hider: np.ndarray,
    hits_s: np.ndarray,
    zone_hz: tuple[float, float],
    longest_s: float = 1.0,
) -> float | None:
    """Seconds after the hider's hits until nine tenths of the part's loudness in the zone are heard.

    part and hider: excitations (frames, places); hits_s: seconds from their first frame. Averaged over
    all hits; the gap to the next hit, or `longest_s`, where it is not heard again before. None
    without hits, or where they hide hardly anything.
    """
    places = places_between(*zone_hz)
    frames = min(part.shape[0], hider.shape[0])
    hits_s = np.sort(hits_s)
    gap_s = float(np.median(np.diff(hits_s))) if hits_s.size > 1 else longest_s
    length = round(min(gap_s, longest_s) / FRAME_S)
    firsts = np.round(hits_s / FRAME_S).astype(int)
    firsts = firsts[firsts + length <= frames]
    if not firsts.size or length < 2:
        return None
    alone = partial_loudness(part[:frames])
    heard = np.minimum(partial_loudness(part[:frames], hider[:frames]), alone)
    whole, left = (
        np.mean([rows[first : first + length, places].sum(axis=1) for first in firsts], axis=0)
        for rows in (alone, heard)
    )
    lost = 1.0 - left / np.maximum(whole, 1e-9)
    worst = int(np.argmax(lost))
    if lost[worst] < LEAST_LOSS:
        return None
    again = np.flatnonzero(lost[worst:] <= 1.0 - HEARD_AGAIN)
    return FRAME_S * (worst + int(again[0]) if again.size else length)


def hidden_on_hits(
    part: np.ndarray, hider: np.ndarray, hits_s: np.ndarray, zone_hz: tuple[float, float]
) -> float | None:
    """What share of a part's loudness in a zone another hides by itself, in the 200 ms after hits.

    part and hider: excitations (frames, places); hits_s: seconds from their first frame, as a rule of
    the part. None without hits, or where the part has no loudness there.
    """
    places = places_between(*zone_hz)
    frames = min(part.shape[0], hider.shape[0])
    at = near_hits(hits_s, frames)
    if not at.any():
        return None
    own = np.ascontiguousarray(part[:frames][at])
    alone = partial_loudness(own)
    heard = np.minimum(partial_loudness(own, np.ascontiguousarray(hider[:frames][at])), alone)
    whole = float(alone[:, places].sum())
    return 1.0 - float(heard[:, places].sum()) / whole if whole > 0.0 else None
