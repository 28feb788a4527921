"""The evidence for one fight over one stretch of the song: what is hidden, what was done."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from pondel.core.document import Move, Part, Session
from pondel.core.engine.chunks import ChunkedSession
from pondel.core.engine.listen import Plan, in_zone, plan_region
from pondel.core.engine.routing import active_moves
from pondel.core.hearing.hidden import Hidden, hidden, near_hits
from pondel.core.hearing.in_the_mix import in_the_mix
from pondel.core.hearing.loudness import partial_loudness
from pondel.core.hearing.scale import PLACES_HZ
from pondel.core.hearing.zones import WorstZone
from pondel.core.measures.loudness import loudness_lufs
from pondel.core.measures.spectrum import average_spectrum
from pondel.core.moves.base import TRACE_RATE, Traced, key_in
from pondel.core.refs import hits_source

AFTER_HIT_S, LEVEL_AFTER_S = 0.3, 0.2
LEVEL_STEP_S, LEVEL_WINDOW_S = 0.005, 0.030
UNHEARD_DB = 60.0
"""So far under its loudest moment in the zone a part's level counts for nothing."""
FOLDS = {"middle": np.float32(1.0), "sides": np.float32(-1.0)}
BAND_HZ = PLACES_HZ
"""Centre frequencies of the bands in which hidden shares are given."""


@dataclass(frozen=True)
class OnHits:
    """How far a level falls at the hits of a stretch, in dB; zeros when there are none.

    A rise is negative, and told only of a move that raises.
    """

    hits: int
    median_db: float
    most_db: float


@dataclass(frozen=True)
class PairEvidence:
    """What the yielder hides of the leader, before and after all moves, and what that cost."""

    before: Hidden
    after: Hidden
    zone: WorstZone | None
    on_hits_before: float | None
    on_hits_after: float | None
    """None where the leader has no hits."""
    cost_share: float
    """How much of the yielder's own loudness the moves took, 0 to 1 (negative: added)."""


@dataclass(frozen=True)
class Led:
    """A move at work that follows another part: its key, or its hits."""

    leader: Part
    yielder: Part
    move: Move


def led_moves(document: Session) -> list[Led]:
    """Every move that is at work and listens to another part, or follows its hits."""
    found = []
    for part in document.parts:
        for move in active_moves(part):
            key = key_in(move)
            leader = key.source if key is not None else hits_source(move, part.id)
            if leader is not None and leader != part.id and document.has_part(leader):
                found.append(Led(document.part(leader), part, move))
    return found


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
    pairs = zip(leads, yields, strict=True)
    on_hits = [hidden(a, b, at).share if at.any() else None for a, b in pairs]
    loudness = [float(partial_loudness(e.power).sum(dtype=np.float64)) for e in yields]
    cost = 1.0 - loudness[1] / loudness[0] if loudness[0] > 0 else 0.0
    return PairEvidence(before, after, before.zone, on_hits[0], on_hits[1], cost)


def within(hits_s: np.ndarray, start: int, frames: int, rate: int) -> np.ndarray:
    """Hits inside a stretch, in seconds from its start."""
    moved = hits_s - start / rate
    return moved[(moved >= 0) & (moved < frames / rate)]


def gain_on_hits(trace: Traced, hits_s: np.ndarray, *, rises: bool = False) -> OnHits:
    """The deepest fall of a move's gain in the 300 ms after each hit; hits from the trace's start.

    With `rises` the highest rise.
    """
    falls = trace.low if rises else trace.high
    return _on_hits(falls, TRACE_RATE, hits_s, AFTER_HIT_S, rises)


def drop_on_hits(
    before: np.ndarray,
    after: np.ndarray,
    rate: int,
    hits_s: np.ndarray,
    zone_hz: tuple[float, float] | None = None,
    *,
    rises: bool = False,
) -> OnHits:
    """How far a move lowers (or `rises`) the level of a part in a zone in the 200 ms after each hit.

    `before` and `after` are the part, float32 (frames, channels), before and after the move; levels are
    mean powers over 30 ms of what lies in the zone, or of all of it.
    """
    drops = -level_change_db(before, after, rate, zone_hz)
    return _on_hits(drops, 1.0 / LEVEL_STEP_S, hits_s, LEVEL_AFTER_S, rises)


def level_change_db(
    before: np.ndarray, after: np.ndarray, rate: int, zone_hz: tuple[float, float] | None = None
) -> np.ndarray:
    """What a move does to the level of a part every 5 ms, in dB; nothing where there is hardly any."""
    steps = [_zone_power(sound, rate, zone_hz) for sound in (before, after)]
    least = max(float(steps[0].max(initial=0.0)) * 10 ** (-UNHEARD_DB / 10), 1e-14)
    changes = 10.0 * np.log10(np.maximum(steps[1], least) / np.maximum(steps[0], least))
    return np.where(steps[0] > least, changes, 0.0)


def _zone_power(sound: np.ndarray, rate: int, zone_hz: tuple[float, float] | None) -> np.ndarray:
    """Mean power over 30 ms around every 5 ms, (steps,)."""
    if zone_hz is not None:
        sound = in_zone(sound, zone_hz, rate)
    step, half = round(LEVEL_STEP_S * rate), round(LEVEL_WINDOW_S * rate / 2)
    power = np.square(sound, dtype=np.float64).mean(axis=1)
    below = np.concatenate([[0.0], np.cumsum(power)])
    at = np.arange(0, power.size, step)
    first, last = np.maximum(at - half, 0), np.minimum(at + half, power.size)
    return (below[last] - below[first]) / np.maximum(last - first, 1)


def _on_hits(
    falls: np.ndarray, per_second: float, hits_s: np.ndarray, after_s: float, rises: bool
) -> OnHits:
    furthest = min if rises else max
    depths = []
    ends = np.append(hits_s, np.inf)[1:]
    for hit, following in zip(hits_s, ends, strict=True):
        last = min(hit + after_s, following)
        stretch = falls[int(hit * per_second) : int(np.ceil(last * per_second))]
        if stretch.size:
            depths.append(float(furthest(stretch)))
    if not depths:
        return OnHits(0, 0.0, 0.0)
    return OnHits(len(depths), float(np.median(depths)), furthest(depths))


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
