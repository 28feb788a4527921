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
from pondel.core.moves import key_in, kind_of
from pondel.web.context import Stretch, asked_stretch, desk, head, library, song_facts
from pondel.web.ink import inked

blueprint = Blueprint("proof", __name__, url_prefix="/sessions/<session_id>")


@dataclass(frozen=True)
class Case:
    """One keyed move and what it gave."""

    leader: Part
    yielder: Part
    move: Any
    found: PairEvidence
    on_hits: OnHits


def cases(document: Session, stretch: Stretch) -> list[Case]:
    """Every move that is on and listens to another part, over a stretch of the song."""
    now, untreated = desk().now(document), desk().untreated(document)
    found = []
    for part in document.parts:
        keys = {move.id: key_in(move) for move in part.moves if move.on}
        keyed = [
            (move, document.part(key.source))
            for move in part.moves
            if (key := keys.get(move.id)) and document.has_part(key.source)
        ]
        if not keyed:
            continue
        traces = now.reductions(part.id, stretch.start, stretch.frames)
        for move, leader in keyed:
            hits = desk().hits_s(leader)
            pair = evidence.pair_evidence(
                now, untreated, leader.id, part.id, stretch.start, stretch.frames, hits
            )
            inside = evidence.within(hits, stretch.start, stretch.frames, document.rate)
            on_hits = evidence.reduction_on_hits(traces[move.id], inside)
            found.append(Case(leader, part, move, pair, on_hits))
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
    """The screen."""
    library().touch(session_id)
    revision = head(session_id)
    document = revision.document
    stretch = asked_stretch(document) if document.parts else None
    return render_template(
        "proof.html",
        stage="proof",
        facts=song_facts(session_id, revision),
        document=document,
        marks=inked(document),
        stretch=stretch,
        cases=cases(document, stretch) if stretch else [],
        levels=mix_levels(document, stretch) if stretch else [],
        kind_of=kind_of,
    )
