"""Why nothing happens, or too much: in words, with the operation that mends it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from pydantic import BaseModel

from pondel.core.document import Part, Session
from pondel.core.moves.base import key_in
from pondel.core.moves.checking import SILENT_DB, Case, Finding, Heard, Mend, Source
from pondel.core.moves.registry import kind_of
from pondel.core.refs import pointers


@dataclass(frozen=True)
class Advice:
    """One fault in words; `fix` is the operation that mends it, `action` what its button says.

    `then` is what mending it would make of the move, where that was worked out.
    """

    text: str
    action: str = ""
    fix: dict[str, Any] | None = None
    then: str = ""
    loop_s: tuple[float, float] | None = None
    """Where in the song it would not be so: a stretch to loop instead."""
    source_is_silent: bool = False


def check(
    session: Session, part: Part, move: Any, heard: Heard, leader: Part | None = None
) -> list[Advice]:
    """All that is wrong with a move, the most likely cause first; empty when all is well.

    `leader` is the other part of the fight in view, which the move might listen to.
    """
    return [_advice(part, move, one) for one in _findings(session, part, move, heard, leader)]


def _advice(part: Part, move: Any, finding: Finding) -> Advice:
    if finding.mend is None:
        return Advice(finding.text, source_is_silent=finding.source_is_silent)
    where = {"op": "set move", "part": part.id, "move": move.id}
    fix = {**where, "field": finding.mend.field, "value": finding.mend.value}
    return Advice(finding.text, finding.action, fix)


def _findings(
    session: Session, part: Part, move: Any, heard: Heard, leader: Part | None
) -> list[Finding]:
    if move.lost:
        return [_lost(session, move)]
    if not move.on:
        return [Finding("The move is off.", "Switch it on", Mend("on", True))]
    if not heard.in_sections:
        text = "The move is limited to sections outside the loop."
        return [Finding(text, "Use it in the whole song", Mend("sections", []))]
    if heard.part_db <= SILENT_DB:
        return [Finding(f"{part.name} is silent in the loop: there is nothing to treat.")]
    kind, case = kind_of(move.kind), _case(session, part, move, heard, leader)
    found: list[Finding] = []
    for look in kind.checks:
        found += list(look(case, found))
    return found


def _case(session: Session, part: Part, move: Any, heard: Heard, leader: Part | None) -> Case:
    if not kind_of(move.kind).keyed:
        return Case(part, move, heard)
    key = key_in(move)
    source = None
    if key is not None and session.has_part(key.source):
        heard_part = session.part(key.source)
        source = Source(heard_part.name, heard_part.mute, heard_part.fader_db)
    lead = leader if leader is not None and leader.id != part.id else None
    return Case(part, move, heard, key, source, lead)


def _lost(session: Session, move: Any) -> Finding:
    """What a move lost, and the setting that lets it go on without."""
    model: type[BaseModel] = type(move)
    for name, mark in pointers(model).items():
        if mark.at == "section" and move.sections:
            return Finding(move.lost, "Use it in the whole song", Mend(name, []))
        if mark.at == "hits" and mark.own:
            return Finding(move.lost, "Follow its own hits", Mend(name, None))
    key = key_in(move)
    if key is not None and not session.has_part(key.source) and kind_of(move.kind).pair is None:
        return Finding(move.lost, "Listen to itself", Mend("key.source", None))
    return Finding(move.lost)
