"""What is known of two parts beside each other: homes, lengths, the sum of their lows, their zones."""

from __future__ import annotations

from typing import Any

import numpy as np
from flask import Blueprint, render_template, request

from pondel.core.advice.lengths import Shorter, length_words, note_value, which_to_shorten
from pondel.core.document import Session
from pondel.core.errors import BadDocument
from pondel.core.evidence import within
from pondel.core.hearing.table import Scope
from pondel.core.measures.lowsum import low_sum
from pondel.core.measures.stereo import BAND_EDGES_HZ
from pondel.core.notes import note_name
from pondel.core.operations.ways import SHORTENING
from pondel.core.units import parse
from pondel.jobs.turns import Superseded
from pondel.web.context import NOTHING_NEW, Pair, Stretch, asked_revision, both_asked, desk, take_turn
from pondel.web.ink import inked
from pondel.web.look import Look, SongHeard, asked_look, heard

blueprint = Blueprint("pair", __name__, url_prefix="/sessions/<session_id>")
LOWS_BELOW_HZ = 120.0
MOST_HITS_SUMMED = 60


@blueprint.get("/lanes/pair")
def pair_facts(session_id: str):
    """What else is known of the pair: homes, lengths, low-end sum, stereo, zones; a fragment."""
    document = asked_revision(session_id).document
    look, pair, below_hz = asked_look(document), both_asked(document), _asked_below_hz()
    try:
        found = take_turn("pair", lambda: _pair_facts(session_id, document, look, pair, below_hz))
    except Superseded:
        return NOTHING_NEW
    return render_template(
        "parts/pair.html",
        facts={"id": session_id},
        document=document,
        marks=inked(document),
        pair=pair,
        below_hz=below_hz,
        bands=BAND_EDGES_HZ,
        **found,
    )


def _pair_facts(
    session_id: str, document: Session, look: Look, pair: Pair, below_hz: float
) -> dict[str, Any]:
    found = heard(session_id, document, look)
    ids = {pair.leader.id, pair.yielder.id}
    kept = [z for z in document.zones if z.leads in ids and ids & set(z.gives_way)]
    return {
        "for_now": found.for_now,
        "zones": found.table.zones(pair.leader.id, pair.yielder.id, found.scope)
        if ids <= set(found.table.ids)
        else [],
        "kept": [(zone, _kept_share(found, zone)) for zone in kept],
        "homes": [_home(part) for part in (pair.leader, pair.yielder)],
        "lengths": _lengths(document, pair, look.stretch.start / document.rate),
        "lows": _lows(document, pair, look.stretch, below_hz),
    }


def _kept_share(found: SongHeard, zone) -> float | None:
    by = [part for part in zone.gives_way if part in found.table.ids]
    if zone.leads not in found.table.ids or not by:
        return None
    scope = Scope(found.scope.segments, found.scope.on_hits, (zone.low_hz, zone.high_hz))
    return sum(found.table.share(zone.leads, other, scope) for other in by)


def _home(part) -> dict[str, Any]:
    if part.file is None:
        return {"part": part, "home": None}
    image = desk().recordings.image(part.file)
    pitch = desk().recordings.pitch_hz(part.file) if part.role in ("kick", "bass") else None
    return {
        "part": part,
        "home": desk().recording(part.file).home,
        "image": image,
        "pitch": pitch,
        "note": note_name(pitch) if pitch else None,
    }


def _lengths(document: Session, pair: Pair, start_s: float) -> dict[str, Any] | None:
    if pair.leader.file is None or pair.yielder.file is None:
        return None
    hits = desk().recording(pair.leader.file).hits(pair.leader)
    notes = desk().recording(pair.yielder.file).hits(pair.yielder)
    bpm = document.beats().bpm_at(start_s)
    words = length_words(pair.leader.name, hits, pair.yielder.name, notes, bpm)
    falls = [hit.length_20_s for hit in hits if hit.length_20_s is not None]
    usual = float(np.median(falls)) if falls else None
    return {
        "words": words,
        "fall_20_s": usual,
        "value": note_value(usual, bpm) if usual else None,
        "ways": [_way(pair, way) for way in which_to_shorten(hits, notes, document.known_tempo_bpm)],
    }


def _way(pair: Pair, way: Shorter) -> dict[str, Any]:
    """One of the two to be shortened, in words and as the step that does it."""
    part, other = (pair.leader, pair.yielder) if way.is_leader else (pair.yielder, pair.leader)
    step = {"op": "give way", "part": part.id, "leader": other.id, "kind": SHORTENING.name}
    return {"words": way.words(part.name), "part": part, "step": step}


def _asked_below_hz() -> float:
    text = request.args.get("below", "")
    below_hz = parse(text, "Hz") if text else LOWS_BELOW_HZ
    if below_hz is None or not 30 <= below_hz <= 1000:
        raise BadDocument("from 30 Hz to 1 kHz", where="Low-end sum below")
    return below_hz


def _lows(document: Session, pair: Pair, stretch: Stretch, below_hz: float):
    """The low-end sum of the pair at the leader's hits in the loop, as they sound in the mix."""
    now = desk().now(document)
    hits = within(desk().hits_s(pair.leader), stretch.start, stretch.frames, document.rate)
    leader, yielder = (
        now.region((part.id, "after fader"), stretch.start, stretch.frames)
        for part in (pair.leader, pair.yielder)
    )
    return low_sum(leader, yielder, document.rate, hits[:MOST_HITS_SUMMED], below_hz)
