"""Changes to the hits of parts."""

from __future__ import annotations

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field

from pondel.core.document import HitSettings, Session
from pondel.core.engine.hits import NEAR_S
from pondel.core.moves.base import Seconds
from pondel.core.moves.controls import parse_control
from pondel.core.operations.base import (
    NOTHING_KNOWN,
    Done,
    Facts,
    Json,
    Operation,
    Value,
    on_part,
    shown_at,
)
from pondel.core.refs import PartRef


class SetHits(Operation):
    """Change how small a stir counts as a hit."""

    op: Literal["set hits"] = "set hits"
    part: PartRef
    field: Literal["sensitivity"] = "sensitivity"
    value: Value
    example: ClassVar[Json] = {"part": "drum", "value": "60 %"}

    def apply(self, document: Session, facts: Facts = NOTHING_KNOWN) -> Done:
        part = document.part(self.part)
        typed = parse_control(HitSettings, "sensitivity", self.value)
        left = on_part(document, self.part, lambda data: data["hits"].update(sensitivity=typed))
        value = shown_at(left.part(self.part).hits, "sensitivity")
        return Done(left, f"{part.name}: hits", value=value)


class GiveHits(Operation):
    """Take the hits from times, those of a MIDI file; seconds of the recording."""

    op: Literal["give hits"] = "give hits"
    part: PartRef
    times_s: list[Seconds] = Field(max_length=100_000)
    example: ClassVar[Json] = {"part": "drum", "times_s": [0.0, 0.577, 1.154]}

    def apply(self, document: Session, facts: Facts = NOTHING_KNOWN) -> Done:
        part = document.part(self.part)
        left = on_part(document, self.part, lambda data: data["hits"].update(midi_s=self.times_s))
        return Done(left, f"{part.name}: hits")


class ToggleHit(Operation):
    """Add a hit, in seconds of the song, or take out the one that is there."""

    op: Literal["toggle hit"] = "toggle hit"
    part: PartRef
    at_s: Seconds
    example: ClassVar[Json] = {"part": "drum", "at_s": 12.5}

    def apply(self, document: Session, facts: Facts = NOTHING_KNOWN) -> Done:
        part = document.part(self.part)
        asked_s = self.at_s - part.start_s
        bare = part.hits.model_copy(update={"added_s": [], "removed_s": []})
        heard = facts.hits_s(part.model_copy(update={"hits": bare})) - part.start_s
        known = facts.hits_s(part) - part.start_s
        near = known[np.abs(known - asked_s) <= NEAR_S]
        found = bool(near.size)
        at_s = float(near[np.argmin(np.abs(near - asked_s))]) if found else max(0.0, asked_s)
        at_s = round(at_s, 4)
        is_heard = bool((np.abs(heard - at_s) <= NEAR_S).any())

        def change(data: Json) -> None:
            hits = data["hits"]
            hits["added_s"] = [t for t in hits["added_s"] if abs(t - at_s) > NEAR_S]
            hits["removed_s"] = [t for t in hits["removed_s"] if abs(t - at_s) > NEAR_S]
            if found and is_heard:
                hits["removed_s"].append(at_s)
            # One that was taken out comes back where it is heard.
            if not found and not is_heard:
                hits["added_s"] = sorted([*hits["added_s"], at_s])

        title = f"{part.name}: {'remove' if found else 'add'} a hit"
        return Done(on_part(document, self.part, change), title)


class HitsAsFound(Operation):
    """Back to the hits as they were found."""

    op: Literal["hits as found"] = "hits as found"
    part: PartRef
    example: ClassVar[Json] = {"part": "drum"}

    def apply(self, document: Session, facts: Facts = NOTHING_KNOWN) -> Done:
        part = document.part(self.part)
        plain: Json = {"added_s": [], "removed_s": [], "midi_s": None}
        left = on_part(document, self.part, lambda data: data["hits"].update(plain))
        return Done(left, f"{part.name}: hits as found")
