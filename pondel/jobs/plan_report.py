"""A plan for the whole mix as one JSON object, and in lines of words."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from pondel.core.document import Session
from pondel.core.moves.amounts import far_words
from pondel.core.moves.registry import kind_of
from pondel.core.units import change, say_hz, signed
from pondel.jobs.desk import Desk
from pondel.jobs.planned import Left, Line, Planned, Stands, WholePlan


def plan_report(desk: Desk, planned: Planned) -> dict[str, Any]:
    """All of a plan that is finished: its lines, what they give together, what it leaves."""
    whole = desk.plans.whole(planned)
    pairs = zip(planned.lines, whole.stands, strict=True)
    return {
        "is_draft": planned.is_draft,
        "lines": [_line(planned.document, line, stands) for line, stands in pairs],
        "left": [_left(planned.document, one) for one in planned.left],
        "loudness_change_db": None if whole.loudness_db is None else round(whole.loudness_db, 2),
        "warmth_change_db": round(whole.warmth_db, 2),
        "worst": _worst(planned, whole),
        "thin": [one.words() for one in whole.thin],
    }


def plan_words(report: dict[str, Any]) -> Iterator[str]:
    """The same in words, line by line."""
    for line in report["lines"]:
        zone = f"{say_hz(line['low_hz'])} to {say_hz(line['high_hz'])}"
        way = f"{line['title']}, {line['amount']}"
        yield f"{line['part_name']} for {line['leader_name']}, {zone}: {way}"
        yield f"  {line['settings_in_words']}"
        yield (
            f"  {line['leader_name']} {signed(line['relief_db'], 'dB')} clearer, "
            f"{line['part_name']} {change(-line['cost_share'])}"
        )
    if not report["lines"]:
        yield "Nothing to plan: no move would be heard without being missed."
    else:
        loudness = report["loudness_change_db"]
        told = "silent" if loudness is None else signed(loudness, "LU")
        yield f"All of it: mix {told}, warmth {signed(report['warmth_change_db'], 'dB')}"
    if report["worst"]:
        worst = report["worst"]
        yield f"Least is won in {worst['section']}: {worst['leader']} {signed(worst['won_db'], 'dB')}"
    yield from report["thin"]
    for one in report["left"]:
        yield f"Left: {one['part_name']} for {one['leader_name']}: {one['why']}"


def _names(document: Session, one: Line | Left) -> dict[str, Any]:
    claim = one.claim
    return {
        "leader": claim.leader,
        "leader_name": document.part(claim.leader).name,
        "part": claim.yielder,
        "part_name": document.part(claim.yielder).name,
        "low_hz": round(claim.low_hz, 1),
        "high_hz": round(claim.high_hz, 1),
    }


def _line(document: Session, line: Line, stands: list[Stands]) -> dict[str, Any]:
    judgement = line.candidate.judgement
    return {
        **_names(document, line),
        "kind": line.way.kind,
        "title": kind_of(line.way.kind).title,
        "amount": far_words(line.way.far),
        "settings_in_words": line.brief,
        "reasons": line.way.start.reasons,
        "relief_db": round(judgement.relief_db, 2),
        "cost_share": round(judgement.fight.cost_share, 4),
        "warmth_db": round(judgement.tone.warmth_db, 2),
        "unsteady_db": round(judgement.unsteady_db, 2),
        "sections": [
            {
                "section": one.section,
                "clear_db": [round(float(one.before_db), 2), round(float(one.after_db), 2)],
            }
            for one in stands
        ],
    }


def _left(document: Session, one: Left) -> dict[str, Any]:
    return {**_names(document, one), "why": one.why}


def _worst(planned: Planned, whole: WholePlan) -> dict[str, Any] | None:
    worst = whole.worst()
    if worst is None:
        return None
    number, stands = worst
    leader = planned.document.part(planned.lines[number].claim.leader).name
    return {"section": stands.section, "leader": leader, "won_db": round(float(stands.won_db), 2)}
