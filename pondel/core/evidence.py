"""The evidence for one fight over one stretch of the song: what is hidden, what was done."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from pondel.core.document import Move, Part, Session
from pondel.core.dsp import filters
from pondel.core.dsp.cascade import Cascade
from pondel.core.dsp.compiled import plain
from pondel.core.engine.listen import in_zone
from pondel.core.engine.routing import active_moves
from pondel.core.hearing.clear import too_small_to_hear
from pondel.core.hearing.scale import PLACES_HZ
from pondel.core.hearing.table import HiddenTable, Scope
from pondel.core.measures.loudness import loudness_lufs
from pondel.core.moves.base import TRACE_RATE, Traced, key_in
from pondel.core.refs import hits_source

AFTER_HIT_S, LEVEL_AFTER_S = 0.3, 0.2
LEVEL_STEP_S, LEVEL_WINDOW_S = 0.005, 0.030
LEVEL_PERIODS = 4.0
"""A level is the mean power of at least so many periods of the zone's lowest frequency."""
UNHEARD_DB = 60.0
"""So far under its loudest moment in the zone a part's level counts for nothing."""
SMALL_SPEAKERS_HZ, SMALL_SPEAKERS_DB_OCT = 150.0, 24
"""What a small speaker gives back begins here."""
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
class LeaderHeard:
    """How a leader stands in the mix: what one part hides of it, and how far it is clear of all.

    `share` and `on_hits` are what falls to the part that gives way, 0 to 1; `clear_db` and
    `clear_on_hits_db` the leader's clear-by among all others. None without hits, or without sound.
    """

    share: float
    on_hits: float | None
    clear_db: float | None
    clear_on_hits_db: float | None


@dataclass(frozen=True)
class Change:
    """The same before and after."""

    before: LeaderHeard
    after: LeaderHeard

    @property
    def clear_won_db(self) -> float | None:
        before, after = self.before.clear_db, self.after.clear_db
        return None if before is None or after is None else after - before

    @property
    def is_small(self) -> bool:
        """Whether nobody would hear it."""
        return too_small_to_hear(self.clear_won_db, self.after.share - self.before.share)


@dataclass(frozen=True)
class FightEvidence:
    """What a move, or all of them, gave the leader, in the zone first, and what it cost."""

    zone_hz: tuple[float, float]
    zone: Change
    whole: Change
    cost_share: float
    """How much of the yielder's own loudness was taken, 0 to 1 (negative: added)."""


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


def fight_evidence(
    before: HiddenTable,
    after: HiddenTable,
    leader: str,
    yielder: str,
    zone_hz: tuple[float, float],
    segments: tuple[int, ...] | None = None,
) -> FightEvidence:
    """Compare a fight in two tables of one stretch, all figures as the tables have them.

    `segments` are those of a whole song's tables that are looked at.
    """
    zone, whole = (
        Change(*(heard_in(table, leader, yielder, where, segments) for table in (before, after)))
        for where in (zone_hz, None)
    )
    # Over the same frames, silent ones too: a part that falls silent sooner has lost what was there.
    loudness = [float(table.alone(yielder, Scope(segments)).sum()) for table in (before, after)]
    cost = 1.0 - loudness[1] / loudness[0] if loudness[0] > 0 else 0.0
    return FightEvidence(zone_hz, zone, whole, cost)


def heard_in(
    table: HiddenTable,
    leader: str,
    by: str,
    zone_hz: tuple[float, float] | None,
    segments: tuple[int, ...] | None = None,
) -> LeaderHeard:
    """How a leader stands against one part, and clear of all, in a zone of a table."""
    always, on_hits = Scope(segments, False, zone_hz), Scope(segments, True, zone_hz)
    return LeaderHeard(
        table.share(leader, by, always),
        table.share(leader, by, on_hits) if table.has_hits(leader, Scope(segments)) else None,
        table.clear_db(leader, always),
        table.clear_db(leader, on_hits),
    )


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


def deepest_on_hits(trace: Traced, hits_s: np.ndarray) -> np.ndarray:
    """The deepest fall of a move's gain after each hit, in dB, (hits,); as `gain_on_hits`."""
    return np.array(_furthest(trace.high, TRACE_RATE, hits_s, AFTER_HIT_S, max))


def drop_on_hits(
    before: np.ndarray, after: np.ndarray, hits_s: np.ndarray, *, rises: bool = False
) -> OnHits:
    """How far a move lowers (or `rises`) the level of a part in the 200 ms after each hit.

    `before` and `after` are the part's `power_steps` before and after the move.
    """
    return _on_hits(-level_change_db(before, after), 1.0 / LEVEL_STEP_S, hits_s, LEVEL_AFTER_S, rises)


def level_change_db(before: np.ndarray, after: np.ndarray) -> np.ndarray:
    """What a move does to the level of a part, from its `power_steps` before and after it, in dB;
    nothing where there is hardly any."""
    least = max(float(before.max(initial=0.0)) * 10 ** (-UNHEARD_DB / 10), 1e-14)
    changes = 10.0 * np.log10(np.maximum(after, least) / np.maximum(before, least))
    return np.where(before > least, changes, 0.0)


def power_steps(sound: np.ndarray, rate: int, zone_hz: tuple[float, float] | None = None) -> np.ndarray:
    """Power every 5 ms of all channels of float32 (frames, channels) together, (steps,).

    Of what lies in the zone, or of all of it, over 30 ms, or four periods of its low edge. A centred
    mono sound has as much in two channels.
    """
    window_s = LEVEL_WINDOW_S
    if zone_hz is not None:
        sound = in_zone(sound, zone_hz, rate)
        window_s = max(window_s, LEVEL_PERIODS / zone_hz[0])
    step, half = round(LEVEL_STEP_S * rate), round(window_s * rate / 2)
    power = np.square(sound, dtype=np.float64).sum(axis=1)
    below = np.concatenate([[0.0], np.cumsum(power)])
    at = np.arange(0, power.size, step)
    first, last = np.maximum(at - half, 0), np.minimum(at + half, power.size)
    return (below[last] - below[first]) / np.maximum(last - first, 1)


def _on_hits(
    falls: np.ndarray, per_second: float, hits_s: np.ndarray, after_s: float, rises: bool
) -> OnHits:
    furthest = min if rises else max
    depths = _furthest(falls, per_second, hits_s, after_s, furthest)
    if not depths:
        return OnHits(0, 0.0, 0.0)
    return OnHits(len(depths), float(np.median(depths)), furthest(depths))


def _furthest(
    falls: np.ndarray,
    per_second: float,
    hits_s: np.ndarray,
    after_s: float,
    furthest: Callable[[Any], float],
) -> list[float]:
    """The lowest or highest value after each hit, until the next one at the latest."""
    depths = []
    ends = np.append(hits_s, np.inf)[1:]
    for hit, following in zip(hits_s, ends, strict=True):
        last = min(hit + after_s, following)
        stretch = falls[int(hit * per_second) : int(np.ceil(last * per_second))]
        if stretch.size:
            depths.append(float(furthest(stretch)))
    return depths


def small_speakers_lufs(sound: np.ndarray, rate: int) -> float | None:
    """Loudness of float32 (frames, channels) on small speakers: through a high-pass at 150 Hz."""
    cut = filters.low_cut(SMALL_SPEAKERS_HZ, SMALL_SPEAKERS_DB_OCT, rate)
    return loudness_lufs(Cascade(cut, sound.shape[1]).process(plain(sound)), rate)
