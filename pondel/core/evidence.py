"""The evidence for one fight over one stretch of the song: what is hidden, what was done."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from pondel.core.engine.chunks import ChunkedSession
from pondel.core.engine.listen import Plan, plan_region
from pondel.core.hearing.hidden import Hidden, hidden, near_hits
from pondel.core.hearing.in_the_mix import in_the_mix
from pondel.core.hearing.loudness import partial_loudness
from pondel.core.hearing.scale import PLACES_HZ
from pondel.core.hearing.zones import WorstZone
from pondel.core.measures.loudness import loudness_lufs
from pondel.core.measures.spectrum import average_spectrum
from pondel.core.moves.base import TRACE_RATE, Traced

AFTER_HIT_S = 0.3
FOLDS = {"middle": np.float32(1.0), "sides": np.float32(-1.0)}
BAND_HZ = PLACES_HZ
"""Centre frequencies of the bands in which hidden shares are given."""


@dataclass(frozen=True)
class OnHits:
    """Reduction at the hits of a stretch, in positive dB; zeros when there are none."""

    hits: int
    median_db: float
    most_db: float


@dataclass(frozen=True)
class PairEvidence:
    """What the yielder hides of the leader, before and after all moves, and what that cost."""

    before: Hidden
    after: Hidden
    zone: WorstZone | None
    on_hits_before: float
    on_hits_after: float
    cost_share: float
    """How much of the yielder's own loudness the moves took, 0 to 1 (negative: added)."""


def pair_evidence(
    now: ChunkedSession,
    untreated: ChunkedSession,
    leader: str,
    yielder: str,
    start: int,
    frames: int,
    hits_s: np.ndarray,
) -> PairEvidence:
    """Compare a fight before and after the moves; `hits_s` are the leader's, from song start."""
    leads = [in_the_mix(s, leader, start, frames) for s in (untreated, now)]
    yields = [in_the_mix(s, yielder, start, frames) for s in (untreated, now)]
    at = near_hits(within(hits_s, start, frames, now.session.rate), leads[0].power.shape[0])
    before, after = (hidden(a, b) for a, b in zip(leads, yields, strict=True))
    on_hits = [hidden(a, b, at).share if at.any() else 0.0 for a, b in zip(leads, yields, strict=True)]
    loudness = [float(partial_loudness(e.power).sum(dtype=np.float64)) for e in yields]
    cost = 1.0 - loudness[1] / loudness[0] if loudness[0] > 0 else 0.0
    return PairEvidence(before, after, before.zone, on_hits[0], on_hits[1], cost)


def within(hits_s: np.ndarray, start: int, frames: int, rate: int) -> np.ndarray:
    """Hits inside a stretch, in seconds from its start."""
    moved = hits_s - start / rate
    return moved[(moved >= 0) & (moved < frames / rate)]


def reduction_on_hits(trace: Traced, hits_s: np.ndarray) -> OnHits:
    """The deepest reduction in the 300 ms after each hit; hits counted from the trace's start."""
    depths = []
    ends = np.append(hits_s, np.inf)[1:]
    for hit, following in zip(hits_s, ends, strict=True):
        last = min(hit + AFTER_HIT_S, following)
        stretch = trace.high[int(hit * TRACE_RATE) : int(np.ceil(last * TRACE_RATE))]
        if stretch.size:
            depths.append(float(stretch.max()))
    if not depths:
        return OnHits(0, 0.0, 0.0)
    return OnHits(len(depths), float(np.median(depths)), max(depths))


def matching_gain_db(
    plan: Plan, now: ChunkedSession, untreated: ChunkedSession, start: int, frames: int
) -> tuple[float, float | None]:
    """Gain in dB that makes the untreated sound as loud as the treated one, and its LUFS.

    By integrated loudness of what is played; a gain of 0 when either is silent.
    """
    after = loudness_lufs(plan_region(plan, now, start, frames), now.session.rate)
    before = loudness_lufs(plan_region(plan, untreated, start, frames), now.session.rate)
    gain_db = after - before if after is not None and before is not None else 0.0
    return gain_db, after


def part_spectrum(
    chunked: ChunkedSession, part_id: str, start: int, frames: int, fold: str = "both"
) -> np.ndarray:
    """Average spectrum of a part as it sounds in the mix, dBFS at `axis_hz`.

    `fold` is "both" (mean power of the channels), "middle" or "sides".
    """
    blocks = chunked.blocks((part_id, "after fader"), start, frames)
    if fold in FOLDS:
        sign = FOLDS[fold]
        blocks = ((block[:, :1] + sign * block[:, 1:]) * np.float32(0.5) for block in blocks)
    return average_spectrum(blocks, chunked.session.rate)
