"""How a screen looks at a song: the whole of it, a section or the loop; at which level; which parts."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from flask import request

from pondel.core.document import MOST_PARTS, Part, Session
from pondel.core.families import BY, Family, families
from pondel.core.hearing.table import HiddenTable, Scope
from pondel.jobs.songs import Listening
from pondel.web.context import LEVELS_DB_SPL, Stretch, asked_stretch, desk, jobs

SONG, LOOP = "song", "loop"


@dataclass(frozen=True)
class Look:
    """What is looked at: `where` is the song, the loop (`stretch`), or a section's id."""

    where: str
    on_hits: bool
    role: str
    level: str
    stretch: Stretch
    families: dict[str, list[str]]


def asked_families(document: Session) -> list[Family]:
    """The families that are folded: those of `rows` of the address, less the ones that are open."""
    opened = request.args.getlist("open")[:MOST_PARTS]
    found = families(document, request.args.get("rows", ""))
    return [family for family in found if family.id not in opened]


def kept_rows() -> str:
    """How rows of parts are folded on all screens, as the browser keeps it; empty: not at all."""
    found = request.cookies.get("pondel_rows", "")
    return found if found in BY else ""


@dataclass(frozen=True)
class Heading:
    """A row that stands for a family of parts; None in its place where a part stands for itself."""

    family: Family | None
    parts: list[Part]


def kinds_of_families(document: Session) -> list[str]:
    """By what the parts of a session can be folded."""
    return [by for by in BY if families(document, by)]


def in_families(document: Session, parts: Sequence[Part], by: str) -> list[Heading]:
    """Parts in their order, those of a family together where the first of them stands."""
    family_of = {part: family for family in families(document, by) for part in family.members}
    found: dict[str, Heading] = {}
    for part in parts:
        family = family_of.get(part.id)
        key = family.id if family else part.id
        found.setdefault(key, Heading(family, [])).parts.append(part)
    return list(found.values())


def asked_look(document: Session) -> Look:
    """`where`, `on_hits`, `role` and `level` of the address."""
    where = request.args.get("where", SONG)
    if where not in (SONG, LOOP, *(s.id for s in document.sections)):
        where = SONG
    return Look(
        where,
        request.args.get("on_hits") == "1",
        request.args.get("role", ""),
        request.args.get("level", "normal"),
        asked_stretch(document),
        {family.id: family.members for family in asked_families(document)},
    )


def at_level(document: Session, level: str) -> Session:
    """The session as heard at the chosen level: quiet, loud, or its own."""
    if level not in LEVELS_DB_SPL:
        return document
    return document.model_copy(update={"listening_level_db_spl": LEVELS_DB_SPL[level]})


@dataclass(frozen=True)
class SongHeard:
    """A table, which part of it is asked for, and how far the whole song's analysis is.

    Until what is asked for is there, the table is that of the loop (`is_loop`), and it is one for
    now (`for_now`): whoever asked asks again.
    """

    document: Session
    table: HiddenTable
    scope: Scope
    is_loop: bool
    listening: Listening | None
    for_now: bool = False


def heard(session_id: str, document: Session, look: Look) -> SongHeard:
    """The table of parts that answers a look. It never waits for the whole song."""
    return _heard(session_id, document, look, {})


def heard_folded(session_id: str, document: Session, look: Look) -> SongHeard:
    """The table that answers a look, families as their sums."""
    return _heard(session_id, document, look, look.families)


def _heard(session_id: str, document: Session, look: Look, folded: dict[str, list[str]]) -> SongHeard:
    document = at_level(document, look.level)
    listening = None
    if look.where != LOOP:
        listening = jobs().songs.listen(session_id, document)
        table = jobs().meanwhile.table(session_id, document, folded) if listening is None else None
        if table is not None:
            segments = [n for n, s in enumerate(document.sections) if s.id == look.where]
            scope = Scope(tuple(segments) or None, look.on_hits)
            return SongHeard(document, table, scope, False, None)
    table = desk().loops.table(document, look.stretch.start, look.stretch.frames, families=folded)
    for_now = look.where != LOOP
    return SongHeard(document, table, Scope(None, look.on_hits), True, listening, for_now)
