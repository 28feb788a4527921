"""What differs between two states of a session, in words, move by move.

differences(a, b)
# [Difference("Tuba: compressor", ["threshold -30.0 dB, there -34.0 dB"], part="tuba", move="m1")]
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from pondel.core.document import Part, Session, Zone
from pondel.core.moves.controls import controls_of
from pondel.core.moves.registry import kind_of
from pondel.core.settings import name_of, settings_of
from pondel.core.units import say, say_hz


@dataclass(frozen=True)
class Difference:
    """Something that is not alike; `part` and `move` where it is a move.

    One that ties two parts is not taken over by itself.
    """

    title: str
    words: list[str]
    part: str | None = None
    move: str | None = None
    may_be_taken: bool = False


def differences(here: Session, there: Session) -> list[Difference]:
    """All that `there` has otherwise, in the order of the parts here."""
    found = []
    for part in here.parts:
        if not there.has_part(part.id):
            found.append(Difference(part.name, ["there it was taken out"]))
            continue
        found += _of_part(here, there, part, there.part(part.id))
    found += [
        Difference(part.name, ["it is there only"])
        for part in there.parts
        if not here.has_part(part.id)
    ]
    found += _of_song(here, there)
    return found


def _of_part(here: Session, there: Session, part: Part, other: Part) -> Iterator[Difference]:
    words = list(_plain(part, other))
    words += [
        f"{label} {name_of(here, mine, 'none')}, there {name_of(there, its, 'none')}"
        for label, mine, its in (("group", part.group, other.group),)
        if mine != its
    ]
    words += list(_sends(here, there, part, other))
    order = [one.id for one in part.moves], [one.id for one in other.moves]
    shared = set(order[0]) & set(order[1])
    if [one for one in order[0] if one in shared] != [one for one in order[1] if one in shared]:
        words.append("its moves stand in another order")
    if words:
        yield Difference(part.name, words)
    yield from _moves(here, there, part, other)


def _plain(part: Part, other: Part) -> Iterator[str]:
    if part.name != other.name:
        yield f"there it is called {other.name}"
    if part.role != other.role:
        yield f"role {part.role}, there {other.role}"
    if part.file != other.file:
        yield "there it is another recording"
    for control in controls_of(type(part)):
        mine, its = getattr(part, control.field), getattr(other, control.field)
        if mine != its:
            yield f"{control.title.lower()} {control.say(mine)}, there {control.say(its)}"
    if part.hits != other.hits:
        yield "its hits are others"


def _sends(here: Session, there: Session, part: Part, other: Part) -> Iterator[str]:
    mine, its = ({send.to: send for send in one.sends} for one in (part, other))
    for to in dict.fromkeys([*mine, *its]):
        name = name_of(here if here.has_part(to) else there, to)
        if to not in its:
            yield f"sent to {name} at {say(mine[to].level_db, 'dB')}, there not"
        elif to not in mine:
            yield f"there sent to {name} at {say(its[to].level_db, 'dB')}"
        elif mine[to] != its[to]:
            levels = say(mine[to].level_db, "dB"), say(its[to].level_db, "dB")
            yield f"sent to {name} {levels[0]} {mine[to].tap}, there {levels[1]} {its[to].tap}"


def _moves(here: Session, there: Session, part: Part, other: Part) -> Iterator[Difference]:
    mine, its = ({move.id: move for move in one.moves} for one in (part, other))
    for move_id in dict.fromkeys([*mine, *its]):
        move = mine.get(move_id) or its[move_id]
        title = f"{part.name}: {kind_of(move.kind).in_words}"
        both = [one for one in (mine.get(move_id), its.get(move_id)) if one is not None]
        about = part.id, move_id, all(kind_of(one.kind).pair is None for one in both)
        if move_id not in its:
            yield Difference(title, ["only here"], *about)
        elif move_id not in mine:
            yield Difference(
                title, [f"only there: {kind_of(move.kind).in_brief(move)}"], part.id, move_id
            )
        else:
            words = _settings(here, there, move, its[move_id])
            if words:
                yield Difference(title, words, *about)


def _settings(here: Session, there: Session, move: Any, other: Any) -> list[str]:
    if move.kind != other.kind:
        return [f"there a {kind_of(other.kind).in_words}"]
    mine = {one.label: one.words for one in settings_of(here, move)}
    its = {one.label: one.words for one in settings_of(there, other)}
    return [
        f"{label} {mine.get(label, 'none')}, there {its.get(label, 'none')}"
        for label in dict.fromkeys([*mine, *its])
        if mine.get(label) != its.get(label)
    ]


def _of_song(here: Session, there: Session) -> Iterator[Difference]:
    words = []
    for control in controls_of(Session):
        mine, its = getattr(here, control.field), getattr(there, control.field)
        if mine != its:
            words.append(f"{control.title.lower()} {control.say(mine)}, there {control.say(its)}")
    decided = [{_in_words(one, zone) for zone in one.zones} for one in (here, there)]
    words += [f"decided here only: {one}" for one in sorted(decided[0] - decided[1])]
    words += [f"decided there only: {one}" for one in sorted(decided[1] - decided[0])]
    if here.sections != there.sections:
        words.append("its sections are others")
    if words:
        yield Difference("The song", words)


def _in_words(document: Session, zone: Zone) -> str:
    yielders = ", ".join(name_of(document, part) for part in zone.gives_way)
    where = f"{say_hz(zone.low_hz)} to {say_hz(zone.high_hz)}"
    return f"{name_of(document, zone.leads)} over {yielders} in {where}"
