"""The blind test at Proof: its rounds, its sounds under names that say nothing, and its results."""

from __future__ import annotations

from flask import Blueprint, Response, render_template, request

from pondel.core.blind import USUAL_ROUNDS
from pondel.core.errors import BadDocument
from pondel.jobs.blind import Running
from pondel.jobs.listening import listened_blind
from pondel.web import asked
from pondel.web.context import asked_stretch, desk, for_the_ear, head, jobs
from pondel.web.deck import little_endian
from pondel.web.proof import UNTREATED, sides_by_name

blueprint = Blueprint("blind", __name__, url_prefix="/sessions/<session_id>/proof/blind")
ROUNDS = (5, 10, 15, 20)


def _shown(session_id: str, running: Running | None = None) -> str:
    every = jobs().variants.of(session_id)
    return render_template(
        "parts/blind.html",
        facts={"id": session_id},
        running=running,
        names=[UNTREATED, *(one.name for one in every)],
        now=next(one.name for one in every if one.is_open),
        rounds=ROUNDS,
        usual=USUAL_ROUNDS,
        taken=list(desk().blind.taken(session_id).items())[:5],
    )


@blueprint.get("")
def show(session_id: str):
    """The test under way, or the way into one, and the results of those that were taken; a fragment."""
    head(session_id)
    return _shown(session_id, desk().blind.under_way(session_id))


@blueprint.post("")
@for_the_ear
def begin(session_id: str):
    """Begin a test over the loop."""
    document = head(session_id).document
    stretch = asked_stretch(document)
    known = sides_by_name(session_id, document)
    names = list(dict.fromkeys(request.form.getlist("side")))
    unknown = next((name for name in names if name not in known), None)
    if unknown is not None:
        raise BadDocument(f"there is no variant {unknown!r:.20}")
    sides = [(name, known[name]) for name in names]
    rounds = asked.whole("rounds") or USUAL_ROUNDS
    target = asked.words("target", most=40)
    where = stretch.start, stretch.frames
    return _shown(session_id, desk().blind.begin(session_id, sides, target, rounds, where))


@blueprint.post("/<name>/answer")
def answer(session_id: str, name: str):
    """Take an answer, and go on with the next round, or tell the result."""
    place, seen = asked.whole("place"), asked.whole("round")
    if place is None or seen is None:
        raise BadDocument("choose one of those that were played")
    running = desk().blind.answer(session_id, name, place, seen)
    if running.test.is_over:
        listened_blind(desk(), session_id, running.document)
    return _shown(session_id, running)


@blueprint.post("/<name>/give-up")
def give_up(session_id: str, name: str):
    """Forget a test before its end."""
    desk().blind.give_up(session_id, name)
    return _shown(session_id)


@blueprint.post("/<name>/keep")
def keep(session_id: str, name: str):
    """Write down which side one would keep."""
    desk().blind.keep(session_id, name, asked.words("side", most=40))
    return _shown(session_id)


@blueprint.get("/<name>/<token>")
@for_the_ear
def sound(session_id: str, name: str, token: str):
    """What is played under a token: all left samples, then all right ones, 32-bit float."""
    block = desk().blind.sound(session_id, name, token)
    response = Response(little_endian(block), mimetype="application/octet-stream")
    response.headers["Cache-Control"] = "no-store"
    return response
