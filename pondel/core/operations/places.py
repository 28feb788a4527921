"""Where recordings that come in belong in the song, by what their files say of time."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated

from pydantic import Field

from pondel.core.document import Name, Part, Session
from pondel.core.ids import fresh_id
from pondel.core.model import Model
from pondel.core.moves.base import LONGEST_S
from pondel.core.operations.base import Json
from pondel.core.reading import parse_session, to_json

FURTHEST_S = 1800.0
"""Stamps further apart than half an hour are not of one session."""
LAST_SECTION_S = 8.0


class NamedMoment(Model):
    """A marker, in seconds from the start of its recording."""

    at_s: Annotated[float, Field(ge=0, le=LONGEST_S)]
    name: Name


def in_place(document: Session) -> tuple[Session, list[str]]:
    """The document with its last part where its stamp says, and what was done, in words.

    What came in before stays where it stands, unless the new one begins earlier: then all that still
    stand where their stamps put them move later with the song's beginning.
    """
    new = document.parts[-1]
    others = [part for part in document.parts[:-1] if part.stamp_s is not None]
    if new.stamp_s is None or not others:
        return document, []
    origin_s = document.model_copy(update={"parts": others}).clock_origin_s()
    start_s = new.stamp_s - origin_s
    if abs(start_s) > FURTHEST_S:
        far = f"{abs(start_s) / 3600:.1f} h from the others"
        return document, [f"its file says it begins {far}: left at the start of the song."]
    if abs(start_s) < 5e-4:
        return document, []
    if start_s > 0:
        placed = _moved(document, {new.id: start_s})
        return placed, [f"starts at {start_s:.2f} s, as its file says."]
    later = {part.id: part.start_s - start_s for part in others if _as_stamped(part, origin_s)}
    return _moved(document, later), [f"begins {-start_s:.2f} s before the others, which moved later."]


def replaced_in_place(document: Session, part_id: str, stamp_s: float | None) -> tuple[Session, str]:
    """The document with a part whose new recording begins at a stamp, and what was done, in words.

    It moves where the part stood as its old stamp said; one that was moved by hand stays.
    """
    part = document.part(part_id)
    if stamp_s is None or stamp_s == part.stamp_s:
        return document, ""
    origin_s = document.clock_origin_s()
    stood_as_stamped = part.stamp_s is not None and _as_stamped(part, origin_s)
    start_s = stamp_s - origin_s
    data = to_json(document)
    (found,) = [one for one in data["parts"] if one["id"] == part_id]
    found["stamp_s"] = stamp_s
    said = ""
    if stood_as_stamped and 0.0 <= start_s <= FURTHEST_S:
        found["start_s"] = round(start_s, 6)
        said = f"starts at {start_s:.2f} s instead of {part.start_s:.2f} s, as its file says"
    elif stood_as_stamped:
        said = f"its file says it begins {start_s:.2f} s from the song's start: left where it was"
    return parse_session(data), said


def _as_stamped(part: Part, origin_s: float) -> bool:
    return abs((part.stamp_s or 0.0) - origin_s - part.start_s) < 5e-4


def _moved(document: Session, starts_s: dict[str, float]) -> Session:
    data = to_json(document)
    for part in data["parts"]:
        part["start_s"] = round(starts_s.get(part["id"], part["start_s"]), 6)
    return parse_session(data)


def sections_between(
    markers: Sequence[NamedMoment], start_s: float, ends_s: float | None
) -> list[Json]:
    """Sections from each marker to the next, the last to the end of the recording."""
    moments = sorted(markers, key=lambda one: one.at_s)
    last_s = max(ends_s or 0.0, moments[-1].at_s + (0.0 if ends_s else LAST_SECTION_S))
    rows: list[Json] = []
    for n, (one, end_s) in enumerate(
        zip(moments, [*(after.at_s for after in moments[1:]), last_s], strict=True), 1
    ):
        if end_s - one.at_s < 1e-3:
            continue
        section_id = fresh_id(f"s{n}", {row["id"] for row in rows})
        begins, ends = round(one.at_s + start_s, 4), round(end_s + start_s, 4)
        rows.append({"id": section_id, "name": one.name, "start_s": begins, "end_s": ends})
    return rows
