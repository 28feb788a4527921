"""A plan for the whole mix as plain data: its lines, what it leaves, what all of it gives."""

from __future__ import annotations

from dataclasses import dataclass, field

from pondel.core.advice.claims import Claim
from pondel.core.document import Session, content_hash
from pondel.core.errors import BadDocument
from pondel.core.judgement.plan import Candidate
from pondel.core.judgement.thinness import Thinned
from pondel.core.judgement.ways import Way
from pondel.core.operations.plan import MakeRoom, RoomLine
from pondel.jobs.leases import LeasedWork

STRETCH_S = 8.0
"""How much of the song a line is judged over."""


@dataclass(frozen=True)
class Line:
    """One line of a plan: a fight, the way that is taken, and what it gives on top of those above."""

    claim: Claim
    candidate: Candidate
    start_s: float
    where: str
    """The section in which it was judged: where the leader loses most."""
    brief: str

    @property
    def way(self) -> Way:
        return self.candidate.way

    def operation(self) -> RoomLine:
        """The line as it is laid."""
        claim = self.claim
        return RoomLine(
            leader=claim.leader,
            part=claim.yielder,
            kind=self.way.kind,
            low_hz=claim.low_hz,
            high_hz=claim.high_hz,
            start_s=self.start_s,
            how_far=self.way.far,
            sections=list(claim.sections),
        )


@dataclass(frozen=True)
class Left:
    """A fight that a plan leaves as it is."""

    claim: Claim
    why: str


@dataclass(frozen=True)
class Stands:
    """How a leader stands in its zone in one section, before and after; on its hits if it has any."""

    section: str
    before_db: float
    after_db: float

    @property
    def won_db(self) -> float:
        return self.after_db - self.before_db


@dataclass(frozen=True)
class WholePlan:
    """What a plan does to the whole mix; `stands` are the sections of each of its lines."""

    document: Session
    stands: list[list[Stands]]
    loudness_db: float | None
    warmth_db: float
    thin: list[Thinned]

    @property
    def name(self) -> str:
        """The name of the session with it, by which it is heard."""
        return content_hash(self.document.model_dump_json())[:24]

    def worst(self) -> tuple[int, Stands] | None:
        """The line and the section in which a leader wins least."""
        every = [(n, one) for n, stands in enumerate(self.stands) for one in stands]
        return min(every, key=lambda one: one[1].won_db, default=None)


@dataclass(eq=False)
class Weighing(LeasedWork):
    """What the lines of a plan that were not struck give together, once it is known."""

    whole: WholePlan | None = None


@dataclass(eq=False)
class Planned(LeasedWork):
    """A plan as far as it has come. Its lists are replaced, never changed."""

    name: str
    document: Session
    step: str = "listening to the whole song"
    done: int = 0
    total: int = 1
    is_draft: bool = False
    """Whether nothing was decided, so that roles say who leads."""
    lines: list[Line] = field(default_factory=list)
    left: list[Left] = field(default_factory=list)
    whole: WholePlan | None = None
    """What all its lines give together, once it is known."""

    @property
    def moves(self) -> int:
        """How many moves all lines lay."""
        return sum(line.candidate.moves for line in self.lines)

    def kept(self, struck: frozenset[int]) -> list[Line]:
        """The lines that were not struck."""
        return [line for n, line in enumerate(self.lines) if n not in struck]

    def leave(self, claim: Claim, why: str) -> None:
        """Tell of a fight that it is left, and why."""
        self.left = [*self.left, Left(claim, why)]

    def operation(self, struck: frozenset[int] = frozenset()) -> MakeRoom:
        """What keeps the plan, as one operation; BadDocument when all of it was struck."""
        kept = self.kept(struck)
        if not kept:
            raise BadDocument("nothing is left of this plan: there is nothing to keep")
        return MakeRoom(lines=[line.operation() for line in kept])
