"""Every change of a session arrives here: one address for edits, one each for undo and redo."""

from __future__ import annotations

import json
from dataclasses import asdict
from typing import Any

import numpy as np
from flask import Blueprint, Response, render_template, request

from pondel.core.document import Session, move_of
from pondel.core.errors import BadDocument
from pondel.core.operations import Done, parse_operations
from pondel.store.revisions import Revision
from pondel.web import asked
from pondel.web.context import desk, for_the_ear, head, jobs, library, song_facts
from pondel.web.deck import begin_chunk, in_a_moment, little_endian, sound_facts
from pondel.web.moves import in_brief
from pondel.web.spans import span

blueprint = Blueprint("editing", __name__, url_prefix="/sessions/<session_id>")
MOST_CHUNKS_ALONG = 2


@blueprint.post("/edit")
@for_the_ear
def edit(session_id: str):
    """Apply one operation, or several, to the revision the page shows; answers with the new state.

    The body has what to `do`, the `base` revision, and perhaps a `gesture` that joins the edits of one
    drag; what its `page` asked before is given up. With `listen` it also prepares the new sound, and
    its chunks `at`, two at most, come with the answer if they are ready in a moment.
    """
    body = asked.body()
    gesture, page, wanted = (body.get(name) for name in ("gesture", "page", "listen"))
    operations = parse_operations(body.get("do"))
    base = _base(body)
    if base is None:
        raise BadDocument("an edit names the revision it is based on")
    if isinstance(page, str):
        jobs().turns.drop(page)
    answer: dict[str, Any] = {}
    texts: list[bytes] = []
    sound: SoundOfEdit | None = None

    def worked_out(document: Session) -> None:
        nonlocal sound
        sound = SoundOfEdit(document, wanted) if isinstance(wanted, dict) else None

    def prepare(revision: Revision, done: Done) -> None:
        with span("facts"):
            answer.update(_answer(session_id, revision, done))
            if sound is not None:
                answer["sound"] = sound.facts
            texts.append(json.dumps(answer).encode())

    joined = gesture[:64] if isinstance(gesture, str) else None
    with span("state"):
        desk().do(
            session_id,
            operations,
            base=base,
            gesture=joined,
            worked_out=worked_out,
            prepare=prepare,
        )
    if sound is not None:
        with span("sound"):
            blocks = sound.chunks()
        if blocks:
            return _with_sound(answer, blocks)
    return Response(texts[-1], mimetype="application/json")


def _answer(session_id: str, revision: Revision, done: Done) -> dict[str, Any]:
    """What the page is told of the state that an edit makes."""
    answer: dict[str, Any] = {
        "session": song_facts(session_id, revision),
        "title": done.title,
        "said": done.said,
        "value": asdict(done.value) if done.value else None,
    }
    if done.move is not None:
        move = move_of(revision.document.part(done.move.part), done.move.move)
        answer["move"] = {**asdict(done.move), "brief": in_brief(revision.document, move)}
        answer["added"] = done.added
    return answer


class SoundOfEdit:
    """What a page wants to hear of an edit: its first chunk is begun while the state goes to disk."""

    def __init__(self, document: Session, wanted: dict[str, Any]) -> None:
        self.facts = sound_facts(document, wanted)
        at = wanted.get("at")
        self._at = at[:MOST_CHUNKS_ALONG] if isinstance(at, list) else []
        self._first = begin_chunk(self.facts["hash"], self._at[0]) if self._at else None

    def chunks(self) -> dict[int, np.ndarray]:
        """Those that can be had within a moment, up to the first that cannot."""
        found: dict[int, np.ndarray] = {}
        begun = self._first
        for index in self._at:
            block = in_a_moment(begun or begin_chunk(self.facts["hash"], index))
            if block is None:
                break
            found[index], begun = block, None
        return found


def _with_sound(answer: dict[str, Any], blocks: dict[int, np.ndarray]) -> Response:
    """An answer that brings chunks along: its length in bytes, the JSON, and the samples of each.

    The length is a little-endian 32-bit integer; spaces after the JSON let the samples begin at a
    multiple of four.
    """
    answer["sound"]["at"] = list(blocks)
    text = json.dumps(answer).encode()
    text += b" " * (-len(text) % 4)
    sound = b"".join(map(little_endian, blocks.values()))
    return Response(len(text).to_bytes(4, "little") + text + sound, mimetype="application/octet-stream")


@blueprint.post("/undo")
def undo(session_id: str):
    """Step back."""
    return {"session": song_facts(session_id, library().history.undo(session_id, _seen()))}


@blueprint.post("/redo")
def redo(session_id: str):
    """Step forward."""
    return {"session": song_facts(session_id, library().history.redo(session_id, _seen()))}


def _seen() -> int | None:
    """The revision the page shows, where it says one: what came since is not stepped over unseen."""
    return _base(asked.body()) if request.content_length else None


def _base(body: dict[str, Any]) -> int | None:
    base = body.get("base")
    if base is not None and (isinstance(base, bool) or not isinstance(base, int)):
        raise BadDocument("the base is the number of a revision")
    return base


@blueprint.get("/history")
def history(session_id: str):
    """The steps that led to the present state, or those before, newest first; a fragment."""
    since = asked.whole("since")
    return render_template(
        "parts/history.html", steps=library().history.steps(session_id, since), is_newest=since is None
    )


@blueprint.post("/history/<int:revision>")
def go_to(session_id: str, revision: int):
    """Go back, or forward, to any state."""
    return {"session": song_facts(session_id, library().history.go_to(session_id, revision))}


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
