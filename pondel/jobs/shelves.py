"""What stands on the shelf, out of and into session archives, as `shelf.json`.

{"recipe": {"Under the drum": {"moves": [...]}}, "spectrum": {"Warm brass": {"levels_db": [...]}}}
"""

from __future__ import annotations

import json
from collections.abc import Callable
from typing import Any, get_args

from pydantic import ValidationError

from pondel.core.errors import BadDocument, PondelError
from pondel.core.operations.contrast import NamedSpectrum
from pondel.core.recipes.recipe import parse_recipe
from pondel.store.shelf import LONGEST_NAME, MOST, Shelf, What

SHELF_FILE = "shelf.json"
CHECKED: dict[What, Callable[[Any], Any]] = {
    "recipe": lambda body: parse_recipe(body).model_dump(mode="json"),
    "spectrum": lambda body: NamedSpectrum.model_validate(body).model_dump(),
}
Kept = list[tuple[What, str, Any]]


def written(shelf: Shelf) -> bytes | None:
    """All that stands on the shelf; None when it is empty."""
    found = {
        what: {name: shelf.get(what, name) for name in shelf.names(what)} for what in get_args(What)
    }
    if not any(found.values()):
        return None
    return json.dumps(found, indent=1, ensure_ascii=False).encode()


def read(text: bytes, source: str) -> Kept:
    """What a `shelf.json` holds; BadDocument says what of it is no recipe and no spectrum."""
    data = object_in(text, SHELF_FILE, source)
    if not all(isinstance(data.get(what, {}), dict) for what in CHECKED):
        raise BadDocument(f"its {SHELF_FILE} is no list of recipes and spectra", where=source)
    return [
        (what, name, _checked(what, name, body, source))
        for what in CHECKED
        for name, body in data.get(what, {}).items()
    ]


def object_in(text: bytes, name: str, source: str) -> dict[str, Any]:
    """The JSON object in a file of an archive; BadDocument when there is none."""
    try:
        data = json.loads(text)
    except (ValueError, RecursionError) as error:
        raise BadDocument(f"its {name} is not JSON", where=source) from error
    if not isinstance(data, dict):
        raise BadDocument(f"its {name} is no JSON object", where=source)
    return data


def _checked(what: What, name: str, body: Any, source: str) -> Any:
    if not 0 < len(name.strip()) <= LONGEST_NAME:
        raise BadDocument(f"a {what} in it has a name too long or empty", where=source)
    try:
        return CHECKED[what](body)
    except (PondelError, ValidationError) as error:
        said = error.message if isinstance(error, PondelError) else "it does not hold what one holds"
        raise BadDocument(f"the {what} {name!r:.60} in it: {said}", where=source) from error


def put_up(shelf: Shelf, kept: Kept) -> None:
    """Put up what does not stand there yet; what differs from its namesake gets a number."""
    standing = {what: {one: shelf.get(what, one) for one in shelf.names(what)} for what in CHECKED}
    for what, name, body in kept:
        known = standing[what]
        if len(known) < MOST and body not in known.values():
            free = _free(name.strip(), known)
            shelf.keep(what, free, body)
            known[free] = body


def _free(name: str, known: dict[str, Any]) -> str:
    number, free = 1, name
    while free in known:
        number += 1
        free = f"{name[: LONGEST_NAME - 8]} ({number})"
    return free
