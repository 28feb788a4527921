"""Moves: treat a part, hear and see what it does."""

from __future__ import annotations

import math
from dataclasses import asdict
from typing import Any

import numpy as np
from flask import Blueprint, render_template, request

from pondel.core.advice.proposals import usual_kind
from pondel.core.advice.tuning import Tuning, tunings
from pondel.core.document import Part, Session, move_of
from pondel.core.dsp.fold import SIDES, Side
from pondel.core.dsp.timing import gap_s
from pondel.core.engine.chunks import ChunkedSession
from pondel.core.engine.graph import part_tone
from pondel.core.errors import BadDocument
from pondel.core.evidence import LEVEL_STEP_S, level_change_db, within
from pondel.core.measured import node_powers, node_steps_db, part_now, part_spectrum
from pondel.core.measures.hit_average import STEP_S, Averaged, average_around
from pondel.core.measures.spectrum import axis_hz
from pondel.core.moves.amounts import STEPS
from pondel.core.moves.base import TRACE_RATE, key_in
from pondel.core.moves.controls import controls_of
from pondel.core.moves.describe import Key
from pondel.core.moves.face import face_of
from pondel.core.moves.picture import Factor, at_rest
from pondel.core.moves.registry import KINDS, kind_of
from pondel.core.moves.starting import THROUGH
from pondel.core.operations.under_one import amounts_by_role, laid_together
from pondel.core.recipes import spaces
from pondel.core.refs import hits_source
from pondel.core.settings import changed_by_hand
from pondel.jobs.checks import found_wrong
from pondel.jobs.fights import ANY_ZONE_HZ
from pondel.jobs.turns import Superseded
from pondel.web import asked
from pondel.web.context import (
    NOTHING_NEW,
    Pair,
    Stretch,
    asked_pair,
    asked_revision,
    asked_stretch,
    desk,
    in_turn,
    library,
    opened,
    song_facts,
    take_turn,
)
from pondel.web.fight_in_view import moments, whole_db
from pondel.web.ink import inked
from pondel.web.look import in_families, kept_rows, kinds_of_families
from pondel.web.recipes import offered

blueprint = Blueprint("moves", __name__, url_prefix="/sessions/<session_id>")
BEFORE_HIT_S = 0.05
LONGEST_HIT_VIEW_S = 1.2
UNSEEN_DB = 0.05
UNSEEN = 3e-4
"""A weight below this moves nothing that could be seen."""
MANY_BANDS = 12
SLOWER = 8
"""Of moves with many bands every eighth point of their traces is sent."""


def chosen_pair(document: Session) -> Pair | None:
    """The part in view and what it gives way to: its move's key when it has one."""
    part_id = request.args.get("part", "")
    if not document.has_part(part_id):
        return asked_pair(document)
    part = document.part(part_id)
    leader = request.args.get("leader", "")
    keys = [key.source for move in part.moves if (key := key_in(move)) is not None]
    for candidate in [leader, *keys, *(p.id for p in document.parts)]:
        if candidate != part.id and document.has_part(candidate):
            return Pair(document.part(candidate), part)
    return None


@blueprint.get("/moves")
def show(session_id: str):
    """The screen."""
    revision = opened(session_id)
    document = revision.document
    pair = chosen_pair(document)
    move = _chosen_move(pair)
    key = key_in(move) if move is not None else None
    leader = key.source if key is not None else followed(move, pair)
    if pair and leader and document.has_part(leader) and leader != pair.yielder.id:
        pair = Pair(document.part(leader), pair.yielder)
    face = face_of(kind_of(move.kind), move, asked.whole("item")) if move is not None else None
    return render_template(
        "moves.html",
        stage="moves",
        facts=song_facts(session_id, revision),
        document=document,
        marks=inked(document),
        spaces=spaces(),
        headings=in_families(document, document.parts, kept_rows()),
        row_kinds=kinds_of_families(document),
        kept_rows=kept_rows(),
        pair=pair,
        move=move,
        kind=kind_of(move.kind) if move is not None else None,
        kinds=KINDS,
        steps=STEPS,
        throughs={name: one.words for name, one in THROUGH.items()},
        usual=_usual_kind(document, pair),
        under_it=amounts_by_role(document, pair.yielder.id) if pair else {},
        together=laid_together(document, pair.yielder.id, move.id) if pair and move else [],
        kind_of=kind_of,
        in_brief=in_brief,
        face=face,
        item=face.items[0].chosen if face and face.items else 0,
        leads=leader,
        key_controls=controls_of(Key),
        recipes=offered(document, pair.yielder, pair.leader) if pair else [],
        kept_spectra=library().shelf.names("spectrum"),
        changed_by_hand=changed_by_hand(document, move) if move is not None else [],
        taken_anew=_taken_anew(document, pair, move),
        tunings=_tunings(document, pair, move),
        zones=_zones(document, pair),
        inf=math.inf,
    )


def in_brief(document: Session, move: Any) -> str:
    """A move in a line of the chain: its main settings and what it listens to."""
    words = kind_of(move.kind).in_brief(move)
    key = key_in(move)
    if key is None or not document.has_part(key.source):
        return words
    return f"{words}; hears {inked(document)[key.source].tag}"


def followed(move: Any, pair: Pair | None) -> str | None:
    """The part whose hits a move follows, None when it follows none or those of its own part."""
    if move is None or pair is None:
        return None
    source = hits_source(move, pair.yielder.id)
    return None if source == pair.yielder.id else source


def _taken_anew(document: Session, pair: Pair | None, move: Any) -> str:
    """What has changed of the parts since a move took their spectra, in words; empty for nothing."""
    if pair is None or move is None or not kind_of(move.kind).takes_spectra:
        return ""
    made_of = desk().made_of
    known = [(document.part(one), was) for one, was in move.sources.items() if document.has_part(one)]
    changed = [part.name for part, was in known if was and made_of(document, part) != was]
    return f"{' and '.join(changed)} changed since the spectra were taken." if changed else ""


def _tunings(document: Session, pair: Pair | None, move: Any) -> list[Tuning]:
    if pair is None or move is None:
        return []
    return tunings(document, pair.yielder, kind_of(move.kind), move, desk().pitch_hz)


def _zones(document: Session, pair: Pair | None) -> list:
    if pair is None:
        return []
    return [z for z in document.zones if z.leads == pair.leader.id and pair.yielder.id in z.gives_way]


SILENT_DB = -150.0
LOWS, MIDDLE = {"kick", "bass"}, (300.0, 3000.0)


def _usual_kind(document: Session, pair: Pair | None) -> str | None:
    """The kind that usually solves the fight in view: where it was decided, or by the parts' roles."""
    if pair is None:
        return None
    zones = _zones(document, pair)
    is_low = {pair.leader.role, pair.yielder.role} <= LOWS
    zone_hz = (zones[0].low_hz, zones[0].high_hz) if zones else ANY_ZONE_HZ if is_low else MIDDLE
    return usual_kind(pair.leader, pair.yielder, zone_hz)


def _chosen_move(pair: Pair | None) -> Any:
    if pair is None or not pair.yielder.moves:
        return None
    wanted = request.args.get("move")
    moves = {move.id: move for move in pair.yielder.moves}
    if wanted in moves:
        return moves[wanted]
    # A move that was removed leaves its fight in view.
    is_chosen = request.args.get("leader") == pair.leader.id
    return _for_leader(pair) if is_chosen else pair.yielder.moves[-1]


def _for_leader(pair: Pair) -> Any:
    """The last move with which a part makes way for a leader, None while none does."""
    for move in reversed(pair.yielder.moves):
        key = key_in(move)
        began = move.began.leader if move.began is not None else None
        if pair.leader.id in (began, key.source if key is not None else followed(move, pair)):
            return move
    return None


GONE = {"gone": True}
"""The answer about a move that an undo has just taken away: its picture goes with it."""


def asked_move(document: Session) -> tuple[Any, Any] | None:
    """The part and move of the address, None when they are not, or no longer, there."""
    part_id, move_id = request.args.get("part", ""), request.args.get("move", "")
    if not document.has_part(part_id):
        return None
    part = document.part(part_id)
    if all(move.id != move_id for move in part.moves):
        return None
    return part, move_of(part, move_id)


@blueprint.get("/moves/response")
def response(session_id: str):
    """A move over frequency: what stands still, what moves with which trace, and handles."""
    document = asked_revision(session_id).document
    chosen = asked_move(document)
    if chosen is None:
        return GONE
    part, move = chosen
    hz = axis_hz()
    tone = part_tone(document, desk().media, part)
    picture = kind_of(move.kind).drawn(move, hz, document.rate, tone)
    resting = np.abs(picture.gain(at_rest, hz.size))
    return {
        "hz": np.round(hz, 2).tolist(),
        "still_db": np.round(20 * np.log10(np.maximum(resting, 1e-6)), 2).tolist(),
        "factors": [_factor(move.id, factor) for factor in picture.factors],
        "wet": picture.wet,
        "of": picture.of,
        "asked_db": picture.asked_db,
        "handles": [asdict(handle) for handle in picture.handles],
    }


def _factor(move_id: str, factor: Factor) -> dict[str, Any]:
    """A factor as the page multiplies it; weights begin where they are first seen."""
    still = None if factor.still is None else _complex(factor.still)
    bands = []
    for band in factor.moving:
        seen = np.flatnonzero(np.abs(band.weight) > UNSEEN)
        first, last = (int(seen[0]), int(seen[-1]) + 1) if seen.size else (0, 0)
        weight = _complex(band.weight[first:last])
        curve = [round(value, 5) for value in band.curve]
        fixed = {"trace": f"{move_id}{band.trace}", "curve": curve, "full_db": band.full_db}
        bands.append({**fixed, "rest_db": round(band.rest_db, 3), "from": first, **weight})
    return {"still": still, "bands": bands}


def _complex(values: np.ndarray) -> dict[str, list[float]]:
    return {"re": np.round(values.real, 4).tolist(), "im": np.round(values.imag, 4).tolist()}


@blueprint.get("/moves/hit")
def hit(session_id: str):
    """One hit of the leader, averaged: both parts' envelopes and the move's gain, with its spread."""
    document = asked_revision(session_id).document
    chosen = asked_move(document)
    if chosen is None:
        return GONE
    part, move = chosen
    leader_id = request.args.get("leader", "")
    leader = document.part(leader_id) if document.has_part(leader_id) else part
    stretch, item = asked_stretch(document), asked.whole("item") or 0
    return in_turn("hit", lambda: averaged_hit(document, part, move, leader, stretch, item))


def averaged_hit(
    document: Session, part: Part, move: Any, leader: Part, stretch: Stretch, item: int = 0
) -> dict[str, Any]:
    """One hit of a leader, averaged over a stretch: what a picture of it needs."""
    now, untreated = desk().now(document), desk().untreated(document)
    hits = within(desk().fights.hits_s(document, leader), stretch.start, stretch.frames, document.rate)
    gap = gap_s(hits)
    after_s = min(LONGEST_HIT_VIEW_S, gap if gap is not None else 0.6)
    where = (stretch.start, stretch.frames)
    bpm = document.beats().bpm_at(stretch.start / document.rate)

    def envelope(chunked: ChunkedSession, part_id: str, tap: Any = "before fader"):
        steps = node_steps_db(chunked, (part_id, tap), *where)
        return average_around(steps, STEP_S, hits, BEFORE_HIT_S, after_s)

    trace = now.reductions(part.id, *where).get(move.id)
    gain, step_s = None, 1 / TRACE_RATE
    if trace is not None:
        gain = average_around(-trace.mean, step_s, hits, BEFORE_HIT_S, after_s)
    elif move.on:
        # A move without a gain over time is shown by what it does to the level.
        step_s = LEVEL_STEP_S
        around = desk().fights.sessions_around(document, part.id, move.id)
        powers = [node_powers(one, (part.id, "before fader"), *where) for one in around]
        gain = average_around(level_change_db(*powers), step_s, hits, BEFORE_HIT_S, after_s)
        if gain is not None and max(np.abs(gain.low).max(), np.abs(gain.high).max()) < UNSEEN_DB:
            gain = None
    return {
        "hits": int(hits.size),
        "before_s": BEFORE_HIT_S,
        "after_s": after_s,
        "step_s": STEP_S,
        "trace_step_s": step_s,
        "gain_is": "gain" if trace is not None else "change of level",
        "leader": _averaged(envelope(now, leader.id, "source")),
        "before": _averaged(envelope(untreated, part.id)),
        "after": _averaged(envelope(now, part.id)),
        "gain": _averaged(gain),
        **asdict(kind_of(move.kind).hit_face(move, item, bpm)),
        "beat_s": document.known_tempo_bpm and 60.0 / bpm,
    }


def _power(levels_db: np.ndarray) -> float:
    return float((10.0 ** (levels_db / 10.0)).sum())


def _asked_spectra() -> tuple[Side, str, bool]:
    """Of which side spectra are, average, peak or now, and whether around the move in view alone."""
    side = request.args.get("fold", "both")
    if side not in SIDES:
        raise BadDocument(f"spectra are of {', '.join(SIDES)}")
    return side, request.args.get("how", "average"), request.args.get("point") == "move"


def _moving(
    asked_for: dict[str, tuple[ChunkedSession, str]], stretch: Stretch, side: Side
) -> dict[str, Any]:
    """The same spectra at every step of a stretch."""
    at_s, step_s = moments(stretch.frames, next(iter(asked_for.values()))[0].session.rate)
    rows = {
        name: whole_db(part_now(chunked, part_id, stretch.start, stretch.frames, side, at_s))
        for name, (chunked, part_id) in asked_for.items()
    }
    return {"moving": {"step_s": step_s, "rows": rows}}


def _averaged(found: Averaged | None) -> dict[str, list[float]] | None:
    if found is None:
        return None
    return {name: np.round(values, 2).tolist() for name, values in vars(found).items()}


@blueprint.get("/moves/live")
def live(session_id: str):
    """Spectra of leader and part over the loop and the traces that move with the sound."""
    document = asked_revision(session_id).document
    chosen = asked_move(document)
    if chosen is None:
        return GONE
    part, move = chosen
    stretch = asked_stretch(document)
    now = desk().now(document)
    leader_id = request.args.get("leader", "")
    side, how, around_it = _asked_spectra()
    kept = asked.words("kept", most=80)
    beside = library().shelf.get("spectrum", kept)["levels_db"] if kept else None

    def work() -> dict[str, Any]:
        traces = now.reductions(part.id, stretch.start, stretch.frames)
        around = desk().untreated(document), now
        if around_it:
            around = desk().fights.sessions_around(document, part.id, move.id)

        def spectrum(chunked: ChunkedSession, part_id: str) -> np.ndarray:
            where = stretch.start, stretch.frames
            return part_spectrum(chunked, part_id, *where, side, peak=how == "peak")

        asked_for = {"before": (around[0], part.id), "after": (around[1], part.id)}
        if document.has_part(leader_id) and leader_id != part.id:
            asked_for["key"] = now, leader_id
        spectra = {name: spectrum(*of) for name, of in asked_for.items()}
        if beside is not None:
            # Only its shape is compared: it is shown as loud as the part.
            levels, own = np.array(beside), spectra["after"]
            shift_db = 10 * np.log10(_power(own) / _power(levels)) if own.max() > SILENT_DB else 0.0
            spectra["kept"] = levels + shift_db
        drawn = kind_of(move.kind).drawn(move, axis_hz(), document.rate).traces()
        bands = [name for band in sorted(drawn - {""}) if (name := f"{move.id}{band}") in traces]
        every = SLOWER if len(bands) > MANY_BANDS else 1
        shown = {name: traces[name].mean[::every] for name in bands}
        if move.id in traces:
            shown[move.id] = traces[move.id].mean
        return {
            "start_s": stretch.start_s,
            "traces": {
                name: {
                    "rate": TRACE_RATE if name == move.id else TRACE_RATE / every,
                    "db": np.round(values, 2).tolist(),
                }
                for name, values in shown.items()
            },
            **{name: np.round(levels, 2).tolist() for name, levels in spectra.items()},
            **(_moving(asked_for, stretch, side) if how == "now" else {}),
        }

    return in_turn("live", work)


@blueprint.get("/moves/checks")
def checks(session_id: str):
    """What is wrong with a move in the loop, in words, with buttons that mend it; a fragment."""
    document = asked_revision(session_id).document
    chosen = asked_move(document)
    if chosen is None:
        return NOTHING_NEW
    part, move = chosen
    stretch, leader = asked_stretch(document), asked.words("leader")
    where = stretch.start, stretch.frames
    try:
        findings = take_turn(
            "checks",
            lambda: found_wrong(desk(), document, part.id, move.id, *where, leader),
        )
    except Superseded:
        return NOTHING_NEW
    return render_template("parts/checks.html", facts={"id": session_id}, findings=findings)
