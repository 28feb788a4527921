"""Contrast: two tones pushed apart or brought together; spectra kept on the shelf."""

from __future__ import annotations

from typing import Any

from flask import Blueprint, redirect, request

from pondel.core.document import Session
from pondel.core.errors import BadDocument
from pondel.core.operations import parse_operation
from pondel.core.operations.contrast import NamedSpectrum
from pondel.web import asked
from pondel.web.context import at_moves, desk, head, library

blueprint = Blueprint("contrast", __name__, url_prefix="/sessions/<session_id>/contrast")
KEPT, SECTION = "kept ", "section "


def asked_over(document: Session) -> tuple[float, float | None]:
    """Over which stretch spectra are taken: the loop, a section, or the whole song."""
    over = asked.words("over", most=60)
    if over == "song":
        return 0.0, None
    if over.startswith(SECTION):
        section = next((one for one in document.sections if one.id == over[len(SECTION) :]), None)
        if section is None:
            raise BadDocument("this section is gone: choose another stretch")
        return section.start_s, section.end_s
    start_s, end_s = asked.number("loop_start_s"), asked.number("loop_end_s")
    if start_s is None or end_s is None:
        raise BadDocument("choose a stretch of the song first")
    return start_s, end_s


@blueprint.post("/lay")
def lay(session_id: str):
    """A contrast EQ on a part against another, or against a kept spectrum."""
    document = head(session_id).document
    against = asked.words("against", most=100)
    start_s, end_s = asked_over(document)
    given: dict[str, Any] = {"part": asked.words("part", most=40), "start_s": start_s, "end_s": end_s}
    if against.startswith(KEPT):
        name = against[len(KEPT) :]
        given["spectrum"] = library().shelf.get("spectrum", name)
    else:
        given["against"] = against
    given["mirrored"] = request.form.get("mirrored") == "1"
    operation = parse_operation({"op": "contrast", **given})
    left = desk().do(session_id, [operation], base=asked.whole("base")).document
    part = left.part(str(given["part"]))
    return redirect(at_moves(session_id, part.id, part.moves[-1].id), 303)


@blueprint.post("/keep")
def keep(session_id: str):
    """Keep a part's average spectrum on the shelf, for all sessions."""
    document = head(session_id).document
    part = document.part(asked.words("part", most=40))
    levels = desk().spectrum_db(document, part, *asked_over(document))
    name = asked.words("name", most=80).strip() or part.name
    body = NamedSpectrum(name=name, levels_db=[round(float(level), 1) for level in levels])
    library().shelf.keep("spectrum", name, body.model_dump())
    return redirect(at_moves(session_id, part.id), 303)


@blueprint.post("/put-away")
def put_away(session_id: str):
    """Keep a spectrum no longer."""
    library().shelf.put_away("spectrum", asked.words("name", most=80))
    return redirect(at_moves(session_id, asked.words("part", most=40)), 303)
