"""Changes to parts: their fields, returns and groups, sends, recordings that come and go."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

from pydantic import Field

from pondel.core.document import LATEST_STAMP_S, MOST_PARTS, Name, Part, Session
from pondel.core.errors import BadDocument
from pondel.core.ids import fresh_id
from pondel.core.losses import without
from pondel.core.moves.base import MOST_SECTIONS
from pondel.core.moves.controls import parse_control
from pondel.core.moves.describe import Tap
from pondel.core.operations.base import (
    NOTHING_KNOWN,
    Done,
    Facts,
    Json,
    Operation,
    Value,
    Words,
    changed,
    on_part,
    shown_at,
)
from pondel.core.operations.places import NamedMoment, in_place, replaced_in_place, sections_between
from pondel.core.reading import parse_session, to_json
from pondel.core.refs import PartRef
from pondel.core.units import parse

LARGEST_TRIM_DB = 60.0
SILENT_DB = -120.0
LOWEST_FADER_DB, HIGHEST_FADER_DB = -90.0, 24.0
_LEVELS = {"rms": "rms_dbfs", "peak": "sample_peak_dbfs", "loudness": "integrated_lufs"}


class SetPart(Operation):
    """Change a field of a part; text is read with its unit."""

    op: Literal["set part"] = "set part"
    part: PartRef
    field: Literal[
        "name",
        "tag",
        "role",
        "start_s",
        "trim_db",
        "fader_db",
        "pan",
        "mute",
        "silent_key",
        "reference",
    ]
    value: Value
    example: ClassVar[Json] = {"part": "tuba", "field": "fader_db", "value": "-3 dB"}

    def apply(self, document: Session, facts: Facts = NOTHING_KNOWN) -> Done:
        part = document.part(self.part)
        typed = parse_control(Part, self.field, self.value, beat_s=document.known_beat_s)
        if self.field == "tag":
            typed = str(self.value or "").strip().upper() or None
        values: Json = {self.field: typed}
        if self.field == "role":
            values["role_by_sound"] = False
        left = on_part(document, self.part, lambda data: data.update(values))
        title = f"{part.name}: {self.field.removesuffix('_db').removesuffix('_s').replace('_', ' ')}"
        return Done(left, title, value=shown_at(left.part(self.part), self.field))


class TrimTo(Operation):
    """Trim one part, or all, so that a level of the recording comes to a target.

    Silent parts stay as they are; a trim goes at most 60 dB either way. With `keep_mix` the faders take
    back what the trims give, as far as they reach, so that the balance stays.
    """

    op: Literal["trim to"] = "trim to"
    by: Literal["rms", "peak", "loudness"] = "rms"
    target: float | Words
    part: PartRef | None = None
    keep_mix: bool = False
    example: ClassVar[Json] = {"by": "rms", "target": "-18 dB", "keep_mix": True}

    def apply(self, document: Session, facts: Facts = NOTHING_KNOWN) -> Done:
        target = parse(self.target, "dB") if isinstance(self.target, str) else self.target
        if target is None or not -60 <= target <= 0:
            raise BadDocument("a target lies between -60 and 0 dB", where="Target")
        asked = [document.part(self.part)] if self.part else document.parts
        trims: dict[str, float] = {}
        for part in asked:
            levels = facts.levels(part)
            level = getattr(levels, _LEVELS[self.by], None)
            if level is not None and level > SILENT_DB:
                wanted = round(target - level, 2)
                trims[part.id] = max(-LARGEST_TRIM_DB, min(LARGEST_TRIM_DB, wanted))
        if not trims:
            raise BadDocument("there is nothing to trim: the parts are silent, or there are none")
        names = [document.part(part).name for part in trims]

        def change(data: Json) -> None:
            for part in data["parts"]:
                trim_db = trims.get(part["id"], part["trim_db"])
                if self.keep_mix:
                    fader_db = part["fader_db"] + part["trim_db"] - trim_db
                    part["fader_db"] = max(LOWEST_FADER_DB, min(HIGHEST_FADER_DB, round(fader_db, 2)))
                part["trim_db"] = trim_db

        title = f"Trim {names[0]}" if len(names) == 1 else f"Trim {len(names)} parts"
        return Done(changed(document, change), title)


class RemovePart(Operation):
    """Take a part out; what pointed at it is switched off and says so."""

    op: Literal["remove part"] = "remove part"
    part: PartRef
    example: ClassVar[Json] = {"part": "tuba"}

    def apply(self, document: Session, facts: Facts = NOTHING_KNOWN) -> Done:
        name = document.part(self.part).name
        left, said = without(document, parts={self.part})
        return Done(left, f"Take out {name}", said)


class AddReturn(Operation):
    """Append a return, to be fed by sends or, as a group, by parts."""

    op: Literal["add return"] = "add return"
    name: Name | Literal[""] = ""
    example: ClassVar[Json] = {"name": "Hall"}

    def apply(self, document: Session, facts: Facts = NOTHING_KNOWN) -> Done:
        name = self.name.strip() or "Group"
        part_id = fresh_id(name, {part.id for part in document.parts})
        part = Part(id=part_id, name=name, role="other", source="sends")
        return Done(_with(document, part), f"Add {name}")


class SetGroup(Operation):
    """Let a part feed a group instead of the mix, or the mix again."""

    op: Literal["set group"] = "set group"
    part: PartRef
    value: PartRef | None = None
    example: ClassVar[Json] = {"part": "tuba", "value": "hall"}

    def apply(self, document: Session, facts: Facts = NOTHING_KNOWN) -> Done:
        part, group = document.part(self.part), self.value or None
        name = document.part(group).name if group else "the mix"
        left = on_part(document, self.part, lambda data: data.update(group=group))
        return Done(left, f"{part.name} to {name}")


class SetSend(Operation):
    """Send a part to a return at a level; no level takes the send away."""

    op: Literal["set send"] = "set send"
    part: PartRef
    to: PartRef
    value: float | Words | None = None
    tap: Tap | None = None
    example: ClassVar[Json] = {"part": "tuba", "to": "hall", "value": "-12 dB"}

    def apply(self, document: Session, facts: Facts = NOTHING_KNOWN) -> Done:
        part, target = document.part(self.part), document.part(self.to)
        level_db = self.value
        if isinstance(level_db, str):
            level_db = parse(level_db, "dB", optional=True)

        def change(data: Json) -> None:
            old: Json = next((send for send in data["sends"] if send["to"] == self.to), {})
            data["sends"] = [send for send in data["sends"] if send["to"] != self.to]
            if level_db is not None:
                tap = self.tap or old.get("tap", "after fader")
                data["sends"].append({"to": self.to, "level_db": level_db, "tap": tap})

        title = f"{part.name}: send to {target.name}"
        return Done(on_part(document, self.part, change), title)


class TapSend(Operation):
    """Where a send is taken: after the fader, before it, or from the recording as it came."""

    op: Literal["tap send"] = "tap send"
    part: PartRef
    to: PartRef
    value: Tap
    example: ClassVar[Json] = {"part": "accordion", "to": "hall", "value": "before fader"}

    def apply(self, document: Session, facts: Facts = NOTHING_KNOWN) -> Done:
        part, target = document.part(self.part), document.part(self.to)
        if not any(send.to == self.to for send in part.sends):
            raise BadDocument(f"{part.name} sends nothing to {target.name}")

        def change(data: Json) -> None:
            for send in data["sends"]:
                send["tap"] = self.value if send["to"] == self.to else send["tap"]

        left = on_part(document, self.part, change)
        return Done(left, f"{part.name}: send to {target.name} {self.value}")


class BringIn(Operation):
    """Add a part whose recording is in the library, at the end or `before` another one.

    Recordings that say where they began fall into place, the first of them at the start of the song;
    markers become the song's sections where it has none. A reference stands apart.
    """

    op: Literal["bring in"] = "bring in"
    part: Part
    markers: list[NamedMoment] = Field(default_factory=list, max_length=MOST_SECTIONS)
    ends_s: float | None = Field(None, description="The length of the recording.")
    before: PartRef | None = None

    def apply(self, document: Session, facts: Facts = NOTHING_KNOWN) -> Done:
        left, said = in_place(_with(document, self.part))
        left = _moved_before(left, self.before)
        start_s = left.part(self.part.id).start_s
        if self.markers and not document.sections:
            sections = sections_between(self.markers, start_s, self.ends_s)
            left = parse_session({**to_json(left), "sections": sections})
            said.append(f"{len(sections)} sections come from its markers.")
        title = " ".join([f"Bring in {self.part.name}", *(f"({words[:-1]})" for words in said)])
        return Done(left, title, said)


class JoinHalves(Operation):
    """Make one stereo part of a left and a right one, whose recording of both is in the library.

    The left part becomes it and keeps its moves; the right one is taken out.
    """

    op: Literal["join halves"] = "join halves"
    left: PartRef
    right: PartRef
    name: Name
    file: Annotated[str, Field(min_length=1, max_length=400)]

    def apply(self, document: Session, facts: Facts = NOTHING_KNOWN) -> Done:
        left, right = document.part(self.left), document.part(self.right)
        if left.id == right.id:
            raise BadDocument("one part is not the left and the right of itself")
        for part in (left, right):
            if part.file is None:
                raise BadDocument("a return is no half of a stereo part", where=part.name)
        joined, said = without(document, parts={right.id})
        whole: Json = {"file": self.file, "name": self.name, "pan": 0.0}
        return Done(
            on_part(joined, left.id, lambda data: data.update(whole)),
            f"Join {left.name} and {right.name} as {self.name}",
            said,
        )


class ReplaceRecording(Operation):
    """Put another recording, which is in the library, in the place of a part's."""

    op: Literal["replace recording"] = "replace recording"
    part: PartRef
    file: Annotated[str, Field(min_length=1, max_length=400)]
    differs: Words = ""
    stamp_s: Annotated[float, Field(ge=0, le=LATEST_STAMP_S)] | None = None

    def apply(self, document: Session, facts: Facts = NOTHING_KNOWN) -> Done:
        part = document.part(self.part)
        if part.file is None:
            raise BadDocument("a return has no recording to replace", where=part.name)
        left = on_part(document, self.part, lambda data: data.update(file=self.file))
        left, moved = replaced_in_place(left, self.part, self.stamp_s)
        differs = ", ".join(one for one in (self.differs, moved) if one)
        title = f"New recording of {part.name}" + (f": {differs}" if differs else "")
        return Done(left, title)


def _moved_before(document: Session, part_id: str | None) -> Session:
    """The document with its last part in front of another one."""
    if part_id is None or not document.has_part(part_id):
        return document
    *parts, last = document.parts
    at = next(n for n, part in enumerate(parts) if part.id == part_id)
    return document.model_copy(update={"parts": [*parts[:at], last, *parts[at:]]})


def _with(document: Session, part: Part) -> Session:
    if len(document.parts) >= MOST_PARTS:
        raise BadDocument(f"a session holds at most {MOST_PARTS} parts: {part.name} stays out")
    data = to_json(document)
    return parse_session({**data, "parts": [*data["parts"], part.model_dump(mode="json")]})
