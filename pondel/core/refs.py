"""What points at something else in a document, and one function that follows it all.

    duck, lost = rebind(duck, Mapping(parts={"drum": "kick-2"}))    # its key listens to kick-2 now
    duck, lost = rebind(duck, Mapping(parts={"drum": None}))        # lost says what its key pointed at

A field says by its type what it points at: `PartRef`, `HitsRef`, `OwnHitsRef`, `SectionRef`; a
`TieRef` is the other side of a pair of moves.
"""

from __future__ import annotations

import types
from collections.abc import Iterator
from collections.abc import Mapping as MappingOf
from dataclasses import dataclass, field
from functools import cache
from typing import Annotated, Any, Literal, TypeVar, Union, get_args, get_origin

from pydantic import BaseModel, Field

from pondel.core.model import Model

Pointed = Literal["part", "hits", "section"]
MOST_ID = 40


@dataclass(frozen=True)
class Points:
    """Marks a field as a reference. Where `own`, null stands for the part that holds it."""

    at: Pointed
    own: bool = False


_Id = Annotated[str, Field(max_length=MOST_ID)]
PartRef = Annotated[_Id, Points("part")]
HitsRef = Annotated[_Id, Points("hits")]
OwnHitsRef = Annotated[_Id, Points("hits", own=True)]
SectionRef = Annotated[_Id, Points("section")]


class TieRef(Model):
    """The other side of a pair of moves."""

    part: PartRef
    move: _Id


@dataclass(frozen=True)
class Mapping:
    """What became of ids: another id, or None for what is gone. Ids not named stay as they are.

    `moves` is by part and move, as they were.
    """

    parts: MappingOf[str, str | None] = field(default_factory=dict)
    sections: MappingOf[str, str | None] = field(default_factory=dict)
    moves: MappingOf[tuple[str, str], str | None] = field(default_factory=dict)


@dataclass(frozen=True)
class Lost:
    """A reference without a target: in which field, at what, and the id it had."""

    field: str
    at: Pointed
    id: str


Thing = TypeVar("Thing", bound=BaseModel)


def rebind(thing: Thing, mapping: Mapping) -> tuple[Thing, list[Lost]]:
    """A copy of anything in a document with every reference in it led to where its target is now.

    A reference whose target is gone keeps its id, and is told. In a list of references the ones
    that are gone leave it, unless all are gone.
    """
    changed: dict[str, Any] = {}
    lost: list[Lost] = []
    points = pointers(type(thing))
    for name in type(thing).model_fields:
        value = getattr(thing, name)
        if name in points:
            new, gone = _led(value, points[name].at, mapping)
            lost += [Lost(name, points[name].at, one) for one in gone]
        else:
            new, gone_inside = _inside(value, mapping)
            lost += [Lost(f"{name}.{one.field}", one.at, one.id) for one in gone_inside]
        if new is not value:
            changed[name] = new
    if isinstance(thing, TieRef) and (thing.part, thing.move) in mapping.moves:
        move = mapping.moves[thing.part, thing.move]
        if move is None:
            lost.append(Lost("move", "part", thing.part))
        else:
            changed["move"] = move
    return (thing.model_copy(update=changed) if changed else thing), lost


def _led(value: Any, at: Pointed, mapping: Mapping) -> tuple[Any, list[str]]:
    """A reference, or a list of them, led on; and the ids that are gone."""
    ids = mapping.sections if at == "section" else mapping.parts
    if isinstance(value, str):
        found = ids.get(value, value)
        return (value, [value]) if found is None else (found, [])
    if not isinstance(value, list) or not any(one in ids for one in value):
        return value, []
    gone = [one for one in value if ids.get(one, one) is None]
    left = [ids.get(one, one) for one in value if one not in gone]
    return (left, []) if left else (value, gone)


def _inside(value: Any, mapping: Mapping) -> tuple[Any, list[Lost]]:
    if isinstance(value, BaseModel):
        return rebind(value, mapping)
    if not isinstance(value, list) or not any(isinstance(one, BaseModel) for one in value):
        return value, []
    found = [_inside(one, mapping) for one in value]
    lost = [one for _, gone in found for one in gone]
    if all(new is old for (new, _), old in zip(found, value, strict=True)):
        return value, lost
    return [new for new, _ in found], lost


def references(thing: BaseModel) -> Iterator[tuple[Pointed, str]]:
    """Everything a thing points at: what it is, and its id."""
    points = pointers(type(thing))
    for name in type(thing).model_fields:
        value = getattr(thing, name)
        several = value if isinstance(value, list) else [value]
        if name in points:
            yield from ((points[name].at, one) for one in several if one is not None)
            continue
        for one in several:
            if isinstance(one, BaseModel):
                yield from references(one)


@cache
def pointers(model: type[BaseModel]) -> dict[str, Points]:
    """The fields of a model that are references."""
    found = {}
    for name, info in model.model_fields.items():
        marks = [*info.metadata, *_marks(info.annotation)]
        mark = next((one for one in marks if isinstance(one, Points)), None)
        if mark is not None:
            found[name] = mark
    return found


def _marks(annotation: Any) -> Iterator[Any]:
    """The metadata of an annotation, also within a list of it or a choice with null."""
    origin = get_origin(annotation)
    if origin is Annotated:
        inner, *marks = get_args(annotation)
        yield from marks
        yield from _marks(inner)
    elif origin in (list, Union, types.UnionType):
        for inner in get_args(annotation):
            yield from _marks(inner)


def hits_source(thing: BaseModel, owner: str) -> str | None:
    """The part whose hits a thing follows, `owner` being the part that holds it; None without."""
    for name, mark in pointers(type(thing)).items():
        if mark.at == "hits":
            return getattr(thing, name) or (owner if mark.own else None)
    return None
