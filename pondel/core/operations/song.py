"""Changes to the song itself."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

from pydantic import Field

from pondel.core.document import Name, Session, parse_session, to_json
from pondel.core.errors import BadDocument
from pondel.core.ids import fresh_id
from pondel.core.losses import without
from pondel.core.measures.tempo import estimate_bpm
from pondel.core.model import Model
from pondel.core.moves.base import ID_FORM, LONGEST_S, MOST_SECTIONS
from pondel.core.moves.controls import parse_control
from pondel.core.operations.base import NOTHING_KNOWN, Done, Facts, Json, Operation, Value, shown_at


class SetSession(Operation):
    """Change a field of the session: its name, tempo, beats to a bar, or listening level."""

    op: Literal["set session"] = "set session"
    field: Literal["name", "tempo_bpm", "beats_per_bar", "listening_level_db_spl"]
    value: Value
    example: ClassVar[Json] = {"field": "tempo_bpm", "value": "104 bpm"}

    def apply(self, document: Session, facts: Facts = NOTHING_KNOWN) -> Done:
        value = self.value
        if self.field == "beats_per_bar" and isinstance(value, str) and value.strip().isdigit():
            value = int(value)
        typed = parse_control(Session, self.field, value)
        told = {"tempo_from": "told"} if self.field == "tempo_bpm" else {}
        left = parse_session({**to_json(document), self.field: typed, **told})
        title = f"Session {self.field.split('_', maxsplit=1)[0]}"
        return Done(left, title, value=shown_at(left, self.field))


class FindTempo(Operation):
    """Estimate the tempo from the hits of all parts; it may be off by two or three halves."""

    op: Literal["find tempo"] = "find tempo"
    example: ClassVar[Json] = {}

    def apply(self, document: Session, facts: Facts = NOTHING_KNOWN) -> Done:
        bpm = estimate_bpm([facts.hits_s(part) for part in document.parts])
        if bpm is None:
            raise BadDocument("there are too few hits to tell the tempo from")
        found = {"tempo_bpm": round(bpm, 2), "tempo_from": "hits"}
        left = parse_session({**to_json(document), **found})
        return Done(left, "Tempo from hits", value=shown_at(left, "tempo_bpm"))


Time = Annotated[float, Field(ge=0, le=LONGEST_S)]


class SectionRow(Model):
    """A section as it is set; one with an id is the section that had it."""

    id: Annotated[str, Field(max_length=40, pattern=ID_FORM)] | None = None
    name: Name | Literal[""] = ""
    start_s: Time
    end_s: Time


class SetSections(Operation):
    """Replace the sections. What acted only in one that goes is switched off and says so."""

    op: Literal["set sections"] = "set sections"
    sections: list[SectionRow] = Field(max_length=MOST_SECTIONS)
    example: ClassVar[Json] = {"sections": [{"name": "Verse", "start_s": 0.0, "end_s": 18.46}]}

    def apply(self, document: Session, facts: Facts = NOTHING_KNOWN) -> Done:
        taken = {row.id for row in self.sections if row.id}
        rows: list[Json] = []
        for row in self.sections:
            section_id = row.id or fresh_id(f"s{len(rows) + 1}", taken)
            taken.add(section_id)
            rows.append(
                {
                    "id": section_id,
                    "name": row.name.strip() or "Section",
                    "start_s": round(row.start_s, 4),
                    "end_s": round(row.end_s, 4),
                }
            )
        rows.sort(key=lambda row: row["start_s"])
        gone = {section.id for section in document.sections} - {row["id"] for row in rows}
        left, said = without(document, sections=gone)
        return Done(parse_session({**to_json(left), "sections": rows}), "Sections", said)
