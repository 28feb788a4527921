"""Changes to the settings of a move.

A path names a value inside it: `threshold_db`, `key.level_db`, `bands.2.hz`. The two sides of a pair of
moves are changed together.
"""

from __future__ import annotations

from collections.abc import Callable
from copy import deepcopy
from typing import Annotated, Any, ClassVar, Literal

from pydantic import BaseModel, Field

from pondel.core.document import Session, move_of
from pondel.core.errors import BadDocument
from pondel.core.losses import dangling
from pondel.core.moves.base import MOST_BY_HAND
from pondel.core.moves.controls import control_of, item_lists, number_lists, parse_control, parse_value
from pondel.core.moves.describe import Key
from pondel.core.moves.registry import kind_of
from pondel.core.operations.base import (
    NOTHING_KNOWN,
    Done,
    Facts,
    FieldPath,
    Json,
    MoveAt,
    MoveId,
    Operation,
    Value,
    changed_parts,
    part_in,
    shown_at,
)
from pondel.core.refs import PartRef, pointers

FIXED = ("id", "kind", "key", "side", "tied_to", "lost", "why", "began")
NOT_BY_HAND = ("id", "kind", "lost", "why", "began")
ALIKE = ("on", "sections")
"""What is the same on both sides of any pair: whether it works, and where."""
ListName = Annotated[str, Field(max_length=40)]


def chain_in(data: Json, part_id: str) -> list[Json]:
    """The moves of a part in a document's JSON."""
    return part_in(data, part_id)["moves"]


def move_in(data: Json, part_id: str, move_id: str) -> Json:
    """A move in a document's JSON."""
    return next(move for move in chain_in(data, part_id) if move["id"] == move_id)


def with_values(document: Session, part_id: str, move_id: str, values: Json) -> Session:
    """A document in which plain values of one move were changed, whatever stands on its other side."""
    return changed_parts(
        document, [part_id], lambda data: move_in(data, part_id, move_id).update(values)
    )


def on_move(
    document: Session,
    part_id: str,
    move_id: str,
    change: Callable[[Json], None],
    *,
    by_hand: bool = True,
) -> Session:
    """A document in which a move's JSON was changed in place, and alike its other side's.

    What is set by hand is remembered where the move's first setting was worked out from a fight.
    """
    was = move_of(document.part(part_id), move_id)
    pointed_at_nothing = dangling(document, was)

    def both(data: Json) -> None:
        move = move_in(data, part_id, move_id)
        before = deepcopy(move)
        change(move)
        if move.get("began") and by_hand:
            known = move["began"]["by_hand"]
            known += [path for path in set_by_hand(before, move) if path not in known]
            del known[:-MOST_BY_HAND]
        pair = kind_of(move["kind"]).pair
        if pair is not None and not move["lost"]:
            other = move_in(data, move["tied_to"]["part"], move["tied_to"]["move"])
            alike = (*pair.alike, *ALIKE, "began")
            other.update({name: deepcopy(move.get(name)) for name in alike})

    tie = getattr(was, "tied_to", None)
    touched = dict.fromkeys([part_id, *([tie.part] if tie is not None and not was.lost else [])])
    left = _mended(changed_parts(document, touched, both), part_id, move_id, was.on)
    return left if pointed_at_nothing else well_pointed(left, part_id, move_id)


def set_by_hand(before: Json, after: Json) -> list[str]:
    """The paths at which a move's JSON was changed; a list whole, where its length was."""
    leave = {*NOT_BY_HAND, *ALIKE}
    was, now = ({name: one[name] for name in one if name not in leave} for one in (before, after))
    return _differing(was, now)


def _differing(was: Any, now: Any) -> list[str]:
    """Paths that differ, an empty one where the values themselves do."""
    if isinstance(was, list) and isinstance(now, list) and len(was) == len(now):
        was, now = ({str(n): value for n, value in enumerate(one)} for one in (was, now))
    if not isinstance(was, dict) or not isinstance(now, dict):
        return [] if was == now else [""]
    return [
        f"{name}.{path}".rstrip(".")
        for name, value in now.items()
        for path in _differing(was.get(name), value)
    ]


def well_pointed(document: Session, part_id: str, move_id: str) -> Session:
    """The document, if a move in it points only at what is there; else BadDocument."""
    if dangling(document, move_of(document.part(part_id), move_id)):
        raise BadDocument("it points at a part or a section that is not there")
    return document


def _mended(document: Session, part_id: str, move_id: str, was_on: bool) -> Session:
    """A move that lost what it pointed at works again once it points at nothing that is gone."""
    move = move_of(document.part(part_id), move_id)
    if not move.lost:
        return document
    if not dangling(document, move):
        return with_values(document, part_id, move_id, {"lost": "", "on": True})
    if move.on and not was_on:
        raise BadDocument(f"{move.lost} Choose what takes its place first")
    return document


class SetMove(Operation):
    """Change one value of a move; text is read with its unit, a time as a note value too ("1/8").

    Setting `key.source` to nothing takes the key away; setting it on a move without one gives it a key
    with the defaults. With `to_range` a number beyond the control's range is taken as its end.
    """

    op: Literal["set move"] = "set move"
    part: PartRef
    move: MoveId
    field: FieldPath
    value: Value
    to_range: bool = False
    example: ClassVar[Json] = {"part": "tuba", "move": "m1", "field": "bands.0.hz", "value": "240 Hz"}

    def apply(self, document: Session, facts: Facts = NOTHING_KNOWN) -> Done:
        part = document.part(self.part)
        move = move_of(part, self.move)
        words, change = self._key(document, move) if self._is_key else self._plain(document, move)
        left = on_move(document, self.part, self.move, change)
        value = shown_at(move_of(left.part(self.part), self.move), self.field)
        title = f"{part.name}: {words}"
        return Done(left, title, value=value, move=MoveAt(self.part, self.move))

    @property
    def _is_key(self) -> bool:
        return self.field.startswith("key.")

    def _plain(self, document: Session, move: Any) -> tuple[str, Callable[[Json], None]]:
        """The words for a setting, and its change."""
        steps = self.field.split(".")
        nowhere = BadDocument(f"a {move.kind} has no control {self.field!r}")
        if steps[0] in FIXED or steps[0] not in type(move).model_fields:
            raise nowhere
        each = number_lists(type(move)).get(steps[0])
        if each is not None and len(steps) == 2:
            typed = parse_value(each, self.value, to_range=self.to_range)
            words = each.title.lower()
        else:
            params, field = _params_at(type(move), steps)
            if field not in params.model_fields:
                raise nowhere
            self._check_reference(document, params, field)
            beat_s = document.known_beat_s
            typed = parse_control(params, field, self.value, to_range=self.to_range, beat_s=beat_s)
            words = _title(params, field)

        def change(data: Json) -> None:
            try:
                _put(data, steps, typed)
            except (IndexError, ValueError, TypeError, KeyError) as error:
                raise BadDocument(f"there is no control {self.field!r}") from error

        return words, change

    def _check_reference(self, document: Session, params: type[BaseModel], field: str) -> None:
        mark = pointers(params).get(field)
        if mark is None or mark.at == "section" or (mark.own and not self.value):
            return
        if not document.has_part(str(self.value)):
            raise BadDocument("choose the part whose hits set it off")

    def _key(self, document: Session, move: Any) -> tuple[str, Callable[[Json], None]]:
        """The words for a setting of the key, and its change."""
        field, value = self.field.removeprefix("key."), self.value
        if not kind_of(move.kind).keyed or field not in Key.model_fields:
            raise BadDocument(f"a {move.kind} has no control {self.field!r}")
        if kind_of(move.kind).pair is not None:
            raise BadDocument(f"a {kind_of(move.kind).title} always listens to the part it is tied to")
        words = f"key {field.split('_', maxsplit=1)[0]}"
        if field == "source":
            if value and not document.has_part(str(value)):
                raise BadDocument(f"there is no part {value!r} to listen to")

            def listen(data: Json) -> None:
                data["key"] = {**(data["key"] or {}), "source": value} if value else None

            return words, listen
        typed = parse_control(Key, field, value, to_range=self.to_range)

        def change(data: Json) -> None:
            if data["key"] is None:
                raise BadDocument("choose a key first")
            data["key"][field] = typed

        return words, change


def _params_at(params: type[BaseModel], path: list[str]) -> tuple[type[BaseModel], str]:
    """The class and the field a path ends in."""
    if len(path) == 1:
        return params, path[0]
    for found in item_lists(params):
        if found.field == path[0] and path[1].isdigit() and len(path) == 3:
            return found.item, path[2]
    raise BadDocument(f"there is no control {'.'.join(path)!r}")


def _title(params: type[BaseModel], field: str) -> str:
    try:
        return control_of(params, field).title.lower()
    except BadDocument:
        return field.split("_", maxsplit=1)[0]


def _put(data: Json, steps: list[str], value: Any) -> None:
    place: Any = data
    for step in steps[:-1]:
        place = place[int(step)] if isinstance(place, list) else place[step]
    last: Any = int(steps[-1]) if isinstance(place, list) else steps[-1]
    if isinstance(place, list) and not 0 <= last < len(place):
        raise IndexError(last)
    place[last] = value


class AddItem(Operation):
    """Append to a list of a move, such as a band to an EQ."""

    op: Literal["add item"] = "add item"
    part: PartRef
    move: MoveId
    list: ListName
    values: dict[str, Any] = Field(default_factory=dict, max_length=40)
    example: ClassVar[Json] = {"part": "tuba", "move": "m1", "list": "bands", "values": {"hz": 240}}

    def apply(self, document: Session, facts: Facts = NOTHING_KNOWN) -> Done:
        part = document.part(self.part)
        _check_list(move_of(part, self.move), self.list)
        left = on_move(document, self.part, self.move, lambda data: data[self.list].append(self.values))
        return Done(left, f"{part.name}: add to {self.list}", move=MoveAt(self.part, self.move))


class RemoveItem(Operation):
    """Take one out of a list of a move, counted from 0."""

    op: Literal["remove item"] = "remove item"
    part: PartRef
    move: MoveId
    list: ListName
    index: int = Field(ge=0, le=1000, strict=True)
    example: ClassVar[Json] = {"part": "tuba", "move": "m1", "list": "bands", "index": 0}

    def apply(self, document: Session, facts: Facts = NOTHING_KNOWN) -> Done:
        part = document.part(self.part)
        move = move_of(part, self.move)
        _check_list(move, self.list)
        if self.index >= len(getattr(move, self.list)):
            raise BadDocument(f"there is no number {self.index + 1} in {self.list}")
        left = on_move(document, self.part, self.move, lambda data: data[self.list].pop(self.index))
        return Done(left, f"{part.name}: remove from {self.list}", move=MoveAt(self.part, self.move))


def _check_list(move: Any, field: str) -> None:
    known = [found.field for found in item_lists(type(move)) if found.grows]
    if field not in known:
        raise BadDocument(f"a {move.kind} has no list {field!r} to add to")


class Act(Operation):
    """Do what a kind of move can do besides: split or join its bands; `index` counts items from 0."""

    op: Literal["act on move"] = "act on move"
    part: PartRef
    move: MoveId
    action: Annotated[str, Field(max_length=40)]
    index: int = Field(0, ge=0, le=1000, strict=True)
    example: ClassVar[Json] = {"part": "tuba", "move": "m1", "action": "split", "index": 0}

    def apply(self, document: Session, facts: Facts = NOTHING_KNOWN) -> Done:
        part = document.part(self.part)
        kind = kind_of(move_of(part, self.move).kind)
        action = next((one for one in kind.actions if one.name == self.action), None)
        if action is None:
            raise BadDocument(f"a {kind.title} cannot {self.action!r:.42}")
        left = on_move(document, self.part, self.move, lambda data: action.apply(data, self.index))
        title = f"{part.name}: {action.title.lower()}"
        return Done(left, title, move=MoveAt(self.part, self.move))
