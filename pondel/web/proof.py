"""Proof: what the moves changed, in numbers beside a picture."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from flask import Blueprint, render_template

from pondel.core import evidence
from pondel.core.document import Part, Session
from pondel.core.engine.listen import make_plan, plan_region
from pondel.core.evidence import OnHits, PairEvidence
from pondel.core.measures.levels import measure
from pondel.core.moves.base import key_in
from pondel.core.moves.registry import kind_of
from pondel.jobs.turns import Superseded
from pondel.web.context import (
    Stretch,
    asked_revision,
    asked_stretch,
    desk,
    opened,
    song_facts,
    take_turn,
)
from pondel.web.ink import inked

blueprint = Blueprint("proof", __name__, url_prefix="/sessions/<session_id>")


@dataclass(frozen=True)
class KeyedMove:
    """A move that is on and listens to another part."""

    leader: Part
    yielder: Part
    move: Any


@dataclass(frozen=True)
class Case(KeyedMove):
    """One keyed move and what it gave."""

    found: PairEvidence
    on_hits: OnHits


def keyed_moves(document: Session) -> list[KeyedMove]:
    """Every move that is on and listens to another part."""
    return [
        KeyedMove(document.part(key.source), part, move)
        for part in document.parts
        for move in part.moves
        if move.on and (key := key_in(move)) is not None and document.has_part(key.source)
    ]


def cases(document: Session, stretch: Stretch) -> list[Case]:
    """What every keyed move gave, over a stretch of the song."""
    now, untreated = desk().now(document), desk().untreated(document)
    where = stretch.start, stretch.frames
    traces: dict[str, Any] = {}
    found = []
    for one in keyed_moves(document):
        leader, part = one.leader, one.yielder
        if part.id not in traces:
            traces[part.id] = now.reductions(part.id, *where)
        hits = desk().hits_s(leader)
        pair = evidence.pair_evidence(now, untreated, leader.id, part.id, *where, hits)
        inside = evidence.within(hits, *where, document.rate)
        on_hits = evidence.reduction_on_hits(traces[part.id][one.move.id], inside)
        found.append(Case(leader, part, one.move, pair, on_hits))
    return found


def mix_levels(document: Session, stretch: Stretch) -> list[tuple[str, Any]]:
    """Levels of the mix before and after, over the stretch."""
    rows = []
    for name, chunked in (("before", desk().untreated(document)), ("after", desk().now(document))):
        plan = make_plan(document, "mix")
        sound = plan_region(plan, chunked, stretch.start, stretch.frames)
        rows.append((name, measure([sound], document.rate, 2)))
    return rows


@blueprint.get("/proof")
def show(session_id: str):
    """The screen; its figures come by themselves."""
    revision = opened(session_id)
    document = revision.document
    return render_template(
        "proof.html",
        stage="proof",
        facts=song_facts(session_id, revision),
        document=document,
        marks=inked(document),
        stretch=asked_stretch(document) if document.parts else None,
        first=next(iter(keyed_moves(document)), None),
    )


@blueprint.get("/proof/figures")
def figures(session_id: str):
    """What every keyed move gave, and the levels of the mix, over the loop; a fragment."""
    document = asked_revision(session_id).document
    stretch = asked_stretch(document)
    try:
        found, levels = take_turn(
            "proof", lambda: (cases(document, stretch), mix_levels(document, stretch))
        )
    except Superseded:
        return "", 204
    return render_template(
        "parts/proof_figures.html",
        facts={"id": session_id},
        marks=inked(document),
        cases=found,
        levels=levels,
        kind_of=kind_of,
    )
