"""A first setting for a duck, computed from what the two parts do, with its reasons."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from pondel.core.document import Part
from pondel.core.dsp.decibels import to_db
from pondel.core.measures.hits import gap_s
from pondel.core.moves.compressor import Compressor, CompressorProcessor
from pondel.core.units import say

WANTED_DB = 4.0
AFTER_HIT_S = 0.3
RATIOS = {"bass": 4.0}
GENTLE_RATIO = 2.5
RELEASE_MS = (40.0, 400.0)
NO_HITS_RELEASE_MS = 150.0


@dataclass(frozen=True)
class Proposal:
    """Settings of a move, and one sentence for each of the settings that were computed."""

    settings: dict[str, Any]
    reasons: list[str]


def propose_duck(
    leader: Part, yielder: Part, key: np.ndarray, hits_s: np.ndarray, rate: int
) -> Proposal:
    """A compressor on the yielder, keyed by the leader.

    `key` is the leader at source over a stretch of the song, float32 (frames, channels);
    `hits_s` its hits in seconds from the stretch's start. The threshold is where half of the
    hits give at least 4 dB of reduction; the release leaves a tenth of it at the next hit.
    """
    ratio = RATIOS.get(yielder.role, GENTLE_RATIO)
    settings: dict[str, Any] = {
        "kind": "compressor",
        "key": {"source": leader.id, "tap": "source"},
        "ratio": ratio,
        "knee_db": 6.0,
        "attack_ms": 2.0,
        "range_db": 12.0 if yielder.role == "bass" else 8.0,
    }
    gap = gap_s(hits_s)
    settings["release_ms"] = _release_ms(gap)
    firm = yielder.role == "bass"
    manner = "a bass takes a firm duck" if firm else f"{yielder.role} forgives less than a bass"
    reasons = [
        f"Ratio {ratio:g}:1: {manner}.",
        "Attack 2 ms: short enough to catch the hit, long enough not to click.",
    ]
    if gap is None:
        reasons.append(
            f"Release {NO_HITS_RELEASE_MS:.0f} ms: no regular hits were found to time it by."
        )
    else:
        reasons.append(
            f"Release {settings['release_ms']:.0f} ms: hits follow each other after "
            f"{gap * 1000:.0f} ms, and the gain is back before the next one."
        )
    threshold, reached = _threshold_db(settings, key, hits_s, rate)
    settings["threshold_db"] = threshold
    reasons.insert(
        0,
        f"Threshold {say(threshold, 'dB')}: half of the hits give {say(reached, 'dB')} or more.",
    )
    return Proposal(settings, reasons)


def _release_ms(gap: float | None) -> float:
    """A tenth of the reduction is left after ln 10 = 2.3 time constants.

    The hit itself is over its first third of the gap; the return has the rest.
    """
    if gap is None:
        return NO_HITS_RELEASE_MS
    wanted = gap * 1000.0 * (2.0 / 3.0) / np.log(10.0)
    return float(np.clip(np.round(wanted), *RELEASE_MS))


def _threshold_db(
    settings: dict[str, Any], key: np.ndarray, hits_s: np.ndarray, rate: int
) -> tuple[float, float]:
    """The threshold, to half a dB, and the median reduction on hits it gives."""
    peak = float(to_db(np.abs(key).max())) if key.size else -80.0
    best = (float(np.clip(np.round(2 * (peak - WANTED_DB * 2)) / 2, -80.0, 0.0)), 0.0)
    low, high = -80.0, min(0.0, np.ceil(peak))
    if peak <= -80.0:
        return best
    while high - low > 0.5:
        middle = (low + high) / 2
        reached = _median_reduction(settings, middle, key, hits_s, rate)
        if reached >= WANTED_DB:
            low = middle
        else:
            high = middle
    threshold = float(np.floor(2 * low) / 2)
    return threshold, _median_reduction(settings, threshold, key, hits_s, rate)


def _median_reduction(
    settings: dict[str, Any], threshold_db: float, key: np.ndarray, hits_s: np.ndarray, rate: int
) -> float:
    move = Compressor(id="proposed", **{**settings, "threshold_db": max(threshold_db, -80.0)})
    traced: list[np.ndarray] = []
    CompressorProcessor(
        move, rate, key.shape[1], lambda values, band=None: traced.append(values)
    ).process(key, key)
    reduction = traced[0]
    window = round(AFTER_HIT_S * rate)
    starts = [round(hit * rate) for hit in hits_s if hit * rate < reduction.size]
    if not starts:
        return float(np.quantile(reduction, 0.9))
    return float(np.median([reduction[first : first + window].max() for first in starts]))
