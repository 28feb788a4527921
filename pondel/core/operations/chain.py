"""Changes to which moves stand in a part's chain, and in which order."""

from __future__ import annotations

from copy import deepcopy
from typing import Annotated, Any, ClassVar, Literal

from pydantic import Field

from pondel.core.advice.tuning import tunings
from pondel.core.document import MOST_PARTS, Session, move_of
from pondel.core.errors import BadDocument
from pondel.core.ids import fresh_id
from pondel.core.moves.registry import KINDS, kind_of
from pondel.core.notes import note_name
from pondel.core.operations.base import (
    NOTHING_KNOWN,
    Done,
    Facts,
    Json,
    MoveAt,
    MoveId,
    Operation,
    changed,
)
from pondel.core.operations.how_far import anew
from pondel.core.operations.moves import chain_in, well_pointed
from pondel.core.refs import Mapping, PartRef, rebind, references
from pondel.core.units import say_hz

NOT_GIVEN = ("id", "kind", "lost", "why", "began")
KindName = Annotated[str, Field(max_length=40)]


def free_id(moves: list[Json]) -> str:
    """An id that no move of a chain has."""
    taken = {move["id"] for move in moves}
    return fresh_id(f"m{len(taken) + 1}", taken)


def laid(document: Session, part_id: str, settings: Json, why: list[str]) -> Session:
    """A document with a move appended to a part's chain; `settings` holds its kind and its values."""
    kind = kind_of(str(settings.get("kind")))
    if kind.pair is not None:
        raise BadDocument(f"a {kind.title} ties two parts: choose the other one")

    def change(data: Json) -> None:
        moves = chain_in(data, part_id)
        moves.append({**settings, "why": why, "id": free_id(moves)})

    left = changed(document, change)
    return well_pointed(left, part_id, left.part(part_id).moves[-1].id)


def tied(document: Session, first: str, second: str, settings: Json, why: list[str]) -> Session:
    """A document with a pair of moves on two parts, each listening to the other."""
    kind = kind_of(str(settings.get("kind")))
    if first == second:
        raise BadDocument(f"a {kind.title} ties two different parts")
    if kind.pair is None:
        raise BadDocument(f"a {kind.title} stands on one part alone")
    pair = kind.pair

    def change(data: Json) -> None:
        chains = chain_in(data, first), chain_in(data, second)
        ids = free_id(chains[0]), free_id(chains[1])
        both = pair.laid((first, second), ids, {**settings, "why": why})
        for chain, move in zip(chains, both, strict=True):
            chain.append(deepcopy(move))

    return changed(document, change)


class AddMove(Operation):
    """Append a move with its defaults, and any values that differ from them."""

    op: Literal["add move"] = "add move"
    part: PartRef
    kind: KindName
    values: dict[str, Any] = Field(default_factory=dict, max_length=80)
    example: ClassVar[Json] = {"part": "tuba", "kind": next(iter(KINDS))}

    def apply(self, document: Session, facts: Facts = NOTHING_KNOWN) -> Done:
        part = document.part(self.part)
        kind = kind_of(self.kind)
        own = sorted(set(self.values) & set(NOT_GIVEN))
        if own:
            raise BadDocument(f"a move's {own[0]} is not given", where="values")
        tuned, why = self._tuned(document, facts)
        left = laid(document, self.part, {**tuned, **self.values, "kind": self.kind}, why)
        added = MoveAt(self.part, left.part(self.part).moves[-1].id)
        return Done(left, f"{part.name}: add {kind.in_words}", why, move=added, added=True)

    def _tuned(self, document: Session, facts: Facts) -> tuple[Json, list[str]]:
        """The pitch of what has one, where one is certain and none was given."""
        kind = kind_of(self.kind)
        offered = tunings(document, document.part(self.part), kind, None, facts.pitch_hz)
        if not offered or kind.tuned in self.values:
            return {}, []
        first = offered[0]
        return {kind.tuned: first.hz}, [f"{note_name(first.hz)}, {say_hz(first.hz)}: {first.title}."]


class RemoveMove(Operation):
    """Take a move out of a part's chain. One side of a pair only goes with the other."""

    op: Literal["remove move"] = "remove move"
    part: PartRef
    move: MoveId
    both_sides: bool = False
    example: ClassVar[Json] = {"part": "tuba", "move": "m1"}

    def apply(self, document: Session, facts: Facts = NOTHING_KNOWN) -> Done:
        part = document.part(self.part)
        move = move_of(part, self.move)
        gone = [(self.part, self.move)]
        if kind_of(move.kind).pair is not None and not move.lost:
            if not self.both_sides:
                other = document.part(move.tied_to.part).name
                raise BadDocument(f"this side is tied to {other}: remove both sides, or neither")
            gone.append((move.tied_to.part, move.tied_to.move))

        def change(data: Json) -> None:
            for one_part, one_move in gone:
                moves = chain_in(data, one_part)
                moves[:] = [m for m in moves if m["id"] != one_move]

        title = f"{part.name}: remove {kind_of(move.kind).in_words}"
        return Done(changed(document, change), title)


class ReorderMove(Operation):
    """Bring a move to a place in its chain, counted from 0."""

    op: Literal["reorder move"] = "reorder move"
    part: PartRef
    move: MoveId
    to: int = Field(ge=-1000, le=1000, strict=True)
    example: ClassVar[Json] = {"part": "tuba", "move": "m1", "to": 1}

    def apply(self, document: Session, facts: Facts = NOTHING_KNOWN) -> Done:
        part = document.part(self.part)
        move_of(part, self.move)

        def change(data: Json) -> None:
            moves = chain_in(data, self.part)
            move = moves.pop(next(n for n, m in enumerate(moves) if m["id"] == self.move))
            moves.insert(max(0, min(self.to, len(moves))), move)

        title = f"{part.name}: reorder moves"
        return Done(changed(document, change), title, move=MoveAt(self.part, self.move))


class DuplicateMove(Operation):
    """The same move once more, right after itself."""

    op: Literal["duplicate move"] = "duplicate move"
    part: PartRef
    move: MoveId
    example: ClassVar[Json] = {"part": "tuba", "move": "m1"}

    def apply(self, document: Session, facts: Facts = NOTHING_KNOWN) -> Done:
        part = document.part(self.part)
        if kind_of(move_of(part, self.move).kind).pair is not None:
            raise BadDocument("one side of a pair cannot be doubled")
        copy = free_id([move.model_dump(include={"id"}) for move in part.moves])

        def change(data: Json) -> None:
            moves = chain_in(data, self.part)
            at = next(n for n, m in enumerate(moves) if m["id"] == self.move)
            moves.insert(at + 1, {**deepcopy(moves[at]), "id": copy})

        added = MoveAt(self.part, copy)
        return Done(changed(document, change), f"{part.name}: duplicate a move", move=added, added=True)


class CopyMoves(Operation):
    """Append a move of a part, or its whole chain, to other parts, with what it listens to.

    A move that follows its own part's hits follows those of its new part. A copy that would listen to
    the part it stands on is left out; so are sides of a pair.
    """

    op: Literal["copy moves"] = "copy moves"
    part: PartRef
    move: MoveId | None = None
    to: list[PartRef] = Field(max_length=MOST_PARTS)
    example: ClassVar[Json] = {"part": "tuba", "move": "m1", "to": ["accordion"]}

    def apply(self, document: Session, facts: Facts = NOTHING_KNOWN) -> Done:
        part = document.part(self.part)
        if self.move is not None:
            move_of(part, self.move)
        chosen = [m for m in part.moves if self.move in (None, m.id)]
        chosen = [m for m in chosen if kind_of(m.kind).pair is None]
        names = [document.part(target).name for target in self.to if target != self.part]
        if not chosen or not names:
            raise BadDocument("choose moves to copy, and parts to copy them to")
        fitting = {
            target: [move for move in chosen if target not in _heard_by(move)]
            for target in self.to
            if target != self.part
        }
        if not any(fitting.values()):
            raise BadDocument("nothing to copy to that part: every move chosen listens to it")

        def change(data: Json) -> None:
            for target, copied in fitting.items():
                moves = chain_in(data, target)
                for move in copied:
                    own, _ = rebind(move, Mapping(parts={self.part: target}))
                    moves.append({**own.model_dump(mode="json"), "id": free_id(moves)})

        left_out = sum(len(chosen) - len(copied) for copied in fitting.values())
        said = []
        if left_out:
            said.append(f"{left_out} left out: a move does not listen to the part it stands on.")
        to = names[0] if len(names) == 1 else f"{len(names)} parts"
        return Done(changed(document, change), f"Copy from {part.name} to {to}", said)


def _heard_by(move: Any) -> set[str]:
    """The parts that a move listens to, or whose hits it follows."""
    return {one for at, one in references(move) if at != "section"}


class Swap(Operation):
    """Let the leader give way instead: its keyed moves and the yielder's change places.

    Moves that listen to the other part move over, and listen to the part they came from; what was
    worked out from the fight is worked out anew.
    """

    op: Literal["swap"] = "swap"
    leader: PartRef
    part: PartRef
    example: ClassVar[Json] = {"leader": "drum", "part": "tuba"}

    def apply(self, document: Session, facts: Facts = NOTHING_KNOWN) -> Done:
        names = document.part(self.leader).name, document.part(self.part).name
        other = {self.leader: self.part, self.part: self.leader}
        fresh: list[tuple[str, str]] = []

        def change(data: Json) -> None:
            taken: dict[str, list[Json]] = {self.leader: [], self.part: []}
            for holder, faced in other.items():
                moves = chain_in(data, holder)
                for move in list(moves):
                    model = move_of(document.part(holder), move["id"])
                    pair = kind_of(move["kind"]).pair
                    if pair is not None:
                        if move["tied_to"]["part"] == faced:
                            move["side"] = pair.turned(move["side"])
                    elif faced in _heard_by(model):
                        moves.remove(move)
                        turned, _ = rebind(model, Mapping(parts={faced: holder}))
                        taken[faced].append(turned.model_dump(mode="json"))
            for holder, arrived in taken.items():
                moves = chain_in(data, holder)
                for move in arrived:
                    moves.append({**move, "id": free_id(moves)})
                    if move["began"]:
                        move["began"]["leader"] = other[holder]
                        fresh.append((holder, moves[-1]["id"]))
            for zone in data["zones"]:
                if zone["leads"] in other and zone["gives_way"] == [other[zone["leads"]]]:
                    zone.update(leads=other[zone["leads"]], gives_way=[zone["leads"]])

        if self.leader == self.part:
            raise BadDocument("a part cannot give way to itself: choose two parts")
        left, said = changed(document, change), []
        for holder, move_id in fresh:
            began = move_of(left.part(holder), move_id).began
            how = {"far": began.far, "comes_through": began.comes_through}
            left, why = anew(left, facts, holder, move_id, how, keep=False)
            said += why
        return Done(left, f"{names[1]} leads, {names[0]} gives way", said)
