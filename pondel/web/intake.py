"""Intake: bring parts in, see their levels, trim them to a working level."""

from __future__ import annotations

from dataclasses import dataclass

from flask import Blueprint, redirect, render_template, request, url_for

from pondel.core import edits
from pondel.core.document import ROLES, Part, Session
from pondel.core.errors import BadAudio, BadDocument
from pondel.core.units import parse
from pondel.jobs.desk import Recording
from pondel.store.arrivals import UNFINISHED
from pondel.web.context import desk, head, jobs, library, song_facts

blueprint = Blueprint("intake", __name__, url_prefix="/sessions/<session_id>")
TRIM_BY = {"rms": "RMS", "peak": "sample peak", "loudness": "loudness"}
DEFAULT_TARGET = {"rms": -18.0, "peak": -6.0, "loudness": -23.0}


@dataclass(frozen=True)
class Row:
    """A part with what was measured of it."""

    part: Part
    recording: Recording | None


def rows(document: Session) -> list[Row]:
    return [Row(part, desk().recording(part.file) if part.file else None) for part in document.parts]


@blueprint.get("/intake")
def show(session_id: str):
    """The screen."""
    library().touch(session_id)
    revision = head(session_id)
    return render_template(
        "intake.html",
        stage="intake",
        facts=song_facts(session_id, revision),
        document=revision.document,
        rows=rows(revision.document),
        arrivals=jobs().arrivals.of_session(session_id),
        unfinished=UNFINISHED,
        roles=ROLES,
        trim_by=TRIM_BY,
        targets=DEFAULT_TARGET,
    )


@blueprint.post("/arrivals")
def receive(session_id: str):
    """Take in uploaded files; what is answered is on disk and will become a part."""
    head(session_id)
    handed = [file for file in request.files.getlist("file") if file.filename]
    if not handed:
        raise BadAudio("no file was chosen")
    refused = []
    for file in handed:
        try:
            arrival = jobs().arrivals.receive(session_id, file.filename or "", file.stream)
        except BadAudio as error:
            refused.append(error)
            continue
        jobs().take_in(arrival.id)
    if refused:
        raise refused[0]
    if request.headers.get("X-CSRFToken"):
        return {"received": len(handed)}, 202
    return redirect(url_for("intake.show", session_id=session_id))


@blueprint.post("/arrivals/<arrival_id>/dismiss")
def dismiss(session_id: str, arrival_id: str):
    """Stop a file that is on its way, or put its message away."""
    jobs().arrivals.dismiss(arrival_id)
    return redirect(url_for("intake.show", session_id=session_id), 303)


@blueprint.post("/trim")
def trim(session_id: str):
    """Trim one part, or all, to a target; changes the trim, never the recording."""
    by = request.form.get("by", "rms")
    if by not in TRIM_BY:
        raise BadDocument(f"trim by {', '.join(TRIM_BY)}, not {by!r:.20}")
    target = parse(request.form.get("target", ""), "dB")
    if target is None or not -60 <= target <= 0:
        raise BadDocument("a target lies between -60 and 0 dB", where="Target")
    document = head(session_id).document
    chosen = request.form.get("part")
    trims = {}
    for row in rows(document):
        if row.recording is None or (chosen and row.part.id != chosen):
            continue
        levels = row.recording.levels
        level = {
            "rms": levels.rms_dbfs,
            "peak": levels.sample_peak_dbfs,
            "loudness": levels.integrated_lufs,
        }[by]
        if level is not None and level > -120:
            trims[row.part.id] = target - level
    if not trims:
        raise BadDocument("there is nothing to trim: the parts are silent, or there are none")
    base = request.form.get("base", type=int)
    library().edit(session_id, base, edits.set_trims(document, trims))
    return redirect(url_for("intake.show", session_id=session_id), 303)
