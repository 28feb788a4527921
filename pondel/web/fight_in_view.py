"""The fight in view: its figures, strips and spectra over the loop, drawn beside the deck."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any, NamedTuple

import numpy as np
from flask import Blueprint, request

from pondel.core import evidence
from pondel.core.advice.silence import why_silent
from pondel.core.dsp.fold import FOLDS, Fold
from pondel.core.engine.chunks import ChunkedSession
from pondel.core.engine.listen import make_plan
from pondel.core.errors import BadDocument
from pondel.core.measured import part_now, part_spectrum, plan_spectrum
from pondel.core.measures.build_up import build_up_db
from pondel.core.measures.outline import outline
from pondel.core.measures.spectrum import axis_hz
from pondel.core.moves.base import TRACE_RATE, Traced
from pondel.core.moves.registry import kind_of
from pondel.core.units import say, say_hz
from pondel.jobs.fights import judged_in
from pondel.web import asked
from pondel.web.context import asked_pair, asked_revision, asked_stretch, desk, in_turn
from pondel.web.standing import fight_words
from pondel.web.words import signed

blueprint = Blueprint("fight_in_view", __name__)
NOW_STEP_S, MOST_STEPS = 0.1, 160
STRIP_COLUMNS = 900


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
        levels = part_now(chunked, part, fight.start, fight.frames, fold, at_s)
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
        return part_spectrum(chunked, part, *where, fold, peak=peak)

    def built_up(chunked: ChunkedSession, yielder: np.ndarray) -> list[float]:
        pair, mix = (
            plan_spectrum(plan, chunked, *where, fold, peak=peak)
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
