"""The mix document from JSON and back: what cannot be read is told with its field and its range.

session = parse_session(text)
to_json(session)
"""

from __future__ import annotations

import json
import weakref
from typing import Any

from pydantic import TypeAdapter, ValidationError

from pondel.core.document import Part, Session
from pondel.core.errors import BadDocument
from pondel.core.moves.registry import KINDS
from pondel.core.versions import brought_up


def parse_session(data: Any) -> Session:
    """A session from JSON text or parsed JSON; BadDocument names the field and its range."""
    try:
        if isinstance(data, str | bytes):
            data = json.loads(data)
        return _looked_through(Session.model_validate(brought_up(data).document))
    except RecursionError as error:
        raise BadDocument("the document is nested too deeply") from error
    except ValidationError as error:
        raise BadDocument(first_fault(error)) from error
    except (json.JSONDecodeError, UnicodeDecodeError) as error:
        raise BadDocument(f"not readable as JSON: {error}") from error


def with_parts(session: Session, changed: dict[str, Any]) -> Session:
    """The session with the JSON of some of its parts, by id; the others are not looked through again.

    What concerns all parts together is. BadDocument names the field and its range.
    """
    numbers = {part.id: n for n, part in enumerate(session.parts)}
    parts: list[Part] = list(session.parts)
    at: tuple[str | int, ...] = ()
    try:
        for part_id, data in changed.items():
            at = ("parts", numbers[part_id])
            parts[numbers[part_id]] = Part.model_validate(data)
        at = ()
        fields = {name: getattr(session, name) for name in Session.model_fields}
        return _looked_through(Session.model_validate({**fields, "parts": parts}))
    except ValidationError as error:
        raise BadDocument(first_fault(error, at)) from error


class _LookedThrough:
    """Which session it was that was parsed: a copy of it carries this along, and is another."""

    def __init__(self, session: Session) -> None:
        self.session = weakref.ref(session)


def _looked_through(session: Session) -> Session:
    session.__dict__["_looked_through"] = _LookedThrough(session)
    return session


def was_looked_through(session: Session) -> bool:
    """Whether a session came from being parsed, as it is: a copy with other values did not."""
    known = session.__dict__.get("_looked_through")
    return known is not None and known.session() is session


def first_fault(error: ValidationError, at: tuple[str | int, ...] = ()) -> str:
    """The first fault of a validation as one line with the field in front; `at` is where it looked."""
    fault = error.errors(include_url=False)[0]
    path = ""
    way = (*at, *fault["loc"])
    for n, step in enumerate(way):
        if step in KINDS and way[max(n - 2, 0)] == "moves":
            # Where a move's kind was used to tell what it is; it is no field.
            continue
        path += f"[{step}]" if isinstance(step, int) else f".{step}" if path else str(step)
    text = fault["msg"].removeprefix("Value error, ")
    if fault["type"] == "too_long" and isinstance(fault.get("input"), list):
        text = f"{fault['ctx']['max_length']} at most, not {len(fault['input'])}"
    given = fault.get("input")
    shown = f" (given: {given!r:.60})" if isinstance(given, str | int | float | bool) else ""
    return f"{path}: {text}{shown}" if path else f"{text}{shown}"


def to_json(session: Session) -> dict[str, Any]:
    """The document as plain JSON values."""
    return session.model_dump(mode="json")


def to_text(session: Session) -> str:
    """The same as JSON text, in one go."""
    return session.model_dump_json()


def json_schema() -> dict[str, Any]:
    """The JSON Schema of the mix document."""
    return TypeAdapter(Session).json_schema(mode="validation")
