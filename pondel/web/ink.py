"""How a part is told apart: an ink, a line style and a short tag, always together."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass
from functools import lru_cache
from string import ascii_uppercase
from types import MappingProxyType
from typing import NamedTuple

from pondel.core.document import Session

INKS = 8
DASHES = ("", "7 4", "2 3", "9 3 2 3")


@dataclass(frozen=True)
class Inked:
    """The marks of one part; `dash` is an SVG dash pattern, empty for a solid line."""

    tag: str
    ink: int
    dash: str


class Named(NamedTuple):
    """What the marks of a part depend on, besides its place."""

    id: str
    name: str
    tag: str | None


def inked(session: Session) -> Mapping[str, Inked]:
    """Marks of all parts by id, in the order of the session."""
    return _inked(_names(session))


@lru_cache(maxsize=64)
def _inked(parts: tuple[Named, ...]) -> Mapping[str, Inked]:
    tags = _tags_of(parts)
    marks: dict[str, Inked] = {}
    for index, part in enumerate(parts):
        dash = DASHES[(index + index // INKS) % len(DASHES)]
        marks[part.id] = Inked(tags[part.id], index % INKS + 1, dash)
    return MappingProxyType(marks)


def tags_of(session: Session) -> dict[str, str]:
    """A tag for each part, no two alike: the typed one, or letters of its name.

    Names that differ only by a number get a letter and that number; so do those for which no two
    letters are left.
    """
    return _tags_of(_names(session))


def _names(session: Session) -> tuple[Named, ...]:
    return tuple(Named(part.id, part.name, part.tag) for part in session.parts)


def _tags_of(parts: tuple[Named, ...]) -> dict[str, str]:
    taken = {part.tag for part in parts if part.tag}
    stems = Counter(_stem(part.name)[0] for part in parts)
    found: dict[str, str] = {}
    for part in parts:
        found[part.id] = part.tag or _tag(part.name, taken, stems)
        taken.add(found[part.id])
    return found


def _stem(name: str) -> tuple[str, str]:
    """A name without the number at its end, and that number."""
    plain = "".join(letter if letter.isalnum() else " " for letter in name).upper()
    match = re.fullmatch(r"(.*?)\s*(\d{1,3})\s*", plain)
    stem, number = (match[1], match[2].lstrip("0")) if match else (plain, "")
    return " ".join(stem.split()), number


def _tag(name: str, taken: set[str], stems: Counter[str]) -> str:
    stem, number = _stem(name)
    words = [word for word in stem.split() if word.isascii()] or ["P"]
    letters = "".join(words)
    wanted = [letters[0] + number] if number and len(number) < 3 and stems[stem] > 1 else []
    if len(words) > 1:
        wanted.append(words[0][0] + words[1][0])
    wanted += [letters[0] + letter for letter in letters[1:]]
    for first in (letters[0], *ascii_uppercase):
        free = (tag for tag in (*wanted, *(f"{first}{n}" for n in range(1, 100))) if tag not in taken)
        tag = next(free, None)
        if tag is not None:
            return tag
    raise AssertionError("there are more tags than parts a session can hold")
