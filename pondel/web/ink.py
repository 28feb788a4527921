"""How a part is told apart: an ink, a line style and a two-letter tag, always together."""

from __future__ import annotations

from dataclasses import dataclass

from pondel.core.document import Session

INKS = 8
DASHES = ("", "7 4", "2 3", "9 3 2 3")


@dataclass(frozen=True)
class Inked:
    """The marks of one part; `dash` is an SVG dash pattern, empty for a solid line."""

    tag: str
    ink: int
    dash: str


def inked(session: Session) -> dict[str, Inked]:
    """Marks of all parts by id, in the order of the session."""
    marks: dict[str, Inked] = {}
    taken: set[str] = set()
    for index, part in enumerate(session.parts):
        tag = _tag(part.name, taken)
        taken.add(tag)
        dash = DASHES[(index + index // INKS) % len(DASHES)]
        marks[part.id] = Inked(tag, index % INKS + 1, dash)
    return marks


def _tag(name: str, taken: set[str]) -> str:
    words = [w for w in ("".join(c if c.isalnum() else " " for c in name)).upper().split()] or ["P"]
    letters = "".join(words)
    wanted = [words[0][0] + words[1][0]] if len(words) > 1 else []
    wanted += [letters[0] + letter for letter in letters[1:]]
    wanted += [letters[0] + str(n) for n in range(1, 10)]
    wanted += [f"{n:02d}" for n in range(100)]
    return next(tag for tag in wanted if tag not in taken and len(tag) == 2)
