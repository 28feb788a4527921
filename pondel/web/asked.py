"""What an address or a body asks for, typed and bounded before anything is done with it."""

from __future__ import annotations

import json
import math
import re
from typing import Any

from flask import Flask, request
from werkzeug.routing import BaseConverter, IntegerConverter

from pondel.core.errors import BadDocument

MOST_BODY_BYTES = 8 << 20
MOST_NODES = 400_000
MOST_LETTERS = 20_000
DEEPEST = 24
MOST_DIGITS = 15
WHOLE = re.compile(rf"-?[0-9]{{1,{MOST_DIGITS}}}")
LARGEST = 1e12
LARGEST_ID = 2**53


class Identifier(BaseConverter):
    """Ids as Pondel makes them; no other text in an address names anything."""

    regex = "[A-Za-z0-9_-]{1,80}"


class FileName(BaseConverter):
    """The name of one file, not a way to another folder."""

    regex = r"(?!\.{1,2}$)[^/\\\x00]{1,255}"
    part_isolating = True


class Whole(IntegerConverter):
    """A whole number that every table can hold."""

    regex = f"[0-9]{{1,{MOST_DIGITS}}}"


def register_addresses(app: Flask) -> None:
    """Check every part of every address against its form; what does not fit is not there."""
    app.url_map.converters.update(default=Identifier, file=FileName, int=Whole)


def whole(name: str, *, low: int = 0, high: int = LARGEST_ID) -> int | None:
    """A whole number of the address or form; None when it is not there or is none."""
    text = request.values.get(name, "")
    if not WHOLE.fullmatch(text):
        return None
    value = int(text)
    return value if low <= value <= high else None


def number(name: str, default: float | None = None) -> float | None:
    """A finite number of the address or form; BadDocument when it is something else."""
    text = request.values.get(name)
    if text is None:
        return default
    try:
        value = float(text) if len(text) <= 40 else math.nan
    except ValueError:
        value = math.nan
    if not math.isfinite(value) or abs(value) > LARGEST:
        raise BadDocument(f"{text!r:.40} is not a number", where=name)
    return value


def words(name: str, default: str = "", *, most: int = 200) -> str:
    """A text of the address or form; BadDocument when it is longer than anything could be."""
    return checked_text(request.values.get(name, default), most)


def checked_text(text: str, most: int = MOST_LETTERS) -> str:
    """The text, when it can be stored and shown; else BadDocument."""
    if len(text) > most:
        raise BadDocument(f"a text of {len(text)} letters is too long: {most} at most")
    if "\0" in text or any("\ud800" <= letter <= "\udfff" for letter in text):
        raise BadDocument("a text holds letters that cannot be written down")
    return text


def body() -> dict[str, Any]:
    """The JSON object of a request; BadDocument when it is none, or too large, deep or wild."""
    if (request.content_length or 0) > MOST_BODY_BYTES:
        raise BadDocument("more than 8 MB are too much for one edit")
    try:
        found = json.loads(
            request.get_data(cache=False),
            parse_constant=_no_constant,
            parse_int=_bounded_int,
            parse_float=_bounded_float,
        )
    except (ValueError, RecursionError) as error:
        raise BadDocument("an edit is a JSON object") from error
    if not isinstance(found, dict):
        raise BadDocument("an edit is a JSON object")
    _check(found)
    return found


def _no_constant(text: str) -> float:
    raise BadDocument(f"{text} is not a number")


def _bounded_int(text: str) -> int:
    if len(text) > MOST_DIGITS + 1:
        raise BadDocument(f"the number {text:.20}... is too large")
    return int(text)


def _bounded_float(text: str) -> float:
    value = float(text)
    if not abs(value) <= LARGEST:
        raise BadDocument(f"the number {text:.20} is too large")
    return value


def _check(found: dict[str, Any]) -> None:
    """Every text is one, nothing is deep, and there is not too much of it."""
    level: list[Any] = [found]
    nodes = 0
    for _ in range(DEEPEST):
        below: list[Any] = []
        for one in level:
            if isinstance(one, str):
                checked_text(one)
            elif isinstance(one, dict):
                below += [checked_text(name) for name in one]
                below += one.values()
            elif isinstance(one, list):
                below += one
        nodes += len(below)
        if nodes > MOST_NODES:
            raise BadDocument("that is too much for one edit")
        if not below:
            return
        level = below
    raise BadDocument("the edit is nested too deeply")
