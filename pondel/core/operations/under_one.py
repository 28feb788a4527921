"""One over many: several parts make way for one leader in one step, each in its own measure."""

from __future__ import annotations

from dataclasses import replace
from statistics import median
from typing import Annotated, ClassVar, Literal

from pydantic import Field

from pondel.core.advice.direct import most_direct
from pondel.core.advice.proposals import propose
from pondel.core.document import MOST_PARTS, Part, Role, Session, move_of
from pondel.core.errors import BadDocument
from pondel.core.ids import fresh_id
from pondel.core.moves.amounts import STEPS
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
from pondel.core.operations.chain import KindName, RemoveMove
from pondel.core.operations.how_far import anew
from pondel.core.operations.moves import SetMove
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
    role decides. All come back in the same time, and listen to the most direct recording of the leader.
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
        for part_id in giving:
            if not may_give_way(document.part(part_id), leader.id):
                raise BadDocument(
                    "it cannot give way to this leader", where=document.part(part_id).name
                )
        key, why = most_direct(document, leader, facts, giving)
        fights = {one: self._fight(document, facts, key.id, one) for one in giving}
        due_s = _shared_s([fight.recovery_s for fight in fights.values()])
        shared = {"together": _free_step(document), "due_s": due_s}
        left, said, last = document, [why] if why else [], None
        for part_id, fight in fights.items():
            at = replace(fight, far=giving[part_id], recovery_s=due_s or fight.recovery_s)
            proposal = propose(at, self.kind)
            left = laid_for(left, at, proposal, self.start_s, together=shared)
            words = kind_of(proposal.settings["kind"]).in_words
            said.append(f"{document.part(part_id).name}: {words}.")
            last = MoveAt(part_id, left.part(part_id).moves[-1].id)
        names = [document.part(one).name for one in fights]
        count = f"{len(names)} parts" if len(names) != 1 else names[0]
        return Done(left, f"{count} under {leader.name}", said, move=last, added=True)

    def _fight(self, document: Session, facts: Facts, key: str, part: str) -> Fight:
        """A fight with the leader, as the most direct recording of it is heard by detectors."""
        fight = facts.fight(document, self.leader, part, self.start_s, None)
        if key == self.leader:
            return fight
        zone_hz = fight.low_hz, fight.high_hz
        direct = facts.fight(document, key, part, self.start_s, zone_hz)
        return replace(direct, hidden_on_hits=fight.hidden_on_hits, recovery_s=fight.recovery_s)


def _shared_s(recoveries: list[float | None]) -> float | None:
    """When all are due back after a hit: the median of what their fights ask for."""
    known = [one for one in recoveries if one is not None]
    return round(median(known), 3) if known else None


def _free_step(document: Session) -> str:
    """An id of a step that no move has."""
    taken = {move.began.together for part in document.parts for move in part.moves if move.began}
    return fresh_id("s1", taken)


def laid_together(document: Session, part_id: str, move_id: str) -> list[MoveAt]:
    """The moves that were laid in one step with a move, itself among them; empty for one by itself."""
    began = move_of(document.part(part_id), move_id).began
    if began is None or not began.together:
        return []
    return [
        MoveAt(part.id, move.id)
        for part in document.parts
        for move in part.moves
        if move.began is not None
        and move.began.together == began.together
        and part.id != move.began.leader
    ]


class ChangeTogether(Operation):
    """Change all moves that were laid in one step with a move: as one thing.

    `further` goes so many steps further (1) or less far (-1) than each went; what was set by hand
    stays.
    """

    op: Literal["change together"] = "change together"
    part: PartRef
    move: MoveId
    further: Annotated[float, Field(ge=-2, le=2)] = 0.0
    comes_through: ComesThrough | None = None
    on: bool | None = None
    remove: bool = False
    example: ClassVar[Json] = {"part": "tuba", "move": "m2", "further": -1}

    def apply(self, document: Session, facts: Facts = NOTHING_KNOWN) -> Done:
        members = laid_together(document, self.part, self.move)
        if not members:
            raise BadDocument("this move was not laid together with others")
        moves = [move_of(document.part(one.part), one.move) for one in members]
        end = 2.0 if self.further > 0 else 0.0
        if self.further and all(move.began.far == end for move in moves):
            raise BadDocument("all of them go as far as they can" if end else "none can go less far")
        left = document
        for one in members:
            left = self._changed(left, facts, one)
        leader = document.part(move_of(document.part(self.part), self.move).began.leader).name
        count = f"{len(members)} parts" if len(members) != 1 else document.part(self.part).name
        title = f"{count} under {leader}: {self._words()}"
        return Done(left, title, move=None if self.remove else MoveAt(self.part, self.move))

    def _changed(self, document: Session, facts: Facts, at: MoveAt) -> Session:
        if self.remove:
            both = kind_of(move_of(document.part(at.part), at.move).kind).pair is not None
            return RemoveMove(part=at.part, move=at.move, both_sides=both).apply(document).document
        left, began = document, move_of(document.part(at.part), at.move).began
        if self.on is not None:
            asked = SetMove(part=at.part, move=at.move, field="on", value=self.on)
            left = asked.apply(left, facts).document
        if not self.further and self.comes_through is None:
            return left
        far = min(max(began.far + self.further, 0.0), 2.0)
        how = {"far": far, "comes_through": self.comes_through or began.comes_through}
        return anew(left, facts, at.part, at.move, how, keep=True)[0]

    def _words(self) -> str:
        if self.remove:
            return "taken out"
        told = [
            {True: "further", False: "less far"}[self.further > 0] if self.further else "",
            f"for the {self.comes_through}" if self.comes_through else "",
            {True: "on", False: "off", None: ""}[self.on],
        ]
        return ", ".join(one for one in told if one) or "as they are"
