"""Taking out parts and sections: what pointed at them is switched off and says so.

document, said = without(document, parts={"drum"})
said     # ["Tuba, compressor is off: it listened to Bass drum, which was taken out."]
"""

from __future__ import annotations

from typing import Any

from pondel.core.document import Part, Session, Zone
from pondel.core.moves.registry import kind_of
from pondel.core.reading import parse_session, to_json
from pondel.core.refs import Lost, Mapping, TieRef, rebind, references


def without(
    document: Session, *, parts: set[str] | None = None, sections: set[str] | None = None
) -> tuple[Session, list[str]]:
    """The document without some parts and sections, and what lost its target, in words.

    A move that pointed at one of them is off and marked. A limit to several sections shrinks to those
    that are left. Sends and groups to a part that is gone go, as do zones it led or alone gave way in.
    """
    parts, sections = parts or set(), sections or set()
    names = {part.id: part.name for part in document.parts}
    names |= {section.id: section.name for section in document.sections}
    mapping = Mapping(parts=dict.fromkeys(parts), sections=dict.fromkeys(sections))
    said: list[str] = []
    kept = [_part(part, mapping, names, said) for part in document.parts if part.id not in parts]
    zones = [_zone(zone, mapping, names, said) for zone in document.zones]
    left = document.model_copy(
        update={
            "parts": kept,
            "sections": [section for section in document.sections if section.id not in sections],
            "zones": [zone for zone in zones if zone is not None],
        }
    )
    return parse_session(to_json(left)), said


def settled(document: Session) -> tuple[Session, list[str]]:
    """A document from outside: what points at nothing in it is switched off and says so."""
    parts: set[str] = set()
    sections: set[str] = set()
    for holder in (*document.zones, *(move for part in document.parts for move in part.moves)):
        if getattr(holder, "lost", ""):
            continue
        for at, one in references(holder):
            (sections if at == "section" else parts).add(one)
    parts -= {part.id for part in document.parts}
    sections -= {section.id for section in document.sections}
    if not parts and not sections:
        return document, []
    return without(document, parts=parts, sections=sections)


def _part(part: Part, mapping: Mapping, names: dict[str, str], said: list[str]) -> Part:
    changed: dict[str, Any] = {}
    sends = [send for send in part.sends if mapping.parts.get(send.to, send.to) is not None]
    if len(sends) < len(part.sends):
        changed["sends"] = sends
        said.append(f"{part.name} sends there no more.")
    if part.group in mapping.parts:
        changed["group"] = None
        said.append(f"{part.name} feeds the mix now.")
    moves = []
    for move in part.moves:
        bound, lost = rebind(move, mapping)
        if lost and not move.lost:
            why = _why(lost, move, names)
            bound = bound.model_copy(update={"on": False, "lost": why})
            title = kind_of(move.kind).in_words
            said.append(f"{part.name}, {title} is off: {why[0].lower()}{why[1:]}")
        elif len(bound.sections) < len(move.sections):
            gone = [names.get(one, "a section") for one in move.sections if one not in bound.sections]
            title = kind_of(move.kind).in_words
            said.append(f"{part.name}, {title} no longer acts in {', '.join(gone)}.")
        moves.append(bound)
    return part.model_copy(update={**changed, "moves": moves})


def _zone(zone: Zone, mapping: Mapping, names: dict[str, str], said: list[str]) -> Zone | None:
    bound, lost = rebind(zone, mapping)
    if not lost:
        return bound
    gone = ", ".join(dict.fromkeys(names.get(one.id, "a part") for one in lost))
    said.append(f"A decision went with {gone}.")
    return None


def _why(lost: list[Lost], move: Any, names: dict[str, str]) -> str:
    first = lost[0]
    name = names.get(first.id, "a part")
    if first.at == "section":
        gone = ", ".join(names.get(one.id, "a section") for one in lost if one.at == "section")
        return f"It acted only in {gone}, which was taken out."
    if any(isinstance(getattr(move, one.field.split(".")[0]), TieRef) for one in lost):
        return f"Its other side stood on {name}, which was taken out."
    if first.at == "hits":
        return f"It followed the hits of {name}, which was taken out."
    return f"It listened to {name}, which was taken out."


def dangling(document: Session, move: Any) -> bool:
    """Whether a move points at anything that the document does not have."""
    sections = {section.id for section in document.sections}
    return any(
        one not in sections if at == "section" else not document.has_part(one)
        for at, one in references(move)
    )
