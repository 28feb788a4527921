"""Room for several leaders in one step: a plan for the whole mix, as it is kept."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal, Self

from pydantic import Field, model_validator

from pondel.core.document import Session
from pondel.core.model import Model
from pondel.core.moves.base import MOST_SECTIONS
from pondel.core.operations.base import NOTHING_KNOWN, Done, Facts, Json, Operation
from pondel.core.operations.chain import KindName
from pondel.core.operations.how_far import HowFar
from pondel.core.operations.ways import GiveWay, Hz, StartS
from pondel.core.refs import PartRef, SectionRef

MOST_LINES = 40


class RoomLine(Model):
    """One line of a plan: who makes way for whom, where, by which kind, how far."""

    leader: PartRef
    part: PartRef
    kind: KindName | None = None
    low_hz: Hz
    high_hz: Hz
    start_s: StartS = 0.0
    how_far: HowFar = "usual"
    sections: list[SectionRef] = Field(default_factory=list, max_length=MOST_SECTIONS)

    @model_validator(mode="after")
    def _is_a_range(self) -> Self:
        if self.low_hz >= self.high_hz:
            raise ValueError("a zone's high edge has to be above its low edge")
        return self


class MakeRoom(Operation):
    """Several parts make way, each for its leader, one line after another."""

    op: Literal["make room"] = "make room"
    lines: Annotated[list[RoomLine], Field(min_length=1, max_length=MOST_LINES)]
    example: ClassVar[Json] = {
        "lines": [
            {"leader": "drum", "part": "tuba", "low_hz": 40, "high_hz": 105},
            {"leader": "accordion", "part": "tuba", "low_hz": 200, "high_hz": 500},
        ]
    }

    def apply(self, document: Session, facts: Facts = NOTHING_KNOWN) -> Done:
        left, said, move = document, [], None
        for line in self.lines:
            done = GiveWay(**line.model_dump()).apply(left, facts)
            left, move = done.document, done.move
            said.append(f"{done.title}.")
        leaders = list(dict.fromkeys(document.part(line.leader).name for line in self.lines))
        names = leaders[0] if len(leaders) == 1 else f"{len(leaders)} leaders"
        return Done(left, f"Room for {names}", said, move=move, added=True)
