"""Changes to the moves in parts' chains.

A path names a value inside a move: `threshold_db`, `key.level_db`, `bands.2.hz`. The two sides of a
complementary EQ are changed together.
"""

from __future__ import annotations

from collections.abc import Callable
from copy import deepcopy
from typing import Any

from pydantic import BaseModel

from pondel.core.document import Session, move_of, parse_session, to_json
from pondel.core.edits import Edit, fresh_id
from pondel.core.errors import BadDocument
from pondel.core.losses import dangling
from pondel.core.moves import kind_of
from pondel.core.moves.base import Key
from pondel.core.moves.controls import control_of, lists_of, parse_control
from pondel.core.refs import Mapping, rebind, references

Json = dict[str, Any]
FIXED = ("id", "kind", "key", "side", "tied_to", "lost")


def _chain(data: Json, part_id: str) -> list[Json]:
    return next(part for part in data["parts"] if part["id"] == part_id)["moves"]


def _find(data: Json, part_id: str, move_id: str) -> Json:
    return next(move for move in _chain(data, part_id) if move["id"] == move_id)


def _changed(session: Session, change: Callable[[Json], None]) -> Session:
    data = to_json(session)
    change(data)
    return parse_session(data)


def _on_move(
    part_id: str, move_id: str, change: Callable[[Json], None]
) -> Callable[[Session], Session]:
    """Change a move's JSON, and alike that of the other side of a complementary EQ."""

    def apply(session: Session) -> Session:
        was_on = move_of(session.part(part_id), move_id).on

        def both(data: Json) -> None:
            move = _find(data, part_id, move_id)
            change(move)
            if move["kind"] == "complementary eq" and not move["lost"]:
                other = _find(data, move["tied_to"]["part"], move["tied_to"]["move"])
                other["bands"] = deepcopy(move["bands"])
                other["on"] = move["on"]

        return _mended(_changed(session, both), part_id, move_id, was_on)

    return apply


def _mended(session: Session, part_id: str, move_id: str, was_on: bool) -> Session:
    """A move that lost what it pointed at works again once it points at nothing that is gone."""
    move = move_of(session.part(part_id), move_id)
    if not move.lost:
        return session
    if not dangling(session, move):
        return _changed(session, lambda data: _find(data, part_id, move_id).update(lost="", on=True))
    if move.on and not was_on:
        raise BadDocument(f"{move.lost} Choose what takes its place first")
    return session


def _free_id(moves: list[Json]) -> str:
    taken = {move["id"] for move in moves}
    return fresh_id(f"m{len(taken) + 1}", taken)


def add_move(session: Session, part_id: str, settings: Json) -> Edit:
    """Append a move; `settings` holds its kind and any values that differ from the defaults."""
    part = session.part(part_id)
    kind = kind_of(str(settings.get("kind")))
    if kind.name == "complementary eq":
        raise BadDocument("a complementary EQ ties two parts: choose the other one")

    def change(data: Json) -> None:
        moves = _chain(data, part_id)
        moves.append({**settings, "id": _free_id(moves)})

    return f"{part.name}: add {kind.title.lower()}", lambda session: _changed(session, change)


def add_tied(session: Session, gains: str, gives: str, bands: list[Json] | None = None) -> Edit:
    """A complementary EQ between two parts: the first gains what the second gives."""
    names = session.part(gains).name, session.part(gives).name
    if gains == gives:
        raise BadDocument("a complementary EQ ties two different parts")

    def change(data: Json) -> None:
        chains = {part: _chain(data, part) for part in (gains, gives)}
        ids = {part: _free_id(moves) for part, moves in chains.items()}
        for part, other, side in ((gains, gives, "gains"), (gives, gains, "gives")):
            move = {
                "id": ids[part],
                "kind": "complementary eq",
                "side": side,
                "tied_to": {"part": other, "move": ids[other]},
                "key": {"source": other, "tap": "source"},
            }
            chains[part].append({**move, **({"bands": deepcopy(bands)} if bands else {})})

    return f"{names[0]} and {names[1]}: add complementary EQ", lambda s: _changed(s, change)


def remove_move(session: Session, part_id: str, move_id: str, *, both_sides: bool = False) -> Edit:
    """Take a move out of a part's chain.

    One side of a complementary EQ only goes with the other: BadDocument unless `both_sides`.
    """
    part = session.part(part_id)
    move = move_of(part, move_id)
    title = kind_of(move.kind).title.lower()
    gone = [(part_id, move_id)]
    if move.kind == "complementary eq" and not move.lost:
        if not both_sides:
            other = session.part(move.tied_to.part).name
            raise BadDocument(f"this side is tied to {other}: remove both sides, or neither")
        gone.append((move.tied_to.part, move.tied_to.move))

    def change(data: Json) -> None:
        for one_part, one_move in gone:
            moves = _chain(data, one_part)
            moves[:] = [m for m in moves if m["id"] != one_move]

    return f"{part.name}: remove {title}", lambda session: _changed(session, change)


def _params_at(params: type[BaseModel], path: list[str]) -> tuple[type[BaseModel], str]:
    """The class and the field a path ends in."""
    if len(path) == 1:
        return params, path[0]
    for field, item, _, _ in lists_of(params):
        if field == path[0] and path[1].isdigit() and len(path) == 3:
            return item, path[2]
    raise BadDocument(f"there is no control {'.'.join(path)!r}")


def _title(params: type[BaseModel], field: str) -> str:
    try:
        return control_of(params, field).title.lower()
    except BadDocument:
        return field.split("_", maxsplit=1)[0]


def set_move(session: Session, part_id: str, move_id: str, path: str, value: Any) -> Edit:
    """Change one value of a move; text is read with its unit.

    Setting `key.source` to nothing takes the key away; setting it on a move without one gives
    it a key with the defaults.
    """
    part = session.part(part_id)
    move = move_of(part, move_id)
    if path.startswith("key."):
        return _set_key(session, part_id, move, path.removeprefix("key."), value)
    steps = path.split(".")
    if steps[0] in FIXED or steps[0] not in type(move).model_fields:
        raise BadDocument(f"a {move.kind} has no control {path!r}")
    if steps[0] == "crossovers_hz" and len(steps) == 2:
        typed = parse_control(Key, "high_cut_hz", value)
        params, field = type(move), "crossover"
    else:
        params, field = _params_at(type(move), steps)
        if field not in params.model_fields:
            raise BadDocument(f"a {move.kind} has no control {path!r}")
        typed = parse_control(params, field, value)

    def change(data: Json) -> None:
        place: Any = data
        for step in steps[:-1]:
            place = place[int(step)] if isinstance(place, list) else place[step]
            if not isinstance(place, list | dict):
                raise BadDocument(f"there is no control {path!r}")
        last: Any = int(steps[-1]) if isinstance(place, list) else steps[-1]
        if isinstance(place, list) and not 0 <= last < len(place):
            raise BadDocument(f"there is no control {path!r}")
        place[last] = typed

    def guarded(data: Json) -> None:
        try:
            change(data)
        except (IndexError, ValueError, TypeError) as error:
            raise BadDocument(f"there is no control {path!r}") from error

    return f"{part.name}: {_title(params, field)}", _on_move(part_id, move_id, guarded)


def _set_key(session: Session, part_id: str, move: Any, field: str, value: Any) -> Edit:
    name = session.part(part_id).name
    if not kind_of(move.kind).keyed or field not in Key.model_fields:
        raise BadDocument(f"a {move.kind} has no control 'key.{field}'")
    if move.kind == "complementary eq":
        raise BadDocument("a complementary EQ always listens to the part it is tied to")
    if field == "source":
        if value and not session.has_part(str(value)):
            raise BadDocument(f"there is no part {value!r} to listen to")

        def change(data: Json) -> None:
            data["key"] = {**(data["key"] or {}), "source": value} if value else None
    else:
        typed = parse_control(Key, field, value)

        def change(data: Json) -> None:
            if data["key"] is None:
                raise BadDocument("choose a key first")
            data["key"][field] = typed

    return f"{name}: key {field.split('_', maxsplit=1)[0]}", _on_move(part_id, move.id, change)


def add_item(session: Session, part_id: str, move_id: str, field: str, values: Json) -> Edit:
    """Append to a list of a move, such as a band to an EQ."""
    part = session.part(part_id)
    move = move_of(part, move_id)
    _item_class(move, field)
    return f"{part.name}: add to {field}", _on_move(
        part_id, move_id, lambda data: data[field].append(values)
    )


def remove_item(session: Session, part_id: str, move_id: str, field: str, index: int) -> Edit:
    """Take one out of a list of a move."""
    part = session.part(part_id)
    move = move_of(part, move_id)
    _item_class(move, field)
    if not 0 <= index < len(getattr(move, field)):
        raise BadDocument(f"there is no number {index + 1} in {field}")
    return f"{part.name}: remove from {field}", _on_move(
        part_id, move_id, lambda data: data[field].pop(index)
    )


def _item_class(move: Any, field: str) -> type[BaseModel]:
    for name, item, _, _ in lists_of(type(move)):
        if name == field and move.kind != "multiband":
            return item
    raise BadDocument(f"a {move.kind} has no list {field!r} to add to")


def split_band(session: Session, part_id: str, move_id: str, hz: float) -> Edit:
    """Split the band of a multiband compressor that holds a frequency into two alike."""
    part = session.part(part_id)
    if move_of(part, move_id).kind != "multiband":
        raise BadDocument("only a multiband compressor has bands to split")

    def change(data: Json) -> None:
        cuts = data["crossovers_hz"]
        at = sum(cut < hz for cut in cuts)
        cuts.insert(at, round(hz, 1))
        data["bands"].insert(at + 1, {**data["bands"][at], "solo": False})

    return f"{part.name}: split a band", _on_move(part_id, move_id, change)


def join_bands(session: Session, part_id: str, move_id: str, crossover: int) -> Edit:
    """Take a crossover away; the band above it goes."""
    part = session.part(part_id)
    move = move_of(part, move_id)
    if move.kind != "multiband" or not 0 <= crossover < len(move.crossovers_hz):
        raise BadDocument("there is no such crossover")

    def change(data: Json) -> None:
        data["crossovers_hz"].pop(crossover)
        data["bands"].pop(crossover + 1)

    return f"{part.name}: join two bands", _on_move(part_id, move_id, change)


def reorder_move(session: Session, part_id: str, move_id: str, to: int) -> Edit:
    """Bring a move to a place in its chain, counted from 0."""
    part = session.part(part_id)
    move_of(part, move_id)

    def change(data: Json) -> None:
        moves = _chain(data, part_id)
        move = moves.pop(next(n for n, m in enumerate(moves) if m["id"] == move_id))
        moves.insert(max(0, min(to, len(moves))), move)

    return f"{part.name}: reorder moves", lambda session: _changed(session, change)


def duplicate_move(session: Session, part_id: str, move_id: str) -> Edit:
    """The same move once more, right after itself."""
    part = session.part(part_id)
    if move_of(part, move_id).kind == "complementary eq":
        raise BadDocument("one side of a complementary EQ cannot be doubled")

    def change(data: Json) -> None:
        moves = _chain(data, part_id)
        at = next(n for n, m in enumerate(moves) if m["id"] == move_id)
        moves.insert(at + 1, {**deepcopy(moves[at]), "id": _free_id(moves)})

    return f"{part.name}: duplicate a move", lambda session: _changed(session, change)


def heard_by(move: Any) -> set[str]:
    """The parts that a move listens to, or whose hits it follows."""
    return {one for at, one in references(move) if at != "section"}


def copy_moves(session: Session, part_id: str, move_ids: list[str] | None, targets: list[str]) -> Edit:
    """Append some moves of a part, or its whole chain, to other parts, with their keys.

    A copy that would listen to the part it stands on is left out; so are complementary EQs.
    """
    part = session.part(part_id)
    chosen = [m for m in part.moves if move_ids is None or m.id in move_ids]
    chosen = [m for m in chosen if m.kind != "complementary eq"]
    names = [session.part(target).name for target in targets if target != part_id]
    if not chosen or not names:
        raise BadDocument("choose moves to copy, and parts to copy them to")

    fitting = {
        target: [move for move in chosen if target not in heard_by(move)]
        for target in targets
        if target != part_id
    }
    if not any(fitting.values()):
        raise BadDocument("nothing to copy to that part: every move chosen listens to it")

    def change(data: Json) -> None:
        for target, copied in fitting.items():
            moves = _chain(data, target)
            for move in copied:
                moves.append({**move.model_dump(mode="json"), "id": _free_id(moves)})

    to = names[0] if len(names) == 1 else f"{len(names)} parts"
    return f"Copy from {part.name} to {to}", lambda session: _changed(session, change)


def swap_moves(session: Session, leader: str, yielder: str) -> Edit:
    """Let the leader give way instead: its keyed moves and the yielder's change places.

    Moves keyed by the other part move over, and listen to the part they came from.
    """
    names = session.part(leader).name, session.part(yielder).name

    def change(data: Json) -> None:
        chains = {part: _chain(data, part) for part in (leader, yielder)}
        other = {leader: yielder, yielder: leader}
        taken: dict[str, list[Json]] = {leader: [], yielder: []}
        for part, moves in chains.items():
            for move in list(moves):
                tied = move["kind"] == "complementary eq"
                model = move_of(session.part(part), move["id"])
                if other[part] in heard_by(model) and not tied:
                    moves.remove(move)
                    turned, _ = rebind(model, Mapping(parts={other[part]: part}))
                    taken[other[part]].append(turned.model_dump(mode="json"))
                if tied and move["tied_to"]["part"] == other[part]:
                    move["side"] = "gives" if move["side"] == "gains" else "gains"
        for part, moves in taken.items():
            for move in moves:
                chains[part].append({**move, "id": _free_id(chains[part])})
        for zone in data["zones"]:
            if zone["leads"] == leader and zone["gives_way"] == [yielder]:
                zone.update(leads=yielder, gives_way=[leader])
            elif zone["leads"] == yielder and zone["gives_way"] == [leader]:
                zone.update(leads=leader, gives_way=[yielder])

    return f"{names[1]} leads, {names[0]} gives way", lambda session: _changed(session, change)
