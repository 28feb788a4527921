"""Every change of a session arrives here: one address for edits, one each for undo and redo."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from flask import Blueprint, request

from pondel.core import edits, song_edits
from pondel.core.document import HitSettings, Part, Session
from pondel.core.errors import BadDocument
from pondel.core.measures.hits import NEAR_S
from pondel.core.moves import kind_of
from pondel.core.moves.base import Key
from pondel.core.moves.controls import control_of
from pondel.store.library import Revision
from pondel.web.context import desk, head, library, song_facts
from pondel.web.deck import sound_facts

blueprint = Blueprint("editing", __name__, url_prefix="/sessions/<session_id>")


@blueprint.post("/edit")
def edit(session_id: str):
    """Apply one edit to the revision the page shows; answers with the new state.

    The body names an `op` and what it needs, the `base` revision, and perhaps a `gesture` that
    joins the edits of one drag. With `listen` it also prepares the new sound.
    """
    body = request.get_json(silent=True)
    if not isinstance(body, dict):
        raise BadDocument("an edit is a JSON object")
    document = head(session_id).document
    build = OPERATIONS.get(str(body.get("op")))
    if build is None:
        raise BadDocument(f"there is no edit called {body.get('op')!r:.40}")
    base, gesture = body.get("base"), body.get("gesture")
    if not isinstance(base, int):
        raise BadDocument("an edit names the revision it is based on")
    change = build(session_id, document, body)
    revision = library().edit(session_id, base, change, gesture=str(gesture)[:64] if gesture else None)
    answer: dict[str, Any] = {
        "session": song_facts(session_id, revision),
        "said": _said(revision, body),
    }
    if "reasons" in body:
        added = revision.document.part(str(body["part"])).moves[-1]
        answer["said"] = {"reasons": body["reasons"], "move": f"{body['part']}/{added.id}"}
    if isinstance(body.get("listen"), dict):
        answer["sound"] = sound_facts(revision.document, body["listen"])
    return answer


@blueprint.post("/undo")
def undo(session_id: str):
    """Step back."""
    return {"session": song_facts(session_id, library().undo(session_id))}


@blueprint.post("/redo")
def redo(session_id: str):
    """Step forward."""
    return {"session": song_facts(session_id, library().redo(session_id))}


def _text(body: dict, name: str) -> str:
    value = body.get(name)
    if not isinstance(value, str):
        raise BadDocument(f"this edit needs {name!r}")
    return value


def _set_part(_: str, document: Session, body: dict) -> edits.Edit:
    return edits.set_part(document, _text(body, "part"), _text(body, "field"), body.get("value"))


def _set_move(_: str, document: Session, body: dict) -> edits.Edit:
    return edits.set_move(
        document, _text(body, "part"), _text(body, "move"), _text(body, "field"), body.get("value")
    )


def _add_duck(_: str, document: Session, body: dict) -> edits.Edit:
    start_s = body.get("start_s")
    start_s = float(start_s) if isinstance(start_s, int | float) else 0.0
    leader, yielder = _text(body, "leader"), _text(body, "part")
    proposal = desk().propose(document, leader, yielder, start_s)
    body["reasons"] = proposal.reasons
    return edits.add_move(document, yielder, proposal.settings)


def _add_move(_: str, document: Session, body: dict) -> edits.Edit:
    return edits.add_move(document, _text(body, "part"), {"kind": _text(body, "kind")})


def _remove_move(_: str, document: Session, body: dict) -> edits.Edit:
    return edits.remove_move(document, _text(body, "part"), _text(body, "move"))


def _remove_part(_: str, document: Session, body: dict) -> edits.Edit:
    return edits.remove_part(document, _text(body, "part"))


def _set_session(_: str, document: Session, body: dict) -> edits.Edit:
    return edits.set_session(_text(body, "field"), body.get("value"))


def _number(body: dict, name: str) -> float:
    value = body.get(name)
    if isinstance(value, bool) or not isinstance(value, int | float):
        raise BadDocument(f"this edit needs the number {name!r}")
    return float(value)


def _decide(_: str, document: Session, body: dict) -> edits.Edit:
    low_hz, high_hz = (song_edits.typed_hz(body.get(n)) for n in ("low_hz", "high_hz"))
    sections = [str(s) for s in body.get("sections") or []]
    leads, gives_way = _text(body, "leads"), _text(body, "gives_way")
    return song_edits.decide(document, leads, gives_way, low_hz, high_hz, sections)


def _remove_zone(_: str, document: Session, body: dict) -> edits.Edit:
    return song_edits.remove_zone(document, _text(body, "zone"))


def _set_sections(_: str, document: Session, body: dict) -> edits.Edit:
    return song_edits.set_sections(body.get("sections"))


def _set_hits(_: str, document: Session, body: dict) -> edits.Edit:
    return song_edits.set_hits(document, _text(body, "part"), sensitivity=body.get("value"))


def _toggle_hit(_: str, document: Session, body: dict) -> edits.Edit:
    part = document.part(_text(body, "part"))
    at_s = _number(body, "at_s") - part.start_s
    known = desk().hits_s(part) - part.start_s
    near = known[np.abs(known - at_s) <= NEAR_S]
    at_s = float(near[np.argmin(np.abs(near - at_s))]) if near.size else at_s
    return song_edits.toggle_hit(document, part.id, at_s, bool(near.size))


def _forget_corrections(_: str, document: Session, body: dict) -> edits.Edit:
    return song_edits.forget_corrections(document, _text(body, "part"))


def _add_return(_: str, document: Session, body: dict) -> edits.Edit:
    return song_edits.add_return(document, _text(body, "name"))


def _set_group(_: str, document: Session, body: dict) -> edits.Edit:
    group = body.get("value")
    return song_edits.set_group(document, _text(body, "part"), str(group) if group else None)


def _set_send(_: str, document: Session, body: dict) -> edits.Edit:
    tap = body.get("tap")
    return song_edits.set_send(
        document,
        _text(body, "part"),
        _text(body, "to"),
        body.get("value"),
        str(tap) if tap else None,
    )


OPERATIONS: dict[str, Callable[[str, Session, dict], edits.Edit]] = {
    "set part": _set_part,
    "set move": _set_move,
    "add duck": _add_duck,
    "add move": _add_move,
    "remove move": _remove_move,
    "remove part": _remove_part,
    "set session": _set_session,
    "decide": _decide,
    "remove zone": _remove_zone,
    "set sections": _set_sections,
    "set hits": _set_hits,
    "toggle hit": _toggle_hit,
    "hits as found": _forget_corrections,
    "add return": _add_return,
    "set group": _set_group,
    "set send": _set_send,
}


def _said(revision: Revision, body: dict) -> dict[str, Any] | None:
    """The changed value as the document now holds it, and in words."""
    field = body.get("field")
    if not isinstance(field, str):
        return None
    owner: Any
    params: Any
    if body["op"] == "set session":
        owner, params = revision.document, Session
    elif body["op"] == "set hits":
        owner, params = revision.document.part(str(body["part"])).hits, HitSettings
    elif body["op"] == "set move":
        part = revision.document.part(str(body["part"]))
        owner = next(move for move in part.moves if move.id == body["move"])
        params = kind_of(owner.kind).params
    else:
        owner, params = revision.document.part(str(body["part"])), Part
    name = field
    if field.startswith("key."):
        name, owner, params = field.removeprefix("key."), owner.key, Key
    value = getattr(owner, name, None)
    try:
        words = control_of(params, name).say(value)
    except BadDocument:
        words = str(value)
    return {"value": "inf" if value == float("inf") else value, "words": words}
