"""Moves: treat a part, hear and see what it does."""

from __future__ import annotations

import math
from typing import Any

from flask import Blueprint, render_template, request

from pondel.core.document import Session
from pondel.core.moves import KINDS, key_in, kind_of
from pondel.core.moves.base import Key
from pondel.core.moves.controls import controls_of
from pondel.web.context import Pair, asked_pair, head, library, song_facts
from pondel.web.ink import inked

blueprint = Blueprint("moves", __name__, url_prefix="/sessions/<session_id>")


def chosen_pair(document: Session) -> Pair | None:
    """The part in view and what it gives way to: its move's key when it has one."""
    part_id = request.args.get("part", "")
    if not document.has_part(part_id):
        return asked_pair(document)
    part = document.part(part_id)
    leader = request.args.get("leader", "")
    keys = [key.source for move in part.moves if (key := key_in(move)) is not None]
    for candidate in [leader, *keys, *(p.id for p in document.parts)]:
        if candidate != part.id and document.has_part(candidate):
            return Pair(document.part(candidate), part)
    return None


@blueprint.get("/moves")
def show(session_id: str):
    """The screen."""
    library().touch(session_id)
    revision = head(session_id)
    document = revision.document
    pair = chosen_pair(document)
    move = _chosen_move(pair)
    key = key_in(move) if move is not None else None
    if pair and key is not None and document.has_part(key.source):
        pair = Pair(document.part(key.source), pair.yielder)
    return render_template(
        "moves.html",
        stage="moves",
        facts=song_facts(session_id, revision),
        document=document,
        marks=inked(document),
        pair=pair,
        move=move,
        kind=kind_of(move.kind) if move is not None else None,
        kinds=KINDS,
        kind_of=kind_of,
        controls=controls_of(kind_of(move.kind).params) if move is not None else [],
        key_controls=controls_of(Key),
        inf=math.inf,
    )


def _chosen_move(pair: Pair | None) -> Any:
    if pair is None or not pair.yielder.moves:
        return None
    wanted = request.args.get("move")
    moves = {move.id: move for move in pair.yielder.moves}
    return moves.get(wanted or "", pair.yielder.moves[-1])
