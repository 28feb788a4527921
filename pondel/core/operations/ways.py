"""Moves with computed settings: one part gives way to another."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Annotated, Any, ClassVar, Literal, Self

from pydantic import Field, model_validator

from pondel.core.advice.proposals import propose
from pondel.core.advice.starting_eq import starting_eq
from pondel.core.document import Session
from pondel.core.errors import BadDocument
from pondel.core.moves.base import LONGEST_S, MOST_SECTIONS
from pondel.core.moves.fight import ComesThrough, Fight, Start
from pondel.core.moves.registry import KINDS, kind_of
from pondel.core.operations.base import (
    NOTHING_KNOWN,
    Done,
    Facts,
    Json,
    MoveAt,
    Operation,
)
from pondel.core.operations.chain import NOT_GIVEN, KindName, laid, tied
from pondel.core.operations.how_far import HowFar, began_of, far_of
from pondel.core.operations.moves import set_by_hand
from pondel.core.refs import PartRef, SectionRef

EQUALISER = next(kind for kind in KINDS.values() if kind.begins_by_role)
SHORTENING = next(kind for kind in KINDS.values() if kind.ends_tails)
PARTING = next(kind.parts_lows for kind in KINDS.values() if kind.parts_lows is not None)
Hz = Annotated[float, Field(ge=10, le=24_000)]
StartS = Annotated[float, Field(ge=0, le=LONGEST_S)]


def laid_for(
    document: Session,
    fight: Fight,
    proposal: Start,
    start_s: float,
    values: Json | None = None,
    together: Json | None = None,
) -> Session:
    """The document with a proposed move laid on the part that gives way, or on both.

    `values` stand over what was worked out, as if they had been set by hand; `together` is what the
    move shares with others of the same step.
    """
    leader, yielder = fight.leader.id, fight.yielder.id
    settings = {**proposal.settings, **(values or {})}
    by_hand = set_by_hand(proposal.settings, settings)
    settings["began"] = {**began_of(fight, start_s, together), "by_hand": by_hand}
    if kind_of(settings["kind"]).pair is not None:
        return tied(document, leader, yielder, settings, proposal.reasons)
    return laid(document, yielder, settings, proposal.reasons)


def limited(proposal: Start, sections: Sequence[str]) -> Start:
    """A first setting in some sections of the song; in the whole song without any."""
    if not sections:
        return proposal
    return replace(proposal, settings={**proposal.settings, "sections": list(sections)})


class InZone(Operation):
    """What is asked for a fight, in a zone that may be given by both of its edges."""

    low_hz: Hz | None = None
    high_hz: Hz | None = None

    @model_validator(mode="after")
    def _is_a_range(self) -> Self:
        if (self.low_hz is None) != (self.high_hz is None):
            raise ValueError("a zone has a low and a high edge")
        if self.low_hz is not None and self.high_hz is not None and self.low_hz >= self.high_hz:
            raise ValueError("a zone's high edge lies above its low edge")
        return self

    def _zone_hz(self) -> tuple[float, float] | None:
        if self.low_hz is None or self.high_hz is None:
            return None
        return self.low_hz, self.high_hz


class GiveWay(InZone):
    """A move on a part for a leader, its settings computed from the fight near `start_s`.

    `kind` as named, or the usual one; the zone as given, or where the leader loses most; as far as is
    gentle, usual or strong in the trade; what is to come through of the leader is its snap, its body
    or its ring. `values` stand over what was worked out; with sections it works in these alone.
    """

    op: Literal["give way"] = "give way"
    part: PartRef
    leader: PartRef
    kind: KindName | None = None
    start_s: StartS = 0.0
    how_far: HowFar = "usual"
    comes_through: ComesThrough = "body"
    sections: list[SectionRef] = Field(default_factory=list, max_length=MOST_SECTIONS)
    values: dict[str, Any] = Field(default_factory=dict, max_length=80)
    example: ClassVar[Json] = {"part": "tuba", "leader": "drum", "start_s": 18.5, "how_far": "gentle"}

    def apply(self, document: Session, facts: Facts = NOTHING_KNOWN) -> Done:
        measured = facts.fight(document, self.leader, self.part, self.start_s, self._zone_hz())
        how = {"far": far_of(self.how_far), "comes_through": self.comes_through}
        fight = replace(measured, **how)  # type: ignore[arg-type]
        proposal = limited(propose(fight, self.kind), self.sections)
        self._check_values()
        left = laid_for(document, fight, proposal, self.start_s, self.values)
        added = MoveAt(self.part, left.part(self.part).moves[-1].id)
        kind = kind_of(proposal.settings["kind"]).in_words
        title = f"{fight.yielder.name}: {kind} for {fight.leader.name}"
        return Done(left, title, proposal.reasons, move=added, added=True)

    def _check_values(self) -> None:
        own = sorted(set(self.values) & {*NOT_GIVEN, "key", "tied_to", "side"})
        if own:
            raise BadDocument(f"a move's {own[0]} is not given", where="values")


class PartLows(InZone):
    """One of two low parts owns the subs, the other the low mids: tied, what one gains the other gives.

    `subs` is the part that owns the subs; where they end comes from the fight near `start_s`.
    """

    op: Literal["part lows"] = "part lows"
    part: PartRef
    leader: PartRef
    subs: PartRef
    start_s: StartS = 0.0
    how_far: HowFar = "usual"
    example: ClassVar[Json] = {"part": "tuba", "leader": "drum", "subs": "drum", "start_s": 18.5}

    def apply(self, document: Session, facts: Facts = NOTHING_KNOWN) -> Done:
        if self.subs not in (self.part, self.leader):
            raise BadDocument("one of the two owns the subs", where=document.part(self.subs).name)
        measured = facts.fight(document, self.leader, self.part, self.start_s, self._zone_hz())
        fight = replace(measured, far=far_of(self.how_far))
        start = PARTING(fight, self.subs == self.leader)
        left = tied(document, self.leader, self.part, start.settings, start.reasons)
        added = MoveAt(self.part, left.part(self.part).moves[-1].id)
        title = f"{document.part(self.subs).name} owns the subs"
        return Done(left, title, start.reasons, move=added, added=True)


class RightOfWay(Operation):
    """The usual move on every part that gives way in a zone."""

    op: Literal["right of way"] = "right of way"
    zone: Annotated[str, Field(max_length=40)]
    start_s: StartS = 0.0
    how_far: HowFar = "usual"
    example: ClassVar[Json] = {"zone": "z1", "start_s": 18.5}

    def apply(self, document: Session, facts: Facts = NOTHING_KNOWN) -> Done:
        zone = next((z for z in document.zones if z.id == self.zone), None)
        if zone is None or not zone.gives_way:
            raise BadDocument("decide first who leads and who gives way in this zone")
        left, said = document, []
        for yielder in zone.gives_way:
            edges = zone.low_hz, zone.high_hz
            measured = facts.fight(document, zone.leads, yielder, self.start_s, edges)
            fight = replace(measured, far=far_of(self.how_far))
            proposal = limited(propose(fight), zone.sections)
            left = laid_for(left, fight, proposal, self.start_s)
            said += proposal.reasons
        last = left.part(zone.gives_way[-1])
        added = MoveAt(last.id, last.moves[-1].id)
        title = f"Make way for {document.part(zone.leads).name}"
        return Done(left, title, said, move=added, added=True)


class StartingEq(Operation):
    """A modest EQ for what a part is, placed by its own sound; each band says why it is there."""

    op: Literal["starting eq"] = "starting eq"
    part: PartRef
    example: ClassVar[Json] = {"part": "tuba"}

    def apply(self, document: Session, facts: Facts = NOTHING_KNOWN) -> Done:
        part = document.part(self.part)
        home = facts.home(part)
        if home is None:
            raise BadDocument("there is no sound of its own to begin from", where=part.name)
        spectrum = facts.spectrum_db(document, part, 0.0, None)
        bands, why = starting_eq(part, home, spectrum, facts.pitch_hz(part))
        if not bands:
            raise BadDocument("there is nothing that a modest EQ would do", where=part.name)
        left = laid(document, part.id, {"kind": EQUALISER.name, "bands": bands}, why)
        added = MoveAt(part.id, left.part(part.id).moves[-1].id)
        return Done(left, f"{part.name}: starting EQ", why, move=added, added=True)
