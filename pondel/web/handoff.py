"""Hand-off: print parts and mix, and take the session along."""

from __future__ import annotations

import json

from flask import Blueprint, Response, redirect, render_template, send_file, url_for

from pondel.core.audio.formats import FORMATS
from pondel.core.document import Session
from pondel.core.errors import BadDocument
from pondel.core.evidence import led_moves
from pondel.core.moves.registry import kind_of
from pondel.core.reading import to_json
from pondel.core.units import parse
from pondel.jobs.along import along_of
from pondel.jobs.archives import SESSION_FILE, stream_archive
from pondel.jobs.printing import FIELDS, check_order
from pondel.store.arrivals import UNFINISHED
from pondel.store.prints import Order
from pondel.web import asked
from pondel.web.context import head, jobs, library, opened, song_facts
from pondel.web.ink import inked
from pondel.web.words import file_names

SONG = (0.0, None)
blueprint = Blueprint("handoff", __name__, url_prefix="/sessions/<session_id>")


@blueprint.get("/hand-off")
def show(session_id: str):
    """The screen."""
    revision = opened(session_id)
    document = revision.document
    led = {(one.yielder.id, one.move.id): one.leader.id for one in led_moves(document)}
    return render_template(
        "handoff.html",
        stage="hand-off",
        facts=song_facts(session_id, revision),
        document=document,
        marks=inked(document),
        pictured=[(p, one, led.get((p.id, one.id))) for p in document.parts for one in p.moves],
        kind_of=kind_of,
        prints=jobs().prints.of_session(session_id),
        unfinished=UNFINISHED,
        starved=jobs().starved.names(),
        has_workers=jobs().has_workers(),
        formats=FORMATS,
        fields=FIELDS,
    )


@blueprint.post("/prints")
def order(session_id: str):
    """Order a print of the session as it stands."""
    revision = head(session_id)
    document = revision.document
    stretch = _stretch(document)
    every = jobs().variants.of(session_id)
    wanted = Order(
        asked.words("what", "mix"),
        asked.words("format", "wav"),
        asked.words("bits", "24"),
        *stretch,
        ring_out=asked.words("ring_out") == "1",
        lower_db=_amount("lower_db", "dB") or 0.0,
        split_hz=_amount("split_hz", "Hz"),
        pattern=asked.words("pattern", "{part}", most=120).strip() or "{part}",
        variant=next(one.name for one in every if one.is_open),
    )
    check_order(document, wanted)
    if not document.parts:
        raise BadDocument("there is nothing to print yet: bring in some files first")
    ordered = jobs().prints.order(session_id, revision.id, wanted)
    jobs().orders.print(ordered.id)
    return redirect(url_for("handoff.show", session_id=session_id), 303)


def _stretch(document: Session) -> tuple[float, float | None]:
    """From where to where is printed: all of the song, the loop, or a section."""
    over = asked.words("over", "song", most=80)
    if over == "song":
        return SONG
    section = next((one for one in document.sections if one.id == over), None)
    if section is not None:
        return section.start_s, section.end_s
    return asked.number("loop_start_s", 0.0) or 0.0, asked.number("loop_end_s")


def _amount(name: str, unit: str) -> float | None:
    """A number as it is typed, with or without its unit; None where nothing is."""
    text = asked.words(name, most=40).strip()
    return None if not text else parse(text, unit)


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
    packed = stream_archive(library(), document, along_of(library(), session_id))
    response = Response(jobs().downloads.streamed(packed), mimetype="application/zip")
    response.headers.set("Content-Disposition", "attachment", **file_names(document.name, ".zip"))
    return response
