"""One over many: several parts make way for one leader in one step, each in its own measure."""

from __future__ import annotations

from dataclasses import replace
from typing import Annotated, ClassVar, Literal

from pydantic import Field

from pondel.core.advice.proposals import propose
from pondel.core.document import MOST_PARTS, Part, Role, Session
from pondel.core.errors import BadDocument
from pondel.core.moves.amounts import STEPS
from pondel.core.moves.registry import kind_of
from pondel.core.operations.base import NOTHING_KNOWN, Done, Facts, Json, MoveAt, Operation
from pondel.core.operations.chain import KindName
from pondel.core.operations.ways import StartS, laid_for
from pondel.core.refs import PartRef

Amount = Literal["none", "gentle", "usual", "strong"]
BY_ROLE: dict[Role, Amount] = {
    "bass": "usual",
    "guitar": "gentle",
    "keys": "gentle",
    "pad": "gentle",
    "brass": "gentle",
    "strings": "gentle",
    "effect": "gentle",
    "other": "gentle",
}
"""A bass gives most, what fills gives little; drums, leads and voices are left alone."""


def may_give_way(part: Part, leader_id: str) -> bool:
    """Whether a part can be one of many: it has a sound of its own, and is no reference."""
    return part.id != leader_id and part.source == "file" and not part.reference


def amounts_by_role(document: Session, leader_id: str) -> dict[str, Amount]:
    """What each other part gives, by what it is."""
    return {
        part.id: BY_ROLE.get(part.role, "none")
        for part in document.parts
        if may_give_way(part, leader_id)
    }


class UnderOne(Operation):
    """Several parts make way for one leader: each by the usual move for its fight, laid last.

    `amounts` says how far each goes; one that is not named, or "none", is left alone. Without any the
    role decides.
    """

    op: Literal["under one"] = "under one"
    leader: PartRef
    amounts: Annotated[dict[str, Amount], Field(max_length=MOST_PARTS)] = Field(default_factory=dict)
    kind: KindName | None = None
    start_s: StartS = 0.0
    example: ClassVar[Json] = {"leader": "drum", "amounts": {"tuba": "usual", "accordion": "gentle"}}

    def apply(self, document: Session, facts: Facts = NOTHING_KNOWN) -> Done:
        leader = document.part(self.leader)
        amounts = self.amounts or amounts_by_role(document, leader.id)
        giving = {part: STEPS[amount] for part, amount in amounts.items() if amount != "none"}
        if not giving:
            raise BadDocument("choose at least one part that gives way")
        left, said, last = document, [], None
        for part_id, far in giving.items():
            part = document.part(part_id)
            if not may_give_way(part, leader.id):
                raise BadDocument("it cannot give way to this leader", where=part.name)
            fight = replace(facts.fight(document, leader.id, part_id, self.start_s, None), far=far)
            proposal = propose(fight, self.kind)
            left = laid_for(left, fight, proposal, self.start_s)
            words = kind_of(proposal.settings["kind"]).in_words
            said.append(f"{part.name}: {words}.")
            last = MoveAt(part_id, left.part(part_id).moves[-1].id)
        count = f"{len(giving)} parts" if len(giving) > 1 else document.part(next(iter(giving))).name
        return Done(left, f"{count} under {leader.name}", said, move=last, added=True)
