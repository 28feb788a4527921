"""Changes to the song itself."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

from pydantic import Field

from pondel.core.beats import MOST_CHANGES
from pondel.core.document import Name, Session, TempoChange
from pondel.core.errors import BadDocument
from pondel.core.ids import fresh_id
from pondel.core.losses import without
from pondel.core.measures.tempo import estimate_bpm
from pondel.core.model import Model
from pondel.core.moves.base import ID_FORM, LONGEST_S, MOST_SECTIONS
from pondel.core.moves.controls import parse_control
from pondel.core.operations.base import NOTHING_KNOWN, Done, Facts, Json, Operation, Value, shown_at
from pondel.core.reading import parse_session, to_json


class SetSession(Operation):
    """Change a field of the session: its name, tempo, signature, key, or listening level."""

    op: Literal["set session"] = "set session"
    field: Literal[
        "name", "tempo_bpm", "beats_per_bar", "beat_note", "key_note", "listening_level_db_spl"
    ]
    value: Value
    example: ClassVar[Json] = {"field": "tempo_bpm", "value": "104 bpm"}

    def apply(self, document: Session, facts: Facts = NOTHING_KNOWN) -> Done:
        value = self.value
        is_count = self.field in ("beats_per_bar", "beat_note")
        if is_count and isinstance(value, str) and value.strip().isdigit():
            value = int(value)
        if self.field == "key_note" and value == "":
            value = None
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
        found = {"tempo_bpm": round(bpm, 2), "tempo_from": "hits", "tempo_changes": []}
        left = parse_session({**to_json(document), **found})
        return Done(left, "Tempo from hits", value=shown_at(left, "tempo_bpm"))


class GiveTempo(Operation):
    """Take the tempo from a map of tempi and signatures, that of a MIDI file."""

    op: Literal["give tempo"] = "give tempo"
    tempo: list[TempoChange] = Field(min_length=1, max_length=MOST_CHANGES)
    example: ClassVar[Json] = {
        "tempo": [
            {"at_s": 0.0, "tempo_bpm": 104.0, "beats_per_bar": 4, "beat_note": 4},
            {"at_s": 18.46, "tempo_bpm": 90.0, "beats_per_bar": 3, "beat_note": 4},
        ]
    }

    def apply(self, document: Session, facts: Facts = NOTHING_KNOWN) -> Done:
        rows = [one.model_dump() for one in sorted(self.tempo, key=lambda one: one.at_s)]
        begins = {name: rows[0][name] for name in ("tempo_bpm", "beats_per_bar", "beat_note")}
        given = {**begins, "tempo_from": "midi", "tempo_changes": rows[1:]}
        left = parse_session({**to_json(document), **given})
        more = f", {len(rows) - 1} changes" if len(rows) > 1 else ""
        return Done(left, f"Tempo from MIDI{more}", value=shown_at(left, "tempo_bpm"))


class OneTempo(Operation):
    """Let go of all changes of tempo and signature: what the song begins with holds throughout."""

    op: Literal["one tempo"] = "one tempo"
    example: ClassVar[Json] = {}

    def apply(self, document: Session, facts: Facts = NOTHING_KNOWN) -> Done:
        left = parse_session({**to_json(document), "tempo_changes": []})
        return Done(left, "One tempo throughout", value=shown_at(left, "tempo_bpm"))


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
