"""Every change to a document, as a name and a function from the old one to the new one."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Any

from pondel.core.document import MOST_PARTS, Part, Session, parse_session, to_json
from pondel.core.errors import BadDocument
from pondel.core.losses import without
from pondel.core.moves.controls import parse_control

Edit = tuple[str, Callable[[Session], Session]]
"""What an edit is called, and what it makes of a document."""
PART_FIELDS = ("name", "tag", "role", "trim_db", "fader_db", "pan", "mute", "silent_key")
SESSION_FIELDS = ("name", "tempo_bpm", "beats_per_bar", "listening_level_db_spl", "sections")


def fresh_id(wanted: str, taken: set[str]) -> str:
    """An id made of a name's letters that is not taken yet."""
    slug = re.sub(r"[^a-z0-9]+", "-", wanted.lower()).strip("-")[:32] or "x"
    if slug not in taken:
        return slug
    return next(f"{slug}-{n}" for n in range(2, 10_000) if f"{slug}-{n}" not in taken)


def on_part(part_id: str, change: Callable[[dict[str, Any]], None]) -> Callable[[Session], Session]:
    """What a change of one part's JSON makes of a document."""

    def apply(session: Session) -> Session:
        session.part(part_id)
        data = to_json(session)
        change(next(part for part in data["parts"] if part["id"] == part_id))
        return parse_session(data)

    return apply


def set_session(field: str, value: Any) -> Edit:
    """Change a field of the session itself."""
    if field not in SESSION_FIELDS:
        raise BadDocument(f"a session has no field {field!r}")
    if field == "beats_per_bar" and isinstance(value, str) and value.strip().isdigit():
        value = int(value)
    typed = parse_control(Session, field, value)
    return (
        f"Session {field.split('_', maxsplit=1)[0]}",
        lambda session: parse_session({**to_json(session), field: typed}),
    )


def set_part(session: Session, part_id: str, field: str, value: Any) -> Edit:
    """Change a field of a part; text is read with its unit."""
    if field not in PART_FIELDS:
        raise BadDocument(f"a part has no field {field!r}")
    part = session.part(part_id)
    typed = parse_control(Part, field, value)
    if field == "tag":
        typed = str(value or "").strip().upper() or None
    label = f"{part.name}: {field.removesuffix('_db').replace('_', ' ')}"
    return label, on_part(part_id, lambda data: data.update({field: typed}))


def set_trims(session: Session, trims_db: dict[str, float]) -> Edit:
    """Trim several parts at once."""

    def apply(session: Session) -> Session:
        data = to_json(session)
        for part in data["parts"]:
            if part["id"] in trims_db:
                part["trim_db"] = max(-60.0, min(60.0, round(trims_db[part["id"]], 2)))
        return parse_session(data)

    names = [session.part(part_id).name for part_id in trims_db]
    return f"Trim {names[0]}" if len(names) == 1 else f"Trim {len(names)} parts", apply


def add_part(part: Part) -> Edit:
    """Append a part; BadDocument when the session is full."""

    def apply(session: Session) -> Session:
        if len(session.parts) >= MOST_PARTS:
            raise BadDocument(f"a session holds at most {MOST_PARTS} parts: {part.name} stays out")
        data = to_json(session)
        return parse_session({**data, "parts": [*data["parts"], part.model_dump(mode="json")]})

    return f"Bring in {part.name}", apply


def remove_part(session: Session, part_id: str) -> Edit:
    """Take a part out; what pointed at it is switched off and says so."""
    label = f"Take out {session.part(part_id).name}"
    return label, lambda document: without(document, parts={part_id})[0]
