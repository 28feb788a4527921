"""Hand-off: print parts and mix, and take the session along."""

from __future__ import annotations

import json
from urllib.parse import quote

from flask import Blueprint, Response, redirect, render_template, send_file, url_for

from pondel.core.audio.files import FORMATS, check_target, safe_name
from pondel.core.document import to_json
from pondel.core.errors import BadDocument
from pondel.core.moves.face import face_of, fields_of
from pondel.core.moves.registry import KINDS
from pondel.jobs.archives import SESSION_FILE, stream_archive
from pondel.store.arrivals import UNFINISHED
from pondel.store.prints import Order
from pondel.web import asked
from pondel.web.context import head, jobs, library, opened, song_facts
from pondel.web.ink import inked

blueprint = Blueprint("handoff", __name__, url_prefix="/sessions/<session_id>")


@blueprint.get("/hand-off")
def show(session_id: str):
    """The screen."""
    revision = opened(session_id)
    return render_template(
        "handoff.html",
        stage="hand-off",
        facts=song_facts(session_id, revision),
        document=revision.document,
        marks=inked(revision.document),
        prints=jobs().prints.of_session(session_id),
        unfinished=UNFINISHED,
        starved=jobs().starved.names(),
        formats=FORMATS,
        kinds=KINDS,
        face_of=face_of,
        fields_of=fields_of,
    )


@blueprint.post("/prints")
def order(session_id: str):
    """Order a print of the session as it stands."""
    revision = head(session_id)
    wanted = Order(
        asked.words("what", "mix"),
        asked.words("format", "wav"),
        asked.words("bits", "24"),
    )
    check_target(wanted.format, wanted.bits)
    if wanted.what not in ("mix", "parts", "both"):
        revision.document.part(wanted.what)
    if not revision.document.parts:
        raise BadDocument("there is nothing to print yet: bring in some files first")
    ordered = jobs().prints.order(session_id, revision.id, wanted)
    jobs().print(ordered.id)
    return redirect(url_for("handoff.show", session_id=session_id), 303)


@blueprint.post("/prints/<print_id>/dismiss")
def dismiss(session_id: str, print_id: str):
    """Stop a print, or throw a finished one away."""
    jobs().prints.dismiss(jobs().prints.get(print_id, session_id).id)
    return redirect(url_for("handoff.show", session_id=session_id), 303)


@blueprint.get("/prints/<print_id>/<file:name>")
def printed(session_id: str, print_id: str, name: str):
    """One printed file."""
    return send_file(
        jobs().prints.file(session_id, print_id, name), as_attachment=True, download_name=name
    )


@blueprint.get("/session.json")
def document_file(session_id: str):
    """The mix document."""
    text = json.dumps(to_json(head(session_id).document), indent=1, ensure_ascii=False)
    headers = {"Content-Disposition": f'attachment; filename="{SESSION_FILE}"'}
    return Response(text, mimetype="application/json", headers=headers)


@blueprint.get("/archive.zip")
def archive(session_id: str):
    """The session with its audio, packed while it is sent."""
    document = head(session_id).document
    name = f"{safe_name(document.name)}.zip"
    plain = name.encode("ascii", "ignore").decode().strip(" .") or "session.zip"
    names = {"filename": plain, "filename*": f"UTF-8''{quote(name, safe='')}"}
    response = Response(stream_archive(library(), document), mimetype="application/zip")
    response.headers.set("Content-Disposition", "attachment", **names)
    return response
