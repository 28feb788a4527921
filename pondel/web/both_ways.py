"""Both ways to part the lows: who owns the subs, compared on the spot and built as two variants."""

from __future__ import annotations

from typing import Any

from flask import Blueprint, flash, redirect, render_template, request, url_for

from pondel.core.document import Session
from pondel.core.errors import BadDocument, Busy
from pondel.jobs.both_ways import LowEndSplit
from pondel.web import asked
from pondel.web.context import Pair, Stretch, asked_stretch, desk, head, jobs, opened, song_facts
from pondel.web.ink import inked
from pondel.web.moves import chosen_pair

blueprint = Blueprint("both", __name__, url_prefix="/sessions/<session_id>/both-ways")


def _split(document: Session, pair: Pair, stretch: Stretch) -> LowEndSplit:
    """The comparison over a stretch, begun if need be."""
    return jobs().low_end_splits.begin(
        document, pair.leader.id, pair.yielder.id, stretch.start, stretch.frames
    )


@blueprint.get("")
def show(session_id: str):
    """The screen: a row for each part in each way, to be heard before either is built."""
    revision = opened(session_id)
    document = revision.document
    pair = chosen_pair(document)
    if pair is None:
        return redirect(url_for("moves.show", session_id=session_id), 303)
    stretch = asked_stretch(document)
    split = _split(document, pair, stretch)
    found, chosen = split.found, request.args.get("chosen")
    return render_template(
        "both_ways.html",
        stage="moves",
        facts=song_facts(session_id, revision),
        document=document,
        marks=inked(document),
        pair=pair,
        stretch=stretch,
        split=split,
        both=found,
        chosen=next((one for one in found.ways if one.name == chosen), None) if found else None,
        room=jobs().variants.room(session_id),
    )


@blueprint.post("/build")
def build(session_id: str):
    """Build both as variants of their own; the first one is open then."""
    document = head(session_id).document
    pair = chosen_pair(document)
    variants = jobs().variants
    if pair is None or variants.room(session_id) < 2:
        raise BadDocument("two more variants are needed, and eight are as many as can be kept")
    split = _split(document, pair, asked_stretch(document))
    if split.trouble is not None:
        raise split.trouble
    found = split.found
    if found is None:
        raise Busy("both ways are still being compared: build them once their figures are there")
    first = next(one.name for one in variants.of(session_id) if one.is_open)
    base, built = asked.whole("base"), []
    for way in found.ways:
        kept = variants.keep(session_id, base)
        desk().do(session_id, [way.operation], base=kept.id)
        built.append(next(one.name for one in variants.of(session_id) if one.is_open))
        base = variants.open(session_id, first).id
    done = variants.open(session_id, built[0]).document
    told = "; ".join(f"{name}: {way.title}" for name, way in zip(built, found.ways, strict=True))
    flash(f"{told}. {first} is as it was. The key V goes through them.")
    where: dict[str, Any] = {"part": pair.yielder.id, "leader": pair.leader.id}
    move = done.part(pair.yielder.id).moves[-1].id
    return redirect(url_for("moves.show", session_id=session_id, move=move, **where), 303)
