"""What every operation is: typed fields, and what it makes of a document."""

from __future__ import annotations

import math
from abc import abstractmethod
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from typing import Annotated, Any, ClassVar, Protocol

import numpy as np
from pydantic import BaseModel, Field

from pondel.core.document import Part, Session
from pondel.core.errors import BadDocument
from pondel.core.measures.levels import Levels
from pondel.core.model import Model
from pondel.core.moves.controls import control_of
from pondel.core.moves.fight import Fight, Home
from pondel.core.reading import parse_session, to_json, with_parts
from pondel.core.units import say_hz

Json = dict[str, Any]
MoveId = Annotated[str, Field(max_length=40)]
FieldPath = Annotated[str, Field(max_length=80)]
Words = Annotated[str, Field(max_length=400)]
Value = bool | int | float | Words | list[Words] | None
"""A value as it is set: a number in the document's unit, or text as it is typed."""


class Facts(Protocol):
    """What operations may ask of the session's sound."""

    def hits_s(self, part: Part) -> np.ndarray:
        """A part's hits in seconds of the song."""
        ...

    def fall_s(self, part: Part) -> float | None:
        """How long one of a part's hits takes to fall by 20 dB; None where that is not known."""
        ...

    def levels(self, part: Part) -> Levels | None:
        """The levels of a part's recording; None without one."""
        ...

    def home(self, part: Part) -> Home | None:
        """Where a part's energy lies; None without a recording, or in a silent one."""
        ...

    def pitch_hz(self, part: Part) -> float | None:
        """The usual pitch of a part after its hits; None where it is not certain."""
        ...

    def spectrum_db(
        self, document: Session, part: Part, start_s: float, end_s: float | None
    ) -> np.ndarray:
        """A part's average spectrum before its contrast with others, at 24 points to the octave."""
        ...

    def made_of(self, document: Session, part: Part) -> str:
        """What a part's sound is made of before its contrast with others: another when that changes."""
        ...

    def fight(
        self,
        document: Session,
        leader_id: str,
        yielder_id: str,
        start_s: float,
        zone_hz: tuple[float, float] | None,
    ) -> Fight:
        """What was measured of a fight near a place in the song."""
        ...


class NothingKnown:
    """The facts of a session whose sound is not at hand."""

    def hits_s(self, part: Part) -> np.ndarray:
        raise BadDocument(f"the hits of {part.name} are not known here")

    def fall_s(self, part: Part) -> float | None:
        return None

    def levels(self, part: Part) -> Levels | None:
        raise BadDocument(f"the levels of {part.name} are not known here")

    def home(self, part: Part) -> Home | None:
        return None

    def pitch_hz(self, part: Part) -> float | None:
        return None

    def spectrum_db(
        self, document: Session, part: Part, start_s: float, end_s: float | None
    ) -> np.ndarray:
        raise BadDocument(f"the spectrum of {part.name} is not known here")

    def made_of(self, document: Session, part: Part) -> str:
        return ""

    def fight(self, document: Session, *about: Any) -> Fight:
        raise BadDocument("the sound of this session is not at hand")


NOTHING_KNOWN = NothingKnown()


@dataclass(frozen=True)
class Shown:
    """A value as the document holds it now, and in words."""

    value: Any
    words: str


@dataclass(frozen=True)
class MoveAt:
    """A move of a part."""

    part: str
    move: str


@dataclass(frozen=True)
class Done:
    """What an operation made: the document, its title in the history, and what it has to say."""

    document: Session
    title: str
    said: list[str] = field(default_factory=list)
    value: Shown | None = None
    """The value that was set, where one was."""
    move: MoveAt | None = None
    """The move that was changed or added, where it is one."""
    added: bool = False


class Operation(Model):
    """One thing a person can ask for. Unknown fields are refused."""

    op: str
    example: ClassVar[Json] = {}
    """The fields of an example, for the manual and the tests."""

    @abstractmethod
    def apply(self, document: Session, facts: Facts = NOTHING_KNOWN) -> Done:
        """What it makes of a document; PondelError, in words, when it cannot be done."""


def changed(document: Session, change: Callable[[Json], None]) -> Session:
    """A document whose JSON was changed in place."""
    data = to_json(document)
    change(data)
    return parse_session(data)


def changed_parts(document: Session, ids: Iterable[str], change: Callable[[Json], None]) -> Session:
    """A document in which the JSON of some parts was changed in place: `change` gets these alone."""
    parts = [document.part(part_id) for part_id in ids]
    data: Json = {"parts": [part.model_dump(mode="json") for part in parts]}
    change(data)
    return with_parts(document, {part.id: one for part, one in zip(parts, data["parts"], strict=True)})


def on_part(document: Session, part_id: str, change: Callable[[Json], None]) -> Session:
    """A document in which one part's JSON was changed in place."""
    return changed_parts(document, [part_id], lambda data: change(part_in(data, part_id)))


def part_in(data: Json, part_id: str) -> Json:
    """A part in a document's JSON."""
    return next(part for part in data["parts"] if part["id"] == part_id)


def shown_at(owner: Any, path: str) -> Shown | None:
    """The value at a path of something in a document; None when it leads to no single value."""
    *way, name = path.split(".")
    for step in way:
        owner = _inside(owner, step)
    value = _inside(owner, name)
    if owner is None or isinstance(value, BaseModel | list | dict):
        return None
    if isinstance(owner, list):
        return Shown(value, say_hz(value) if isinstance(value, float) else str(value))
    try:
        words = control_of(type(owner), name).say(value)
    except BadDocument:
        words = str(value)
    return Shown("inf" if value == math.inf else value, words)


def _inside(owner: Any, step: str) -> Any:
    """What a step of a path leads to, None when it leads nowhere."""
    if isinstance(owner, list):
        return owner[int(step)] if step.isdecimal() and int(step) < len(owner) else None
    if isinstance(owner, BaseModel) and step in type(owner).model_fields:
        return getattr(owner, step)
    return None
