"""Pictures of a move to take along, as SVG and PNG: its response, one hit of what it follows."""

from __future__ import annotations

from flask import Blueprint, Response, request

from pondel.core.errors import BadDocument, NotFound
from pondel.core.moves.registry import kind_of
from pondel.web import asked
from pondel.web.context import asked_revision, asked_stretch
from pondel.web.moves import asked_move
from pondel.web.words import file_names

WHAT = ("response", "hit")
TYPES = {"svg": "image/svg+xml", "png": "image/png"}
SHEETS = ("day", "night")
blueprint = Blueprint("pictures", __name__, url_prefix="/sessions/<session_id>/pictures")


@blueprint.get("/<what>.<ending>")
def of_move(session_id: str, what: str, ending: str):
    """The response or the averaged hit of the move that the address names."""
    from pondel.web.drawing import hit_picture, picture, response_picture

    if what not in WHAT or ending not in TYPES:
        raise NotFound("there is no such picture")
    document = asked_revision(session_id).document
    chosen = asked_move(document)
    if chosen is None:
        raise NotFound("this move is not there any more")
    part, move = chosen
    sheet = asked.words("sheet", "day")
    if sheet not in SHEETS:
        raise BadDocument("a picture is drawn for day or night")
    named = request.args.get("leader", "")
    leader = document.part(named) if document.has_part(named) and named != part.id else None
    stretch = asked_stretch(document)
    if what == "hit":
        draw = hit_picture(document, part, move, leader or part, stretch)
    else:
        draw = response_picture(document, part, move, leader, stretch)
    response = Response(picture(draw, sheet, ending), mimetype=TYPES[ending])
    name = f"{part.name} {kind_of(move.kind).title} {what}"
    response.headers.set("Content-Disposition", "attachment", **file_names(name, f".{ending}"))
    return response
