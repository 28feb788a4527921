"""What the deck plays, and the evidence that is drawn and written beside it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import asdict
from typing import Any, NamedTuple

import numpy as np
from flask import Blueprint, Response, request

from pondel.core import evidence
from pondel.core.advice.peaks import HIGHEST_DBTP, over_words
from pondel.core.advice.silence import why_silent
from pondel.core.document import Session
from pondel.core.dsp.fold import FOLDS, MONITOR_FOLDS, Fold, monitored
from pondel.core.engine.chunks import ChunkedSession, chunk_frames
from pondel.core.engine.listen import SURVIVING, make_plan
from pondel.core.errors import BadDocument
from pondel.core.measures.build_up import build_up_db
from pondel.core.measures.loudness import STEP_S as METER_STEP_S
from pondel.core.measures.metering import lead_frames, metered
from pondel.core.measures.outline import outline
from pondel.core.measures.spectrum import axis_hz
from pondel.core.moves.base import TRACE_RATE, Traced
from pondel.core.moves.registry import kind_of
from pondel.core.survival import sound_of
from pondel.core.units import say, say_hz
from pondel.jobs.desk import is_exact
from pondel.jobs.fights import judged_in
from pondel.jobs.turns import Superseded
from pondel.web import asked
from pondel.web.context import (
    asked_pair,
    asked_revision,
    asked_stretch,
    desk,
    for_the_ear,
    jobs,
    library,
    song_facts,
    take_turn,
)
from pondel.web.standing import fight_words
from pondel.web.words import signed

blueprint = Blueprint("deck", __name__)
NOW_STEP_S, MOST_STEPS = 0.1, 160
STRIP_COLUMNS = 900
SONG_COLUMNS = 800
MOST_CHUNKS = 100_000
PATIENCE_S = 0.08


def sound_facts(document: Session, wanted: dict[str, Any]) -> dict[str, Any]:
    """Prepare what the deck asks for; the answer says where its chunks are."""
    parts = wanted.get("parts")
    if not isinstance(parts, list) or not all(isinstance(part, str) for part in parts):
        parts = []
    move, heard = wanted.get("move"), wanted.get("heard")
    treated = wanted.get("state") != "before"
    name, _ = desk().plan(
        document,
        str(wanted.get("hear")),
        parts,
        move if isinstance(move, str) else None,
        _zone(wanted.get("low_hz"), wanted.get("high_hz")),
        treated=treated,
        heard=heard if isinstance(heard, str) else None,
    )
    size = chunk_frames(document.rate)
    return {
        "hash": name,
        "is_exact": is_exact(name),
        "rate": document.rate,
        "chunk_frames": size,
        "chunks": -(-desk().frames(document) // size),
    }


def _zone(low_hz: Any, high_hz: Any) -> tuple[float, float] | None:
    if isinstance(low_hz, bool) or isinstance(high_hz, bool):
        return None
    if isinstance(low_hz, int | float) and isinstance(high_hz, int | float):
        return float(low_hz), float(high_hz)
    return None


@blueprint.get("/sessions/<session_id>/listen")
@for_the_ear
def listen(session_id: str):
    """Where the sound of a mix, pair, part or key is to be had, with a way that is tried if asked.

    With the name of what is `heard`, it may be one that goes on from that.
    """
    document = tried_or_asked(session_id)
    wanted = {
        "hear": request.args.get("hear", "mix"),
        "parts": request.args.getlist("part"),
        "move": request.args.get("move"),
        "state": request.args.get("state", "after"),
        "low_hz": asked.number("low_hz"),
        "high_hz": asked.number("high_hz"),
        "heard": asked.words("heard", most=100),
    }
    return sound_facts(document, wanted)


def tried_or_asked(session_id: str) -> Session:
    """The session as it would sound with what is tried out, or as it stands."""
    name = asked.words("tryout", most=40)
    return desk().tried(name) if name else asked_revision(session_id).document


def chunk_at(name: str, at: Any) -> np.ndarray | None:
    """Chunk `at` of a prepared sound if it can be had within a moment; its render goes on if not."""
    if isinstance(at, bool) or not isinstance(at, int) or not 0 <= at < MOST_CHUNKS:
        return None
    try:
        return jobs().ahead.begin(name, at).result(timeout=PATIENCE_S)
    except TimeoutError:
        return None


def little_endian(block: np.ndarray) -> bytes:
    """A block as it goes to the page: all left samples, then all right ones, 32-bit float."""
    return np.ascontiguousarray(block.T, "<f4").tobytes()


@blueprint.get("/sound/<name>/<int:index>")
@for_the_ear
def sound(name: str, index: int):
    """One chunk: all left samples, then all right ones, as little-endian 32-bit float."""
    if not 0 <= index < MOST_CHUNKS:
        raise BadDocument("there is no such chunk")
    block = desk().sound(name, index)
    response = Response(little_endian(block), mimetype="application/octet-stream")
    kept = "private, max-age=31536000, immutable" if is_exact(name) else "no-store"
    response.headers["Cache-Control"] = kept
    response.set_etag(f"{name}-{index}")
    return response.make_conditional(request)


@blueprint.get("/sessions/<session_id>/facts")
def facts(session_id: str):
    """The session's state, for a page that was away."""
    return song_facts(session_id, asked_revision(session_id))


@blueprint.get("/sessions/<session_id>/song-outline")
def song_outline(session_id: str):
    """The mix's outline, lowest and highest of each column, and its peak; null until drawn."""
    document = asked_revision(session_id).document
    columns = jobs().meanwhile.outline(session_id, document, SONG_COLUMNS)
    peak = desk().whole_mix.known_peak(document) if columns else None
    if peak is None or peak.true_peak_dbtp <= HIGHEST_DBTP:
        return {"columns": columns, "over": ""}
    loudest = desk().whole_mix.loudest_at(document, peak.at_s)
    return {"columns": columns, "over": over_words(peak.true_peak_dbtp, peak.at_s, loudest)}


def in_turn(what: str, work: Callable[[], dict[str, Any]]) -> dict[str, Any]:
    """Analyse when its turn comes; a newer question of the same page and kind goes first."""
    try:
        return take_turn(what, work)
    except Superseded:
        return {"superseded": True}


@blueprint.get("/sessions/<session_id>/match")
def match(session_id: str):
    """The gain in dB that makes the untreated sound, a revision or a reference as loud as this."""
    document = tried_or_asked(session_id)
    stretch = asked_stretch(document)
    parts, hear = request.args.getlist("part"), request.args.get("hear", "mix")
    if hear == "key" or hear in SURVIVING:
        return {"gain_db": 0.0, "lufs": None}
    zone = _zone(asked.number("low_hz"), asked.number("high_hz"))
    _, plan = desk().plan(document, hear, parts, None, zone, treated=True)
    now, untreated = desk().now(document), desk().untreated(document)
    reference = asked.whole("reference")
    if reference is not None:
        untreated = desk().now(library().revision(session_id, reference).document)

    def work() -> dict[str, Any]:
        where = (stretch.start, stretch.frames)
        gain_db, lufs = evidence.matching_gain_db(plan, now, untreated, *where)
        return {"gain_db": round(gain_db, 3), "lufs": None if lufs is None else round(lufs, 1)}

    return in_turn("match", work)


@blueprint.get("/sessions/<session_id>/meter")
def meter(session_id: str):
    """What the meters show over the loop, every 100 ms, of what is heard."""
    document = asked_revision(session_id).document
    stretch = asked_stretch(document)
    hear, parts = request.args.get("hear", "mix"), request.args.getlist("part")
    fold = request.args.get("fold", "stereo")
    if fold not in MONITOR_FOLDS:
        raise BadDocument(f"the deck can fold to {', '.join(MONITOR_FOLDS)}")
    treated = request.args.get("state") != "before"
    zone = _zone(asked.number("low_hz"), asked.number("high_hz"))
    _, plan = desk().plan(document, hear, parts, asked.words("move") or None, zone, treated=treated)
    played = desk().now(document) if treated or hear == "key" else desk().untreated(document)

    def work() -> dict[str, Any]:
        lead = lead_frames(document.rate)
        first = max(0, stretch.start - lead)
        sound = sound_of(plan, played, first, stretch.start + stretch.frames - first)
        before = np.zeros((lead - (stretch.start - first), 2), np.float32)
        found = metered(np.concatenate([before, monitored(sound, fold)]), document.rate)
        correlation = [None if np.isnan(one) else round(float(one), 2) for one in found.correlation]
        lowest = found.lowest_correlation
        return {
            "start_s": stretch.start_s,
            "step_s": METER_STEP_S,
            "peak_dbfs": np.round(found.peak_dbfs, 1).tolist(),
            "momentary_lufs": np.round(found.momentary_lufs, 1).tolist(),
            "correlation": correlation,
            "highest_peak_dbfs": round(found.highest_peak_dbfs, 1),
            "lowest_correlation": None if lowest is None else round(lowest, 2),
        }

    return in_turn("meter", work)


@blueprint.get("/sessions/<session_id>/fight-zone")
def fight_zone(session_id: str):
    """The zone of the fight in view: where it was decided upon, or where most is lost."""
    fight = asked_fight(session_id)
    document = fight.now.session

    def work() -> dict[str, Any]:
        low, high = desk().fights.zone_of(
            document, fight.leader, fight.yielder, fight.start, fight.frames
        )
        return {"low_hz": round(low, 1), "high_hz": round(high, 1)}

    return in_turn("fight-zone", work)


class FightInView(NamedTuple):
    """Two parts over a stretch of the song, as it is and without its moves."""

    leader: str
    yielder: str
    start: int
    frames: int
    start_s: float
    end_s: float
    hits_s: np.ndarray
    now: ChunkedSession
    untreated: ChunkedSession

    def found(self, move: str | None = None) -> evidence.FightEvidence | None:
        stretch = (self.start, self.frames)
        return desk().fights.evidence(self.now.session, self.leader, self.yielder, stretch, move)

    def hits_inside(self) -> np.ndarray:
        return evidence.within(self.hits_s, self.start, self.frames, self.now.session.rate)


def asked_fight(session_id: str) -> FightInView:
    """The fight an address asks about; BadDocument when the session has no two parts."""
    document = asked_revision(session_id).document
    pair = asked_pair(document)
    if pair is None:
        raise BadDocument("bring in two parts first")
    stretch = asked_stretch(document)
    return FightInView(
        pair.leader.id,
        pair.yielder.id,
        stretch.start,
        stretch.frames,
        stretch.start_s,
        stretch.end_s,
        desk().fights.hits_s(document, pair.leader),
        desk().now(document),
        desk().untreated(document),
    )


@blueprint.get("/sessions/<session_id>/evidence")
def pair_figures(session_id: str):
    """Hidden share before and after, and reduction on hits, over a stretch of the song."""
    fight = asked_fight(session_id)
    move = asked.words("move")
    return in_turn("evidence", lambda: _figures(fight, move))


def _figures(fight: FightInView, move: str) -> dict[str, Any]:
    found, inside = fight.found(move), fight.hits_inside()
    document = fight.now.session
    side = judged_in(document.part(fight.yielder), move)
    silent = [why_silent(document, document.part(one)) for one in (fight.leader, fight.yielder)]
    return {
        "silent": next((why for why in silent if why), None),
        "words": fight_words(found, side) if found else {},
        "zone": asdict(found.zone) if found else None,
        "whole": asdict(found.whole) if found else None,
        "cost": found.cost_share if found else None,
        "move": _move_on_hits(fight, move, inside),
        "small": _small(fight, move),
        "hits": int(inside.size),
    }


def _move_on_hits(fight: FightInView, move_id: str, inside: np.ndarray) -> dict[str, Any] | None:
    """What a move does to its part's level in the zone, and to its gain, on the leader's hits."""
    document = fight.now.session
    moves = {move.id: move for move in document.part(fight.yielder).moves}
    if move_id not in moves or not moves[move_id].on:
        return None
    zone_hz = desk().fights.zone_of(document, fight.leader, fight.yielder, fight.start, fight.frames)
    stretch = (fight.start, fight.frames)
    level = desk().fights.drop_on_hits(document, fight.yielder, move_id, stretch, inside, zone_hz)
    traces = whole_moves(fight.now.reductions(fight.yielder, *stretch))
    trace = traces.get(move_id)
    rises = kind_of(moves[move_id].kind).rises(moves[move_id])
    return {
        "zone": f"{say_hz(zone_hz[0])} to {say_hz(zone_hz[1])}",
        "level": asdict(level),
        "gain": None if trace is None else asdict(evidence.gain_on_hits(trace, inside, rises=rises)),
    }


def _small(fight: FightInView, move_id: str) -> str:
    """What small speakers tell of the part, and how that changed, in words."""
    stretch = (fight.start, fight.frames)
    document = fight.now.session
    before, after = desk().fights.on_small_speakers(document, fight.yielder, move_id, stretch)
    if after is None:
        return "nothing"
    by = "" if before is None or before == after else f" ({signed(after - before, 'dB')})"
    return f"{say(after, 'LUFS')}{by}"


def whole_moves(traces: dict[str, Traced]) -> dict[str, Traced]:
    """The traces of whole moves, without those of their bands."""
    return {name: trace for name, trace in traces.items() if "/" not in name}


@blueprint.get("/sessions/<session_id>/strips")
def strips(session_id: str):
    """Outlines of leader and yielder and the reduction traces, over a stretch of the song."""
    fight = asked_fight(session_id)
    return in_turn("strips", lambda: _strips(fight))


def _strips(fight: FightInView) -> dict[str, Any]:
    def columns(chunked: ChunkedSession, part_id: str) -> list:
        sound = chunked.region((part_id, "before fader"), fight.start, fight.frames)
        return np.round(outline(sound, STRIP_COLUMNS), 4).tolist()

    traces = whole_moves(fight.now.reductions(fight.yielder, fight.start, fight.frames))
    return {
        "start_s": fight.start_s,
        "end_s": fight.end_s,
        "leader": columns(fight.now, fight.leader),
        "before": columns(fight.untreated, fight.yielder),
        "after": columns(fight.now, fight.yielder),
        "hits_s": np.round(fight.hits_inside() + fight.start_s, 4).tolist(),
        "trace_rate": TRACE_RATE,
        "reductions": {
            move: {"mean": np.round(t.mean, 2).tolist(), "most": np.round(t.high, 2).tolist()}
            for move, t in traces.items()
        },
    }


@blueprint.get("/sessions/<session_id>/spectra")
def spectra(session_id: str):
    """Spectra of leader and yielder, the yielder before and after, and what builds up."""
    fight = asked_fight(session_id)
    fold, how = request.args.get("fold", "both"), request.args.get("how", "average")
    if fold not in FOLDS:
        raise BadDocument(f"spectra are of {', '.join(FOLDS)}")
    if how == "now":
        return in_turn("spectra", lambda: _spectra_now(fight, fold))
    return in_turn("spectra", lambda: _spectra(fight, fold, peak=how == "peak"))


def moments(frames: int, rate: int) -> tuple[np.ndarray, float]:
    """The middles of the steps in which a stretch is shown moving, and a step's length, in seconds."""
    seconds = frames / rate
    steps = max(1, min(MOST_STEPS, round(seconds / NOW_STEP_S)))
    return (np.arange(steps) + 0.5) * seconds / steps, seconds / steps


def whole_db(levels: np.ndarray) -> list[list[int]]:
    """Rows of levels in whole decibels, as a picture that moves shows them."""
    return np.maximum(np.round(levels), -200).astype(int).tolist()


def _spectra_now(fight: FightInView, fold: Fold) -> dict[str, Any]:
    """What a picture that moves with the sound needs: a spectrum for every step of the loop."""
    at_s, step_s = moments(fight.frames, fight.now.session.rate)

    def of(chunked: ChunkedSession, part: str) -> list[list[int]]:
        levels = evidence.part_now(chunked, part, fight.start, fight.frames, fold, at_s)
        return whole_db(levels[:, ::2])

    return {
        "hz": np.round(axis_hz()[::2], 2).tolist(),
        "start_s": fight.start_s,
        "step_s": step_s,
        "moving": {
            "leader": of(fight.now, fight.leader),
            "before": of(fight.untreated, fight.yielder),
            "after": of(fight.now, fight.yielder),
        },
        "hidden_hz": np.round(evidence.BAND_HZ, 2).tolist(),
        "hidden_after": _shares(fight),
    }


def _spectra(fight: FightInView, fold: Fold, *, peak: bool) -> dict[str, Any]:
    where = fight.start, fight.frames

    def of(chunked: ChunkedSession, part: str) -> np.ndarray:
        return evidence.part_spectrum(chunked, part, *where, fold, peak=peak)

    def built_up(chunked: ChunkedSession, yielder: np.ndarray) -> list[float]:
        pair, mix = (
            evidence.plan_spectrum(plan, chunked, *where, fold, peak=peak)
            for plan in (
                make_plan(chunked.session, "pair", [fight.leader, fight.yielder]),
                make_plan(chunked.session, "mix"),
            )
        )
        return np.round(build_up_db(leader, yielder, pair, mix), 1).tolist()

    leader, after = of(fight.now, fight.leader), of(fight.now, fight.yielder)
    before = of(fight.untreated, fight.yielder)
    curves = {"leader": leader, "before": before, "after": after}
    return {
        "hz": np.round(axis_hz(), 2).tolist(),
        **{name: np.round(curve, 2).tolist() for name, curve in curves.items()},
        "build_up_before": built_up(fight.untreated, before),
        "build_up_after": built_up(fight.now, after),
        "hidden_hz": np.round(evidence.BAND_HZ, 2).tolist(),
        "hidden_after": _shares(fight),
    }


def _shares(fight: FightInView) -> list[float]:
    """Share of the leader's loudness that the other takes in each band, where there is any to take."""
    document = fight.now.session
    if not desk().fights.are_heard(document, fight.leader, fight.yielder):
        return [0.0] * evidence.BAND_HZ.size
    table = desk().loops.table(document, fight.start, fight.frames)
    alone, lost = table.alone(fight.leader), table.lost(fight.leader, fight.yielder)
    audible = alone > 0.02 * max(float(alone.max()), 1e-12)
    shares = np.where(audible, lost / np.maximum(alone, 1e-12), 0.0)
    return np.round(shares, 3).tolist()
