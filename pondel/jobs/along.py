"""What goes along with a session: its other variants and its blind results, as `variants.json`.

{"open": "B", "variants": {"A": {...}}, "blind": {"20261128-...": {...}}}

The open variant is the session's document itself; recordings of the others are named as in it.
"""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from pondel.core.blind import MOST_ROUNDS, MOST_SIDES, Blind
from pondel.core.document import Session
from pondel.core.errors import BadDocument, PondelError
from pondel.core.losses import settled
from pondel.core.reading import parse_session, to_json
from pondel.jobs.shelves import object_in
from pondel.store.library import Library
from pondel.store.variants import LETTERS, Variants

ALONG_FILE = "variants.json"
MOST_TESTS, MOST_NAME = 200, 80
Renamed = Callable[[dict[str, Any]], None]


@dataclass(frozen=True)
class Along:
    """The letter of the open variant, the other variants by their letters, and blind results."""

    open: str = "A"
    variants: dict[str, Session] = field(default_factory=dict)
    blind: dict[str, Any] = field(default_factory=dict)

    @property
    def is_empty(self) -> bool:
        return self.open == "A" and not self.variants and not self.blind


def along_of(library: Library, session_id: str) -> Along:
    """All that goes along with a session of a library."""
    every = Variants(library).of(session_id)
    return Along(
        next(one.name for one in every if one.is_open),
        {one.name: library.revision(session_id, one.head).document for one in every if not one.is_open},
        library.ledger.every(session_id, "blind"),
    )


def written(along: Along, renamed: Renamed) -> bytes | None:
    """The file; None where nothing goes along. `renamed` names recordings as the archive does."""
    if along.is_empty:
        return None
    documents = {name: to_json(document) for name, document in along.variants.items()}
    for data in documents.values():
        renamed(data)
    found = {"open": along.open, "variants": documents, "blind": along.blind}
    return json.dumps(found, indent=1, ensure_ascii=False).encode()


def read(text: bytes, source: str) -> Along:
    """What a `variants.json` holds; BadDocument says what of it is none."""
    data = object_in(text, ALONG_FILE, source)
    variants, blind = data.get("variants", {}), data.get("blind", {})
    if not isinstance(variants, dict) or not isinstance(blind, dict):
        raise BadDocument(f"its {ALONG_FILE} holds no variants", where=source)
    letters = {str(data.get("open", "A")), *variants}
    if not letters <= set(LETTERS) or len(letters) != len(variants) + 1:
        raise BadDocument(f"its {ALONG_FILE} names variants other than A to H", where=source)
    return Along(
        str(data.get("open", "A")),
        {name: _variant(name, one, source) for name, one in variants.items()},
        {name: _test(name, one, source) for name, one in list(blind.items())[:MOST_TESTS]},
    )


def put_back(library: Library, session_id: str, along: Along) -> None:
    """Give a session that was brought in what came along with it."""
    Variants(library).put_back(session_id, along.open, along.variants)
    for name, test in reversed(along.blind.items()):
        library.ledger.put(session_id, "blind", name, test)


def _variant(name: str, data: Any, source: str) -> Session:
    try:
        document, _ = settled(parse_session(json.dumps(data)))
    except PondelError as error:
        raise BadDocument(f"its variant {name}: {error.message}", where=source) from error
    return document


def _test(name: str, data: Any, source: str) -> Any:
    """A blind result as it is kept; BadDocument when nobody can have taken it."""
    try:
        test = Blind.of(data)
        is_one = len(name) <= MOST_NAME and _can_have_been(test)
    except (KeyError, TypeError, ValueError) as error:
        raise BadDocument("a blind result in it is none", where=source) from error
    if not is_one:
        raise BadDocument("a blind result in it is none", where=source)
    return test.as_json()


def _can_have_been(test: Blind) -> bool:
    sides = test.sides
    are_words = all(isinstance(side, str) and len(side) <= MOST_NAME for side in sides)
    if not are_words or not 2 <= len(set(sides)) == len(sides) <= MOST_SIDES:
        return False
    return (
        test.is_over
        and 0 < test.rounds <= MOST_ROUNDS
        and test.target in sides
        and test.kept in (None, *sides)
        and all(sorted(order) == sorted(sides) for order in test.orders)
        and all(type(place) is int and 0 <= place < len(sides) for place in test.answers)
    )
