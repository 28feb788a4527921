"""The ways of one fight as one JSON object, the most relief first.

Those that are judged on one side alone come last: they are not to be ranked among the others.
"""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

from pondel.core.document import Session
from pondel.core.errors import BadDocument, NotFound
from pondel.core.first_loop import UNKNOWN_S, first_loop
from pondel.core.moves.amounts import far_words
from pondel.core.moves.registry import kind_of
from pondel.jobs.desk import Desk
from pondel.jobs.tryouts import Point


def tryouts_report(
    desk: Desk, document: Session, leader: str, part: str, start_s: float | None, end_s: float | None
) -> dict[str, Any]:
    """All points of a fight over a stretch; NotFound for a part that is not there.

    Without a start and an end it is the stretch that the deck loops at first.
    """
    pair = _named(document, leader), _named(document, part)
    if start_s is None and end_s is None:
        start_s, end_s = first_loop(document, desk.frames(document) / document.rate)
    start_s = start_s or 0.0
    end_s = start_s + UNKNOWN_S if end_s is None else end_s
    if end_s <= start_s:
        raise BadDocument("the stretch has to end after it starts")
    start = round(start_s * document.rate)
    tried = desk.tryouts.begin(document, *pair, start, round(end_s * document.rate) - start)
    tried.finished.wait()
    if tried.trouble is not None:
        raise tried.trouble
    fight = tried.fight
    assert fight is not None, "a fight without trouble was measured"
    return {
        "leader": fight.leader.id,
        "part": fight.yielder.id,
        "low_hz": round(fight.low_hz, 1),
        "high_hz": round(fight.high_hz, 1),
        "start_s": start_s,
        "end_s": end_s,
        "points": [
            _point(one)
            for one in sorted(
                tried.points(), key=lambda one: (one.way.fold != "both", -one.judgement.relief_db)
            )
        ],
        "left_out": [{"kind": one.kind, "why": one.why} for one in tried.left_out],
    }


def _named(document: Session, name: str) -> str:
    """The id of a part that is called so."""
    for part in document.parts:
        if name in (part.id, part.name):
            return part.id
    raise NotFound(f"no part is called {name!r:.60}")


def _point(point: Point) -> dict[str, Any]:
    judgement, fight = point.judgement, point.judgement.fight
    return {
        "kind": point.way.kind,
        "title": kind_of(point.way.kind).title,
        "far": point.way.far,
        "judged_in": point.way.fold,
        "amount": far_words(point.way.far),
        "settings": point.way.start.settings,
        "settings_in_words": point.brief,
        "reasons": point.way.start.reasons,
        "relief_db": round(judgement.relief_db, 2),
        "relief_on_the_other_side_db": _round(point.beyond_db),
        "clear_db": [_round(fight.zone.before.clear_db), _round(fight.zone.after.clear_db)],
        "hidden_share": [round(fight.zone.before.share, 3), round(fight.zone.after.share, 3)],
        "cost_share": round(fight.cost_share, 4),
        "tone": {name: round(value, 2) for name, value in asdict(judgement.tone).items()},
        "mix_warmth_db": round(judgement.mix_warmth_db, 2),
        "unsteady_db": round(judgement.unsteady_db, 2),
        "pumping": round(judgement.pumping, 3),
        "low_end_db": _round(judgement.low_end_db),
        "mono_loss_db": [round(one, 2) for one in judgement.mono_loss_db],
        "peak_db": [round(one, 2) for one in judgement.peak_db],
    }


def _round(value: float | None) -> float | None:
    return None if value is None else round(value, 2)
