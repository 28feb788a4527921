"""What is wrong with a move over a stretch of the song, and what mending it would change.

for advice in found_wrong(desk, document, "tuba", "m1", start, frames):
    advice.text, advice.action, advice.then
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from pondel.core.advice.checks import Advice, check
from pondel.core.advice.lengths import lengths_of
from pondel.core.document import Session, move_of
from pondel.core.dsp.decibels import to_db
from pondel.core.dsp.fold import Side
from pondel.core.engine import routing
from pondel.core.engine.listen import Plan
from pondel.core.errors import BadDocument
from pondel.core.evidence import deepest_on_hits, within
from pondel.core.hearing.loudness import partial_loudness
from pondel.core.moves.base import Traced, key_in
from pondel.core.moves.checking import SILENT_DB, Heard, settings_of
from pondel.core.moves.picture import Picture
from pondel.core.moves.registry import kind_of
from pondel.core.operations import parse_operation
from pondel.core.operations.how_far import GoAsFar, differ_by_ear
from pondel.core.refs import hits_source
from pondel.core.survival import sound_of
from pondel.core.units import change, say
from pondel.jobs.desk import Desk
from pondel.jobs.fights import judged_in

WHOLE_HZ = np.array([1000.0])
AT_RANGE_DB, LEAST_HITS, MOST_LOOKED = 0.1, 4, 64


@dataclass(frozen=True)
class _Looked:
    """A move in a session, over a stretch; `leader` is the other part of the fight in view."""

    desk: Desk
    document: Session
    part: str
    move: str
    start: int
    frames: int
    leader: str | None

    def wrong(self) -> tuple[Heard, list[Advice]]:
        """What was heard, and all that is wrong."""
        document = self.document
        part = document.part(self.part)
        leader = document.part(self.leader) if self.leader and document.has_part(self.leader) else None
        heard = self._heard()
        return heard, check(document, part, move_of(part, self.move), heard, leader)

    def where_it_plays(self) -> tuple[float, float] | None:
        """The first stretch as long as the loop in which the sidechain sounds, in seconds."""
        document, rate = self.document, self.document.rate
        key = key_in(move_of(document.part(self.part), self.move))
        if key is None or not document.has_part(key.source):
            return None
        song, now = self.desk.frames(document), self.desk.now(document)
        for first in range(0, song, max(self.frames, song // MOST_LOOKED)):
            if _peak_db(now.region((key.source, key.tap), first, self.frames)) > SILENT_DB:
                end = min(first + self.frames, song)
                return round(first / rate, 4), round(end / rate, 4)
        return None

    def _heard(self) -> Heard:
        desk, document, where = self.desk, self.document, (self.start, self.frames)
        part = document.part(self.part)
        move, now = move_of(part, self.move), desk.now(document)
        trace = now.reductions(part.id, *where).get(move.id)
        key = key_in(move)
        heard_db, source_db, hit_s, gap_s = -200.0, -200.0, None, None
        if key is None:
            heard_db = source_db = _peak_db(now.region((part.id, "source"), *where))
        elif document.has_part(key.source):
            leader = document.part(key.source)
            heard_db = _peak_db(sound_of(Plan("key", (part.id,), move.id), now, *where))
            source_db = _peak_db(now.region((key.source, key.tap), *where))
            if leader.file:
                lengths = lengths_of(desk.recording(leader.file).hits(leader))
                hit_s, gap_s = lengths.fall_20_s, lengths.gap_s
        limits, end = routing.limits_of(document, move), self.start + self.frames
        return Heard(
            heard_db,
            source_db,
            _peak_db(now.region((part.id, "source"), *where)),
            *_moved_db(trace, kind_of(move.kind).drawn(move, WHOLE_HZ, document.rate)),
            hit_s,
            gap_s,
            limits is None or any(first < end and last > self.start for first, last in limits),
            _mean_db(trace),
            self._cost_share(),
            self._at_range(move, now.reductions(part.id, *where)),
        )

    def _at_range(self, move: Any, traces: dict[str, Traced]) -> dict[str, float]:
        """The share of the hits on which each gain with a ratio is at the end of its range."""
        source = hits_of(move, self.part)
        if not self.document.has_part(source):
            return {}
        all_hits_s = self.desk.fights.hits_s(self.document, self.document.part(source))
        hits_s = within(all_hits_s, self.start, self.frames, self.document.rate)
        found = {}
        for path, values in settings_of(move.model_dump()):
            trace = traces.get(f"{move.id}/{path.split('.')[1]}" if path else move.id)
            range_db = values.get("range_db") or 0.0
            if trace is not None and "ratio" in values and "mode" not in values and range_db > 0.0:
                deepest = deepest_on_hits(trace, hits_s)
                if deepest.size >= LEAST_HITS:
                    found[path] = float(np.mean(deepest >= range_db - AT_RANGE_DB))
        return found

    def _cost_share(self) -> float:
        """What of the part's own loudness the move takes where it is judged, all others in play."""
        part = self.document.part(self.part)
        if part.file is None or not self.desk.fights.are_heard(self.document, part.id):
            return 0.0
        moves = [move for move in part.moves if move.id != self.move]
        without = part.model_copy(update={"moves": moves})
        parts = [without if one.id == part.id else one for one in self.document.parts]
        bare = self.document.model_copy(update={"parts": parts})
        side = judged_in(part, self.move)
        before, after = (self._loudness(one, side) for one in (bare, self.document))
        return 1.0 - after / before if before > 0 else 0.0

    def _loudness(self, document: Session, side: Side) -> float:
        power = self.desk.loops.power(document, self.part, self.start, self.frames, side)
        return float(partial_loudness(np.ascontiguousarray(power)).sum())


def found_wrong(
    desk: Desk,
    document: Session,
    part_id: str,
    move_id: str,
    start: int,
    frames: int,
    leader_id: str | None = None,
) -> list[Advice]:
    """All that is wrong with a move, in words; each mending says what it would change."""
    looked = _Looked(desk, document, part_id, move_id, start, frames, leader_id)
    heard, found = looked.wrong()
    told = [_foreseen(looked, heard, found, one) for one in found]
    return [*told, *_out_of_date(looked)]


def _out_of_date(looked: _Looked) -> list[Advice]:
    """A first setting that would be another if it were calculated from the parts as they are now."""
    move = move_of(looked.document.part(looked.part), looked.move)
    if (
        move.began is None
        or not move.on
        or move.lost
        or not looked.document.has_part(move.began.leader)
    ):
        return []
    again = GoAsFar(part=looked.part, move=move.id)
    try:
        left = again.apply(looked.document, looked.desk).document
    except BadDocument:
        return []
    fresh = move_of(left.part(looked.part), move.id)
    if not differ_by_ear(move.model_dump(), fresh.model_dump()):
        return []
    kind = kind_of(move.kind)
    text = (
        "The parts have changed since this first setting was calculated: it is "
        f"{kind.in_brief(move)}, calculated again {kind.in_brief(fresh)}."
    )
    return [Advice(text, "Recalculate", again.model_dump(exclude_none=True))]


def _foreseen(looked: _Looked, heard: Heard, found: list[Advice], advice: Advice) -> Advice:
    """An advice with what its mending would make of the move, or where to loop instead."""
    if advice.source_is_silent:
        return replace(advice, loop_s=looked.where_it_plays())
    if advice.fix is None:
        return advice
    try:
        mended = parse_operation(advice.fix).apply(looked.document, looked.desk).document
    except BadDocument as error:
        return replace(advice, action="", fix=None, then=f"It cannot be mended here: {error}.")
    after, left = replace(looked, document=mended).wrong()
    known = {one.text for one in found}
    worse = [one.text for one in left if one.text not in known and _is_new(one, found)]
    said = f"Then up to {say(after.most_db, 'dB')}, {change(-after.cost_share)} of its own loudness."
    return replace(advice, then=" ".join([said, *(f"But: {text}" for text in worse)]))


def _is_new(one: Advice, found: list[Advice]) -> bool:
    """Whether it is another fault, not the same one with other numbers."""
    fields = {(known.fix or {}).get("field") for known in found}
    beginnings = {known.text[:20] for known in found}
    return one.text[:20] not in beginnings and (
        (one.fix or {}).get("field") is None or (one.fix or {})["field"] not in fields
    )


def _moved_db(trace: Traced | None, picture: Picture) -> tuple[float, float]:
    """How far a gain moves from where it rests, at most and at least."""
    if trace is None or not trace.high.size:
        return 0.0, 0.0
    moving = [band for factor in picture.factors for band in factor.moving if not band.trace]
    rest_db = -moving[0].rest_db if moving else 0.0
    low, high = float(trace.low.min()) - rest_db, float(trace.high.max()) - rest_db
    least = 0.0 if low <= 0.0 <= high else min(abs(low), abs(high))
    return max(abs(low), abs(high)), least


def hits_of(move: Any, part_id: str) -> str:
    """The part whose hits a move acts on: its sidechain's, or its own."""
    key = key_in(move)
    return key.source if key is not None else hits_source(move, part_id) or part_id


def _mean_db(trace: Traced | None) -> float:
    return float(trace.mean.mean()) if trace is not None and trace.mean.size else 0.0


def _peak_db(samples: np.ndarray) -> float:
    return float(to_db(np.abs(samples).max(initial=0.0)))
