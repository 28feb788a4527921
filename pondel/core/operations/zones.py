"""Decisions: who leads and who gives way in a zone."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

from pydantic import Field

from pondel.core.document import Session, Zone
from pondel.core.errors import BadDocument, NotFound
from pondel.core.ids import fresh_id
from pondel.core.moves.base import MOST_SECTIONS
from pondel.core.operations.base import NOTHING_KNOWN, Done, Facts, Json, Operation, Words
from pondel.core.reading import parse_session, to_json
from pondel.core.refs import PartRef, SectionRef
from pondel.core.units import parse, say_hz

LOWEST_HZ, HIGHEST_HZ = 10.0, 24_000.0
Hz = float | Words


def typed_hz(value: Hz) -> float:
    """A frequency as it comes from a form; BadDocument when it is none."""
    found = parse(value, "Hz") if isinstance(value, str) else value
    if found is None:
        raise BadDocument("a frequency is needed", where="Zone")
    return float(found)


class Decide(Operation):
    """Store who leads and who gives way in a zone; the pair's own zone there is replaced."""

    op: Literal["decide"] = "decide"
    leads: PartRef
    gives_way: PartRef
    low_hz: Hz
    high_hz: Hz
    sections: list[SectionRef] = Field(default_factory=list, max_length=MOST_SECTIONS)
    example: ClassVar[Json] = {"leads": "drum", "gives_way": "tuba", "low_hz": 38, "high_hz": "92 Hz"}

    def apply(self, document: Session, facts: Facts = NOTHING_KNOWN) -> Done:
        low_hz, high_hz = sorted(round(typed_hz(one), 1) for one in (self.low_hz, self.high_hz))
        leader, yielder = document.part(self.leads), document.part(self.gives_way)
        if leader.id == yielder.id:
            raise BadDocument("a part cannot give way to itself: choose two parts")
        known = {section.id for section in document.sections}
        if not set(self.sections) <= known:
            raise BadDocument("there is no such section", where="Zone")

        def is_same(zone: Zone) -> bool:
            pair = {zone.leads, *zone.gives_way} == {leader.id, yielder.id}
            return pair and zone.low_hz < high_hz and zone.high_hz > low_hz

        data = to_json(document)
        rows = zip(data["zones"], document.zones, strict=True)
        kept = [row for row, zone in rows if not is_same(zone)]
        zone = {
            "id": fresh_id("z1", {row["id"] for row in kept}),
            "low_hz": low_hz,
            "high_hz": high_hz,
            "leads": leader.id,
            "gives_way": [yielder.id],
            "sections": self.sections,
        }
        data["zones"] = sorted([*kept, zone], key=lambda row: row["low_hz"])
        title = f"{leader.name} leads {say_hz(low_hz)} to {say_hz(high_hz)}"
        return Done(parse_session(data), title)


class SetZone(Operation):
    """Move the edges of a kept zone; its decision and its sections stay."""

    op: Literal["set zone"] = "set zone"
    zone: Annotated[str, Field(max_length=40)]
    low_hz: Hz
    high_hz: Hz
    example: ClassVar[Json] = {"zone": "z1", "low_hz": 40, "high_hz": "110 Hz"}

    def apply(self, document: Session, facts: Facts = NOTHING_KNOWN) -> Done:
        low_hz, high_hz = sorted(round(typed_hz(one), 1) for one in (self.low_hz, self.high_hz))
        data = to_json(document)
        row = next((row for row in data["zones"] if row["id"] == self.zone), None)
        if row is None:
            raise NotFound(f"there is no zone {self.zone!r}")
        row |= {"low_hz": low_hz, "high_hz": high_hz}
        data["zones"].sort(key=lambda one: one["low_hz"])
        return Done(parse_session(data), f"Zone {say_hz(low_hz)} to {say_hz(high_hz)}")


class RemoveZone(Operation):
    """Forget a zone and its decision."""

    op: Literal["remove zone"] = "remove zone"
    zone: Annotated[str, Field(max_length=40)]
    example: ClassVar[Json] = {"zone": "z1"}

    def apply(self, document: Session, facts: Facts = NOTHING_KNOWN) -> Done:
        if self.zone not in {zone.id for zone in document.zones}:
            raise NotFound(f"there is no zone {self.zone!r}")
        left = document.model_copy(
            update={"zones": [zone for zone in document.zones if zone.id != self.zone]}
        )
        return Done(left, "Remove a zone")
