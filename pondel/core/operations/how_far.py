"""How far a first setting goes, and working it out anew without losing what was set by hand."""

from __future__ import annotations

from dataclasses import replace
from typing import Annotated, Any, ClassVar, Literal

from pydantic import Field

from pondel.core.advice.proposals import propose
from pondel.core.document import Session, move_of
from pondel.core.errors import BadDocument
from pondel.core.moves.amounts import STEPS, far_words
from pondel.core.moves.fight import ComesThrough, Fight
from pondel.core.moves.registry import kind_of
from pondel.core.operations.base import (
    NOTHING_KNOWN,
    Done,
    Facts,
    Json,
    MoveAt,
    MoveId,
    Operation,
)
from pondel.core.operations.moves import on_move, with_values
from pondel.core.refs import PartRef

HowFar = Literal["gentle", "usual", "strong"] | Annotated[float, Field(ge=0, le=2)]
"""The trade's amounts by name, or a place from 0 (gentle) over 1 (usual) to 2 (strong)."""


NOT_HEARD = {"id", "on", "why", "began", "lost", "sections"}
HEARD_DB, HEARD_SHARE = 1.0, 0.15


def far_of(how_far: str | float) -> float:
    """The place of an amount between gentle and strong."""
    return STEPS[how_far] if isinstance(how_far, str) else how_far


def began_of(fight: Fight, start_s: float, together: Json | None = None) -> Json:
    """What is kept of a fight, so that its first setting can be worked out anew.

    `together` is what it shares with others that were laid in the same step.
    """
    zone = {"low_hz": round(fight.low_hz, 2), "high_hz": round(fight.high_hz, 2)}
    how = {"far": fight.far, "comes_through": fight.comes_through}
    return {"leader": fight.leader.id, "start_s": start_s, **zone, **how, **(together or {})}


class GoAsFar(Operation):
    """Work a move's first setting out anew, going further or less far; what was set by hand stays.

    What is not given stays as it was; `anew` forgets what was set by hand.
    """

    op: Literal["go as far"] = "go as far"
    part: PartRef
    move: MoveId
    how_far: HowFar | None = None
    comes_through: ComesThrough | None = None
    anew: bool = False
    example: ClassVar[Json] = {"part": "tuba", "move": "m1", "how_far": "strong"}

    def apply(self, document: Session, facts: Facts = NOTHING_KNOWN) -> Done:
        part = document.part(self.part)
        move = move_of(part, self.move)
        if move.began is None:
            raise BadDocument(f"this {kind_of(move.kind).in_words} was not laid for a fight")
        far = move.began.far if self.how_far is None else far_of(self.how_far)
        through = self.comes_through or move.began.comes_through
        how = {"far": far, "comes_through": through}
        left, _ = anew(document, facts, self.part, self.move, how, keep=not self.anew)
        title = f"{part.name}: {far_words(far)}, for the {through}"
        return Done(left, title, move=MoveAt(self.part, self.move))


def anew(
    document: Session, facts: Facts, part_id: str, move_id: str, how: Json, *, keep: bool
) -> tuple[Session, list[str]]:
    """A document in which a move that was laid for a fight has its first setting, and why.

    `how` is how far to go and what is to come through; with `keep` what was set by hand stays.
    """
    move = move_of(document.part(part_id), move_id)
    began = move.began
    if not document.has_part(began.leader):
        raise BadDocument("the part that it made way for was taken out")
    yielder = part_id if part_id != began.leader else move.tied_to.part
    bare = switched_off(document, part_id, move_id)
    zone = began.low_hz, began.high_hz
    measured = facts.fight(bare, began.leader, yielder, began.start_s, zone)
    if began.due_s is not None:
        measured = replace(measured, recovery_s=began.due_s)
    fight = replace(measured, **how)
    proposal = propose(fight, move.kind)
    shared = {"together": began.together, "due_s": began.due_s}
    by_hand = began.by_hand if keep else []

    def change(data: Json) -> None:
        data.update(worked_out(data, proposal.settings, by_hand), why=proposal.reasons)
        data["began"] = {**began_of(fight, began.start_s, shared), "by_hand": list(by_hand)}

    return on_move(document, part_id, move_id, change, by_hand=False), proposal.reasons


def differ_by_ear(one: Any, other: Any, name: str = "") -> bool:
    """Whether two settings of a move differ by more than the fit of a first setting does by itself.

    By 1 dB of a level, or by 15 % of anything else that is a number; words have to be the same.
    """
    if isinstance(one, dict) and isinstance(other, dict):
        compared = {*one, *other} - NOT_HEARD
        return any(differ_by_ear(one.get(key), other.get(key), key) for key in compared)
    if isinstance(one, list) and isinstance(other, list):
        return len(one) != len(other) or any(
            differ_by_ear(a, b, name) for a, b in zip(one, other, strict=True)
        )
    if not _is_number(one) or not _is_number(other):
        return one != other
    if name.endswith("_db"):
        return abs(one - other) > HEARD_DB
    return abs(one - other) > HEARD_SHARE * max(abs(one), abs(other))


def _is_number(value: Any) -> bool:
    return isinstance(value, int | float) and not isinstance(value, bool)


def switched_off(document: Session, part_id: str, move_id: str) -> Session:
    """The document without what one of its moves does."""
    return with_values(document, part_id, move_id, {"on": False})


def worked_out(current: Json, settings: Json, by_hand: list[str]) -> Json:
    """New settings over current ones, without those that were set by hand."""
    return {
        name: _over(current.get(name), value, _inside(by_hand, name))
        for name, value in settings.items()
    }


def _inside(by_hand: list[str], name: str) -> list[str]:
    """What of the paths lies at or under a name; an empty one is the name itself."""
    return [path.partition(".")[2] for path in by_hand if path.partition(".")[0] == name]


def _over(current: Any, value: Any, by_hand: list[str]) -> Any:
    """A value, with what was set by hand in it as it is now."""
    if not by_hand:
        return value
    if isinstance(value, dict) and isinstance(current, dict):
        names = {*value, *({path.partition(".")[0] for path in by_hand} & set(current))}
        return {
            name: _over(current.get(name), value.get(name), _inside(by_hand, name)) for name in names
        }
    if isinstance(value, list) and isinstance(current, list) and "" not in by_hand:
        return [
            _over(current[n], one, _inside(by_hand, str(n))) if n < len(current) else one
            for n, one in enumerate(value)
        ]
    return current
