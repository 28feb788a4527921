"""Every change of a session arrives here: one address for edits, one each for undo and redo."""

from __future__ import annotations

import json
import math
from collections.abc import Callable
from typing import Any

import numpy as np
from flask import Blueprint, Response, render_template
from pydantic import BaseModel

from pondel.core import edits, move_edits, song_edits
from pondel.core.advice.proposals import Fight, Proposal
from pondel.core.document import Session, move_of
from pondel.core.engine.hits import NEAR_S
from pondel.core.errors import BadDocument
from pondel.core.moves.controls import control_of
from pondel.core.units import say_hz
from pondel.store.library import Revision
from pondel.web import asked
from pondel.web.context import desk, for_the_ear, head, jobs, library, song_facts
from pondel.web.deck import chunk_at, little_endian, sound_facts
from pondel.web.moves import in_brief

LOWEST_HZ, HIGHEST_HZ = 10.0, 24_000.0
blueprint = Blueprint("editing", __name__, url_prefix="/sessions/<session_id>")


@blueprint.post("/edit")
@for_the_ear
def edit(session_id: str):
    """Apply one edit to the revision the page shows; answers with the new state.

    The body names an `op` and what it needs, the `base` revision, and perhaps a `gesture` that
    joins the edits of one drag; what its `page` asked before is given up. With `listen` it also
    prepares the new sound, and its chunk `at` comes with the answer if it is ready in a moment.
    """
    body = asked.body()
    document = head(session_id).document
    op, base, gesture, page = (body.get(name) for name in ("op", "base", "gesture", "page"))
    build = OPERATIONS.get(op) if isinstance(op, str) else None
    if build is None:
        raise BadDocument(f"there is no edit called {op!r:.40}")
    if isinstance(base, bool) or not isinstance(base, int):
        raise BadDocument("an edit names the revision it is based on")
    change = build(session_id, document, body)
    if isinstance(page, str):
        jobs().turns.drop(page)
    wanted = body.get("listen")
    answer: dict[str, Any] = {}
    texts: list[bytes] = []

    def prepare(revision: Revision) -> None:
        answer.update(_answer(session_id, revision, body))
        if isinstance(wanted, dict):
            answer["sound"] = sound_facts(revision.document, wanted)
        texts.append(json.dumps(answer).encode())

    joined = gesture[:64] if isinstance(gesture, str) else None
    library().edit(session_id, base, change, gesture=joined, prepare=prepare)
    if isinstance(wanted, dict):
        block = chunk_at(answer["sound"]["hash"], wanted.get("at"))
        if block is not None:
            return _with_sound(answer, wanted["at"], block)
    return Response(texts[-1], mimetype="application/json")


def _answer(session_id: str, revision: Revision, body: dict[str, Any]) -> dict[str, Any]:
    """What the page is told of the state that an edit makes."""
    answer: dict[str, Any] = {
        "session": song_facts(session_id, revision),
        "said": _said(revision, body),
    }
    if answer["said"] and body["op"] == "set move":
        move = move_of(revision.document.part(str(body["part"])), str(body["move"]))
        answer["said"] |= {"move": move.id, "brief": in_brief(revision.document, move)}
    if "reasons" in body:
        added = revision.document.part(str(body["part"])).moves[-1]
        answer["added"] = {"part": str(body["part"]), "move": added.id}
        answer["said"] = {"reasons": body["reasons"], "move": f"{body['part']}/{added.id}"}
    return answer


def _with_sound(answer: dict[str, Any], at: int, block: np.ndarray) -> Response:
    """An answer that brings chunk `at` along: its length in bytes, the JSON, and the samples.

    The length is a little-endian 32-bit integer; spaces after the JSON let the samples begin at a
    multiple of four.
    """
    answer["sound"]["at"] = at
    text = json.dumps(answer).encode()
    text += b" " * (-len(text) % 4)
    body = len(text).to_bytes(4, "little") + text + little_endian(block)
    return Response(body, mimetype="application/octet-stream")


@blueprint.post("/undo")
def undo(session_id: str):
    """Step back."""
    return {"session": song_facts(session_id, library().undo(session_id))}


@blueprint.post("/redo")
def redo(session_id: str):
    """Step forward."""
    return {"session": song_facts(session_id, library().redo(session_id))}


@blueprint.get("/history")
def history(session_id: str):
    """The states that led to the present one, newest first; a fragment."""
    return render_template(
        "parts/history.html",
        facts={"id": session_id},
        revisions=library().history(session_id),
    )


@blueprint.post("/history/<int:revision>")
def go_to(session_id: str, revision: int):
    """Go back, or forward, to any state."""
    return {"session": song_facts(session_id, library().go_to(session_id, revision))}


@blueprint.post("/variants")
def keep_variant(session_id: str):
    """Go on with a copy of the open variant."""
    return {"session": song_facts(session_id, jobs().variants.keep(session_id))}


@blueprint.post("/variants/<name>")
def open_variant(session_id: str, name: str):
    """Open a variant where it was left."""
    return {"session": song_facts(session_id, jobs().variants.open(session_id, name))}


@blueprint.post("/variants/<name>/remove")
def remove_variant(session_id: str, name: str):
    """Forget a variant that is not open."""
    jobs().variants.remove(session_id, name)
    return {"session": song_facts(session_id, head(session_id))}


def _text(body: dict, name: str) -> str:
    value = body.get(name)
    if not isinstance(value, str):
        raise BadDocument(f"this edit needs {name!r}")
    return value


def _texts(body: dict, name: str) -> list[str]:
    value = body.get(name) or []
    if not isinstance(value, list) or not all(isinstance(one, str) for one in value):
        raise BadDocument(f"{name!r} is a list of ids")
    return value


def _set_part(_: str, document: Session, body: dict) -> edits.Edit:
    return edits.set_part(document, _text(body, "part"), _text(body, "field"), body.get("value"))


def _set_move(_: str, document: Session, body: dict) -> edits.Edit:
    part, move, field = _text(body, "part"), _text(body, "move"), _text(body, "field")
    value = body.get("value")
    if field == "hits_of" and not document.has_part(str(value)):
        raise BadDocument("choose the part whose hits set it off")
    return move_edits.set_move(document, part, move, field, value)


def _fight(document: Session, body: dict, leader: str, yielder: str) -> Fight:
    start_s = _number(body, "start_s") if body.get("start_s") is not None else 0.0
    zone = None
    if body.get("low_hz") is not None and body.get("high_hz") is not None:
        zone = _number(body, "low_hz"), _number(body, "high_hz")
        if not LOWEST_HZ <= zone[0] < zone[1] <= HIGHEST_HZ:
            raise BadDocument("a zone lies between 10 Hz and 24 kHz", where="Zone")
    return desk().fight(document, leader, yielder, start_s, zone)


def _laid(document: Session, leader: str, yielder: str, proposal: Proposal) -> edits.Edit:
    """The edit that lays a proposed move on the part that gives way."""
    settings = proposal.settings
    if settings["kind"] == "complementary eq":
        return move_edits.add_tied(document, leader, yielder, settings.get("bands"))
    return move_edits.add_move(document, yielder, settings)


def _give_way(_: str, document: Session, body: dict) -> edits.Edit:
    """A move on `part` for `leader`, with computed settings; `kind` as named, or the usual one."""
    leader, yielder = _text(body, "leader"), _text(body, "part")
    kind = body.get("kind")
    proposal = desk().propose(_fight(document, body, leader, yielder), str(kind) if kind else None)
    body["reasons"] = proposal.reasons
    return _laid(document, leader, yielder, proposal)


def _right_of_way(_: str, document: Session, body: dict) -> edits.Edit:
    """The usual move on every part that gives way in a zone."""
    zone = next((z for z in document.zones if z.id == _text(body, "zone")), None)
    if zone is None or not zone.gives_way:
        raise BadDocument("decide first who leads and who gives way in this zone")
    changes = []
    for yielder in zone.gives_way:
        fight = _fight(
            document, {**body, "low_hz": zone.low_hz, "high_hz": zone.high_hz}, zone.leads, yielder
        )
        proposal = desk().propose(fight)
        body["reasons"] = proposal.reasons
        if zone.sections:
            proposal.settings["sections"] = zone.sections
        changes.append(_laid(document, zone.leads, yielder, proposal)[1])
    body["part"] = zone.gives_way[-1]

    def apply(session: Session) -> Session:
        for change in changes:
            session = change(session)
        return session

    leader = document.part(zone.leads).name
    return f"Make way for {leader}", apply


def _add_duck(session_id: str, document: Session, body: dict) -> edits.Edit:
    body["kind"] = "compressor"
    return _give_way(session_id, document, body)


def _add_move(_: str, document: Session, body: dict) -> edits.Edit:
    part, kind = _text(body, "part"), _text(body, "kind")
    return move_edits.add_move(document, part, {"kind": kind})


def _remove_move(_: str, document: Session, body: dict) -> edits.Edit:
    both = body.get("both_sides") is True
    return move_edits.remove_move(document, _text(body, "part"), _text(body, "move"), both_sides=both)


def _whole(body: dict, name: str) -> int:
    value = body.get(name)
    if isinstance(value, bool) or not isinstance(value, int):
        raise BadDocument(f"this edit needs the whole number {name!r}")
    return value


def _add_item(_: str, document: Session, body: dict) -> edits.Edit:
    values = body.get("values") or {}
    if not isinstance(values, dict):
        raise BadDocument("what is added is a JSON object")
    where = _text(body, "part"), _text(body, "move"), _text(body, "list")
    return move_edits.add_item(document, *where, values)


def _remove_item(_: str, document: Session, body: dict) -> edits.Edit:
    where = _text(body, "part"), _text(body, "move"), _text(body, "list")
    return move_edits.remove_item(document, *where, _whole(body, "index"))


def _split_band(_: str, document: Session, body: dict) -> edits.Edit:
    hz = song_edits.typed_hz(body.get("hz"))
    return move_edits.split_band(document, _text(body, "part"), _text(body, "move"), hz)


def _join_bands(_: str, document: Session, body: dict) -> edits.Edit:
    where = _text(body, "part"), _text(body, "move")
    return move_edits.join_bands(document, *where, _whole(body, "index"))


def _reorder_move(_: str, document: Session, body: dict) -> edits.Edit:
    where = _text(body, "part"), _text(body, "move")
    return move_edits.reorder_move(document, *where, _whole(body, "to"))


def _duplicate_move(_: str, document: Session, body: dict) -> edits.Edit:
    return move_edits.duplicate_move(document, _text(body, "part"), _text(body, "move"))


def _copy_moves(_: str, document: Session, body: dict) -> edits.Edit:
    targets = _texts(body, "to")
    moves = [_text(body, "move")] if body.get("move") else None
    return move_edits.copy_moves(document, _text(body, "part"), moves, targets)


def _swap(_: str, document: Session, body: dict) -> edits.Edit:
    return move_edits.swap_moves(document, _text(body, "leader"), _text(body, "part"))


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
    sections = _texts(body, "sections")
    leads, gives_way = _text(body, "leads"), _text(body, "gives_way")
    return song_edits.decide(document, leads, gives_way, low_hz, high_hz, sections)


def _remove_zone(_: str, document: Session, body: dict) -> edits.Edit:
    return song_edits.remove_zone(document, _text(body, "zone"))


def _set_sections(_: str, document: Session, body: dict) -> edits.Edit:
    return song_edits.set_sections(body.get("sections"))


def _set_hits(_: str, document: Session, body: dict) -> edits.Edit:
    part = _text(body, "part")
    return song_edits.set_hits(document, part, sensitivity=body.get("value"))


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
    "give way": _give_way,
    "right of way": _right_of_way,
    "add item": _add_item,
    "remove item": _remove_item,
    "split band": _split_band,
    "join bands": _join_bands,
    "reorder move": _reorder_move,
    "duplicate move": _duplicate_move,
    "copy moves": _copy_moves,
    "swap": _swap,
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


def _said(revision: Revision, body: dict[str, Any]) -> dict[str, Any] | None:
    """The changed value as the document now holds it, and in words; None when no value was set."""
    op, field = body["op"], body.get("field")
    if op not in ("set session", "set part", "set hits", "set move") or not isinstance(field, str):
        return None
    owner: Any = revision.document
    if op != "set session":
        owner = owner.part(str(body["part"]))
    if op == "set hits":
        owner = owner.hits
    if op == "set move":
        owner = move_of(owner, str(body["move"]))
    *way, name = field.split(".")
    for step in way:
        owner = _inside(owner, step)
    value = _inside(owner, name)
    if owner is None:
        return None
    if isinstance(owner, list):
        return {"value": value, "words": say_hz(value) if isinstance(value, float) else str(value)}
    if isinstance(value, BaseModel | list | dict):
        return None
    try:
        words = control_of(type(owner), name).say(value)
    except BadDocument:
        words = str(value)
    return {"value": "inf" if value == math.inf else value, "words": words}


def _inside(owner: Any, step: str) -> Any:
    """What a step of a path leads to, None when it leads nowhere."""
    if isinstance(owner, list):
        return owner[int(step)] if step.isdecimal() and int(step) < len(owner) else None
    return (
        getattr(owner, step)
        if isinstance(owner, BaseModel) and step in type(owner).model_fields
        else None
    )
