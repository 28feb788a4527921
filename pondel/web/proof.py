"""Proof: what the moves changed, in numbers beside a picture."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, TypeGuard

from flask import Blueprint, redirect, render_template, url_for

from pondel.core import evidence
from pondel.core.advice.silence import why_silent
from pondel.core.differences import differences
from pondel.core.document import Session
from pondel.core.engine.listen import without_moves
from pondel.core.errors import BadDocument, NotFound
from pondel.core.evidence import FightEvidence, Led, OnHits
from pondel.core.listening import Span
from pondel.core.moves.registry import kind_of
from pondel.core.operations.take_over import TakeOver
from pondel.core.units import say_hz
from pondel.jobs.fights import judged_in
from pondel.jobs.listening import listen, still_to_hear
from pondel.jobs.sides import Where
from pondel.jobs.turns import Superseded
from pondel.web import asked
from pondel.web.context import (
    NOTHING_NEW,
    Stretch,
    asked_revision,
    asked_stretch,
    desk,
    head,
    jobs,
    library,
    opened,
    song_facts,
    take_turn,
)
from pondel.web.ink import inked
from pondel.web.standing import fight_words, word

UNTREATED = "untreated"
MOST_SIDES = 3
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
    words = fight_words(found, judged_in(part, led.move.id)) if found else {}
    return Case(
        led,
        words.get("zone", f"{say_hz(zone_hz[0])} to {say_hz(zone_hz[1])}"),
        silent[0] if silent else "",
        found,
        words,
        desk().fights.drop_on_hits(document, part.id, led.move.id, where, inside, zone_hz),
        None
        if trace is None
        else evidence.gain_on_hits(trace, inside, rises=kind_of(led.move.kind).rises(led.move)),
    )


def by_pair(found: list[Case]) -> list[list[Case]]:
    """Cases of the same two parts together, pairs in the order of their first moves."""
    pairs: dict[tuple[str, str], list[Case]] = {}
    for case in found:
        pairs.setdefault((case.led.leader.id, case.led.yielder.id), []).append(case)
    return list(pairs.values())


def asked_sides(session_id: str, document: Session) -> list[tuple[str, Session]]:
    """The untreated session and the variants that are asked for: three at most, the open one always."""
    every = jobs().variants.of(session_id)
    named = [letter for letter in asked.words("sides", most=40).split(",") if letter]
    others = [one for one in every if not one.is_open and (not named or one.name in named)]
    now = next(one for one in every if one.is_open)
    shown = sorted([now, *others[: MOST_SIDES - 1]], key=lambda one: one.name)
    known = sides_by_name(session_id, document)
    return [(name, known[name]) for name in (UNTREATED, *(one.name for one in shown))]


def sides_by_name(session_id: str, document: Session) -> dict[str, Session]:
    """The untreated session and every variant, by their names."""
    every = {UNTREATED: without_moves(document)}
    for one in jobs().variants.of(session_id):
        is_here = one.is_open
        every[one.name] = document if is_here else library().revision(session_id, one.head).document
    return every


def asked_where(document: Session) -> Where:
    """What is compared: the loop, one section, or the song."""
    over = asked.words("over", "loop", most=80)
    if over == "song":
        return Where(0, desk().frames(document), is_song=True)
    section = next((one for one in document.sections if one.id == over), None)
    if section is None:
        stretch = asked_stretch(document)
        return Where(stretch.start, stretch.frames)
    start = round(section.start_s * document.rate)
    end = min(round(section.end_s * document.rate), desk().frames(document))
    if end <= start:
        raise BadDocument("no part plays in this section", where=section.name)
    return Where(start, end - start, section=section.id)


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


@blueprint.get("/proof/sides")
def sides(session_id: str):
    """The variants side by side, as far as they are worked out; a fragment."""
    document = asked_revision(session_id).document
    every = jobs().variants.of(session_id)
    compared_with = asked_sides(session_id, document)
    shown = [name for name, _ in compared_with[1:]]
    now = next(one.name for one in every if one.is_open)
    where = asked_where(document)
    return render_template(
        "parts/proof_sides.html",
        facts={"id": session_id, "revision": head(session_id).id},
        marks=inked(document),
        document=document,
        compared=desk().sides.begin(compared_with, document, where),
        where=where,
        stretches=[
            ("loop", "loop"),
            *((one.id, one.name) for one in document.sections),
            ("song", "whole song"),
        ],
        every=every,
        shown=shown,
        turned={
            one.name: ",".join(sorted(set(shown) ^ {one.name}))
            for one in every
            if not one.is_open and (one.name in shown or len(shown) < MOST_SIDES)
        },
        asked_for=asked.words("sides", most=40),
        now=now,
        differing=[
            (name, differences(document, other)) for name, other in compared_with[1:] if name != now
        ],
        kind_of=kind_of,
        word=word,
    )


@blueprint.get("/proof/still-to-hear")
def to_hear(session_id: str):
    """The listening list; a fragment."""
    document = asked_revision(session_id).document
    return render_template(
        "parts/to_hear.html", items=still_to_hear(desk(), session_id, document), parts=document.parts
    )


@blueprint.post("/listened")
def listened(session_id: str):
    """Write down which stretches of the mix were played, and how; tells what is heard."""
    body = asked.body()
    revision = body.get("revision")
    if not isinstance(revision, int) or isinstance(revision, bool):
        raise BadDocument("what was listened to names its revision")
    spans = body.get("spans")
    played = [_span(one) for one in (spans if isinstance(spans, list) else [])]
    document = head(session_id).document
    try:
        heard = library().revision(session_id, revision).document
    except NotFound:
        # A revision that a drag replaced is gone, and with it what was heard of it.
        heard = None
    if heard is not None:
        listen(desk(), session_id, heard, played)
    items = still_to_hear(desk(), session_id, document)
    return {"heard": [name for name, _, is_done in items if is_done]}


def _span(one: Any) -> Span:
    """A stretch that was played, from JSON; BadDocument when it is none."""
    known = one if isinstance(one, dict) else {}
    start_s, end_s, fold, level = (known.get(name) for name in ("start_s", "end_s", "fold", "level"))
    if _is_number(start_s) and _is_number(end_s) and isinstance(fold, str) and isinstance(level, str):
        return Span(start_s, end_s, fold, level)
    raise BadDocument("a stretch that was played has a start, an end, a fold and a level")


def _is_number(value: Any) -> TypeGuard[float]:
    return isinstance(value, int | float) and not isinstance(value, bool)


@blueprint.post("/proof/take-over")
def take_over(session_id: str):
    """Make one move as it is in another variant, or take it out where it is not in that one."""
    named, part_id, move_id = (asked.words(one, most=80) for one in ("variant", "part", "move"))
    kept = next((one for one in jobs().variants.of(session_id) if one.name == named), None)
    if kept is None:
        raise NotFound(f"there is no variant {named!r}")
    there = library().revision(session_id, kept.head).document
    moves = there.part(part_id).moves if there.has_part(part_id) else []
    at = next((n for n, move in enumerate(moves) if move.id == move_id), None)
    settings = None if at is None else moves[at].model_dump(mode="json", exclude={"id"})
    operation = TakeOver(part=part_id, move=move_id, settings=settings, at=at or 0)
    desk().do(session_id, [operation], base=asked.whole("base"))
    return redirect(url_for("proof.show", session_id=session_id), 303)


@blueprint.get("/proof/figures")
def figures(session_id: str):
    """What every keyed move gave, and what got thin, over the loop; a fragment."""
    document = asked_revision(session_id).document
    stretch = asked_stretch(document)
    try:
        found, thinner = take_turn(
            "proof",
            lambda: (
                cases(document, stretch),
                desk().thinness.thin(document, stretch.start, stretch.frames),
            ),
        )
    except Superseded:
        return NOTHING_NEW
    return render_template(
        "parts/proof_figures.html",
        facts={"id": session_id},
        marks=inked(document),
        stretch=stretch,
        pairs=by_pair(found),
        thin=thinner,
        kind_of=kind_of,
    )
