"""What the deck plays, how loud it is, and what its meters show."""

from __future__ import annotations

from concurrent.futures import Future
from typing import Any

import numpy as np
from flask import Blueprint, Response, request

from pondel.core.advice.peaks import HIGHEST_DBTP, over_words
from pondel.core.document import Session
from pondel.core.dsp.fold import MONITOR_FOLDS
from pondel.core.engine.chunks import chunk_frames
from pondel.core.engine.listen import SURVIVING
from pondel.core.errors import BadDocument
from pondel.core.measured import matching_gain_db, plan_metered
from pondel.core.measures.loudness import STEP_S as METER_STEP_S
from pondel.jobs.desk import is_exact
from pondel.web import asked
from pondel.web.context import (
    asked_revision,
    asked_stretch,
    desk,
    for_the_ear,
    in_turn,
    jobs,
    library,
    song_facts,
)

blueprint = Blueprint("deck", __name__)
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


def begin_chunk(name: str, at: Any) -> Future[np.ndarray | None] | None:
    """Begin on chunk `at` of a prepared sound; None where there is no such chunk."""
    if isinstance(at, bool) or not isinstance(at, int) or not 0 <= at < MOST_CHUNKS:
        return None
    return jobs().ahead.begin(name, at)


def in_a_moment(begun: Future[np.ndarray | None] | None) -> np.ndarray | None:
    """A chunk that was begun, if it can be had within a moment; its render goes on if not."""
    try:
        return begun.result(timeout=PATIENCE_S) if begun else None
    except TimeoutError:
        return None


def little_endian(block: np.ndarray) -> bytes:
    """A block as it goes to the page: all left samples, then all right ones, 32-bit float."""
    return np.ascontiguousarray(block.T, "<f4").tobytes()


@blueprint.get("/sound/<name>/<int:index>")
def sound(name: str, index: int):
    """One chunk: all left samples, then all right ones, as little-endian 32-bit float.

    The next one is asked for long before it is heard: analysis goes on at once.
    """
    if not 0 <= index < MOST_CHUNKS:
        raise BadDocument("there is no such chunk")
    with jobs().ear.hurry(linger_s=0.0):
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
        gain_db, lufs = matching_gain_db(plan, now, untreated, *where)
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
        found = plan_metered(plan, played, stretch.start, stretch.frames, fold)
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
