"""Proof: what the moves changed, in numbers beside a picture."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from flask import Blueprint, render_template

from pondel.core import evidence
from pondel.core.advice.silence import why_silent
from pondel.core.document import Session
from pondel.core.engine.listen import make_plan, plan_region
from pondel.core.evidence import FightEvidence, Led, OnHits
from pondel.core.measures.levels import measure
from pondel.core.moves.registry import kind_of
from pondel.core.units import say_hz
from pondel.jobs.thinness import thin
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
from pondel.web.standing import fight_words

blueprint = Blueprint("proof", __name__, url_prefix="/sessions/<session_id>")


@dataclass(frozen=True)
class Case:
    """A move that follows another part, and what it gave; `silent` says why it gives nothing."""

    led: Led
    zone: str
    silent: str
    found: FightEvidence | None
    words: dict[str, str]
    level: OnHits
    gain: OnHits | None


def cases(document: Session, stretch: Stretch) -> list[Case]:
    """What every move that follows another part gave, over a stretch of the song."""
    return [_case(document, stretch, led) for led in evidence.led_moves(document)]


def _case(document: Session, stretch: Stretch, led: Led) -> Case:
    now = desk().now(document)
    where = stretch.start, stretch.frames
    leader, part = led.leader, led.yielder
    hits = desk().hits_s(leader)
    inside = evidence.within(hits, *where, document.rate)
    zone_hz = desk().fights.zone_of(document, leader.id, part.id, *where)
    trace = now.reductions(part.id, *where).get(led.move.id)
    silent = [why for one in (leader, part) if (why := why_silent(document, one))]
    found = desk().fights.evidence(document, leader.id, part.id, where, led.move.id)
    return Case(
        led,
        f"{say_hz(zone_hz[0])} to {say_hz(zone_hz[1])}",
        silent[0] if silent else "",
        found,
        fight_words(found) if found else {},
        desk().fights.drop_on_hits(document, part.id, led.move.id, where, inside, zone_hz),
        None
        if trace is None
        else evidence.gain_on_hits(trace, inside, rises=kind_of(led.move.kind).rises(led.move)),
    )


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
        first=next(iter(evidence.led_moves(document)), None),
    )


@blueprint.get("/proof/figures")
def figures(session_id: str):
    """What every keyed move gave, and the levels of the mix, over the loop; a fragment."""
    document = asked_revision(session_id).document
    stretch = asked_stretch(document)
    try:
        found, levels, thinner = take_turn(
            "proof",
            lambda: (
                cases(document, stretch),
                mix_levels(document, stretch),
                thin(desk(), document, stretch.start, stretch.frames),
            ),
        )
    except Superseded:
        return "", 204
    return render_template(
        "parts/proof_figures.html",
        facts={"id": session_id},
        marks=inked(document),
        stretch=stretch,
        cases=found,
        levels=levels,
        thin=thinner,
        kind_of=kind_of,
    )
