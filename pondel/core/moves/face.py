"""The face of a move: its controls, lists and buttons as data, for a form or a recall sheet."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from pydantic import BaseModel

from pondel.core.moves.base import Action, Group, MoveKind
from pondel.core.moves.controls import Control, ItemList, controls_of, item_lists, number_lists, reveals
from pondel.core.moves.controls import shown as is_shown
from pondel.core.refs import pointers


@dataclass(frozen=True)
class ShownField:
    """A control with its value and the path to it; `reveals` others when it is changed."""

    control: Control
    value: Any
    path: str
    reveals: bool = False

    @property
    def words(self) -> str:
        return self.control.say(self.value)


@dataclass(frozen=True)
class PartField:
    """A field that names a part; where `own`, nothing stands for the part that holds the move."""

    field: str
    title: str
    value: str | None
    own: bool


@dataclass(frozen=True)
class ShownGroup:
    """Fields that belong together, under a title where they have one."""

    title: str
    fields: list[ShownField]


@dataclass(frozen=True)
class ShownItems:
    """A list of smaller parts: one of them is chosen, and its fields are shown."""

    items: ItemList
    owners: list[BaseModel]
    chosen: int
    fields: list[ShownField]
    words: str
    actions: list[Action]


@dataclass(frozen=True)
class Face:
    """All that can be set on a move besides its key and its sections."""

    parts: list[PartField]
    numbers: list[ShownField]
    items: list[ShownItems]
    groups: list[ShownGroup]


def face_of(kind: MoveKind, move: Any, item: int | None = None) -> Face:
    """The face of a move, one item of its lists chosen: the first that is on unless it is named."""
    numbers = [
        ShownField(control, value, f"{field}.{n}")
        for field, control in number_lists(kind.params).items()
        for n, value in enumerate(getattr(move, field))
    ]
    lists = [_items(kind, move, one, item) for one in item_lists(kind.params)]
    return Face(_parts(move), numbers, lists, _groups(move, kind.layout))


def fields_of(owner: BaseModel, path: str = "") -> list[ShownField]:
    """The fields of a move, or of one of its items, that matter as its values are now."""
    opening = reveals(type(owner))
    return [
        ShownField(one, getattr(owner, one.field), path + one.field, one.field in opening)
        for one in controls_of(type(owner))
        if is_shown(one, owner)
    ]


def _groups(move: Any, layout: tuple[Group, ...]) -> list[ShownGroup]:
    fields = {one.path: one for one in fields_of(move)}
    groups = []
    for group in layout:
        found = [fields.pop(name) for name in group.fields if name in fields]
        if found:
            groups.append(ShownGroup(group.title, found))
    if fields:
        groups.append(ShownGroup("", list(fields.values())))
    return groups


def _parts(move: Any) -> list[PartField]:
    model: type[BaseModel] = type(move)
    found = []
    for name, mark in pointers(model).items():
        if mark.at == "section" or not _matters(move, name):
            continue
        title = model.model_fields[name].title or name
        found.append(PartField(name, title, getattr(move, name), mark.own))
    return found


def _matters(move: Any, field: str) -> bool:
    extra = type(move).model_fields[field].json_schema_extra
    when = extra.get("shown_when") if isinstance(extra, dict) else None
    return not isinstance(when, list) or getattr(move, str(when[0])) in when[1:]


def _items(kind: MoveKind, move: Any, items: ItemList, item: int | None) -> ShownItems:
    owners = getattr(move, items.field)
    chosen = item
    if chosen is None:
        chosen = next((n for n, one in enumerate(owners) if getattr(one, "on", True)), 0)
    chosen = max(0, min(chosen, len(owners) - 1))
    fields = fields_of(owners[chosen], f"{items.field}.{chosen}.") if owners else []
    words = kind.item_words(move, chosen) if owners else ""
    actions = [one for one in kind.actions if one.fits(move, chosen)]
    return ShownItems(items, owners, chosen, fields, words, actions)
