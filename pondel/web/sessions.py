"""The list of sessions, and the way into one."""

from __future__ import annotations

from flask import Blueprint, redirect, render_template, request, url_for

from pondel.core.errors import BadDocument
from pondel.core.reading import parse_session
from pondel.jobs import sessions as session_files
from pondel.store.arrivals import plain_name
from pondel.store.room import written_in
from pondel.web import asked, waiting
from pondel.web.context import jobs, library

blueprint = Blueprint("sessions", __name__)


@blueprint.get("/")
def first():
    """What is being made, while it is; the session opened last, at Lanes; without one, the list."""
    told = jobs().maker.told()
    if told is not None:
        return waiting.making(told)
    cards = library().sessions()
    if not cards:
        return redirect(url_for("sessions.index"))
    stage = "lanes.show" if cards[0].parts > 1 else "intake.show"
    return redirect(url_for(stage, session_id=cards[0].id))


@blueprint.get("/sessions")
def index():
    """All sessions."""
    return render_template(
        "sessions.html",
        cards=library().sessions(),
        removed=library().removed(),
        making=jobs().maker.told(),
    )


@blueprint.post("/sessions")
def create():
    """A new, empty session."""
    name = asked.words("name").strip()
    if not name or len(name) > 80:
        raise BadDocument("give the session a name of up to 80 characters")
    session_id = library().create(parse_session({"name": name}))
    return redirect(url_for("intake.show", session_id=session_id))


@blueprint.post("/sessions/<session_id>/remove")
def remove(session_id: str):
    """Set a session aside."""
    library().remove(session_id)
    return redirect(url_for("sessions.index"))


@blueprint.post("/sessions/<session_id>/bring-back")
def bring_back(session_id: str):
    """Take a session that was set aside back among the others."""
    jobs().intake.bring_back(session_id)
    return redirect(url_for("sessions.index"))


@blueprint.post("/sessions/import")
def bring_in():
    """A session from an archive, or from a session.json handed in with its audio."""
    handed = [file for file in request.files.getlist("file") if file.filename]
    if not handed:
        raise BadDocument("choose a session archive, or a session.json with its audio files")
    data = library().folder
    with written_in(data.root), data.scratch_folder() as folder:
        paths = []
        for file in handed:
            path = folder / plain_name(file.filename or "")
            if path.exists():
                raise BadDocument("two of the files have the same name", where=path.name)
            file.save(path)
            paths.append(path)
        session_id = session_files.import_handed(library(), paths)
    return redirect(url_for("lanes.show", session_id=session_id))
