"""Lanes: who lives where, who hides whom, when, and who is to lead."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from flask import Blueprint, render_template, request

from pondel.core.advice.fights import RankedPair, ranked
from pondel.core.document import Session
from pondel.core.evidence import within
from pondel.core.families import BY, families
from pondel.core.hearing.clear import SMALLEST_CHANGE_DB
from pondel.core.hearing.in_the_mix import in_the_mix
from pondel.core.hearing.ridges import ridge_of
from pondel.core.hearing.scale import PLACES_HZ, places_between
from pondel.core.hearing.spectra import FRAME_S
from pondel.core.hearing.table import HiddenPair, HiddenTable, Scope
from pondel.core.hearing.timemap import time_map, worst_stretch
from pondel.jobs.turns import Superseded
from pondel.web.context import (
    NOTHING_NEW,
    Pair,
    asked_pair,
    asked_revision,
    asked_stretch,
    both_asked,
    desk,
    in_turn,
    opened,
    song_facts,
    take_turn,
)
from pondel.web.ink import inked
from pondel.web.look import (
    SongHeard,
    asked_families,
    asked_look,
    at_level,
    heard,
    heard_folded,
    kinds_of_families,
)
from pondel.web.standing import clear, word

blueprint = Blueprint("lanes", __name__, url_prefix="/sessions/<session_id>")
FIGHTS_SHOWN = 16
MOST_IN_TABLE = 40
MAP_COLUMNS = 480
WORST_BARS = 2
ANY_ZONE_HZ = (40.0, 160.0)
LEAST_LOUDNESS = 0.02


@blueprint.get("/lanes")
def show(session_id: str):
    """The screen; what is measured comes by itself."""
    revision = opened(session_id)
    document = revision.document
    pair = asked_pair(document)
    worst = None if "leader" in request.args else _worst_pair(document)
    pair = worst or pair
    return render_template(
        "lanes.html",
        stage="lanes",
        facts=song_facts(session_id, revision),
        document=document,
        marks=inked(document),
        pair=pair,
        look=asked_look(document),
        parts=desk().analysis.parts(document),
        roles=sorted({part.role for part in document.parts}),
        is_chosen="leader" in request.args or worst is not None,
        families=[family for by in BY for family in families(document, by)],
        row_kinds=kinds_of_families(document),
        zone=_pair_zone(document, pair) if pair else None,
    )


def _worst_pair(document: Session) -> Pair | None:
    """The pair that fights worst, as far as the whole song is known already."""
    table = desk().analysis.known_table(document)
    fights = ranked(document, table) if table else []
    if not fights:
        return None
    worst = fights[0].pair
    return Pair(document.part(worst.hidden), document.part(worst.by))


def _pair_zone(document: Session, pair: Pair):
    """The zone in which the pair was decided upon, if there is one."""
    both = {pair.leader.id, pair.yielder.id}
    for zone in document.zones:
        if zone.leads in both and both & set(zone.gives_way):
            return zone
    return None


def _heard_in_turn(what: str, session_id: str, document: Session) -> SongHeard | None:
    """What is asked for, measured when its turn comes; None when a newer question came first."""
    look = asked_look(document)
    try:
        return take_turn(what, lambda: heard(session_id, document, look))
    except Superseded:
        return None


@blueprint.get("/lanes/fights")
def fights(session_id: str):
    """The ranked fights, the part x part table, and how far the listening is; a fragment."""
    document = asked_revision(session_id).document
    look = asked_look(document)
    found = _heard_in_turn("fights", session_id, document)
    if found is None:
        return NOTHING_NEW
    listed = ranked(found.document, found.table, found.scope)
    if look.role:
        roles = {part.id: part.role for part in document.parts}
        listed = [one for one in listed if look.role in (roles[one.pair.hidden], roles[one.pair.by])]
    pair = asked_pair(document)
    return render_template(
        "parts/fights.html",
        **_matrix(session_id, found, pair),
        unit="%",
        asked=request.query_string.decode("ascii", "replace"),
        look=look,
        fights=[_told(found, one) for one in listed[:FIGHTS_SHOWN]],
        chosen_share=found.table.share(pair.leader.id, pair.yielder.id, found.scope)
        if pair and {pair.leader.id, pair.yielder.id} <= set(found.table.ids)
        else None,
        hit_counts={p.id: int(desk().hits_s(p).size) for p in document.parts},
    )


@blueprint.get("/lanes/in-sones")
def in_sones(session_id: str):
    """The part x part table once more, in sones; a fragment."""
    document = asked_revision(session_id).document
    found = _heard_in_turn("sones", session_id, document)
    if found is None:
        return NOTHING_NEW
    facts = _matrix(session_id, found, asked_pair(document))
    return render_template("parts/matrix.html", **facts, unit="sones")


def _matrix(session_id: str, found: SongHeard, pair: Pair | None) -> dict[str, Any]:
    """What the part x part table is made of."""
    ids = _in_the_table(found, pair)
    return {
        "facts": {"id": session_id},
        "document": found.document,
        "marks": inked(found.document),
        "pair": pair,
        "heard": found,
        "ids": ids,
        "shares": {(a, b): found.table.share(a, b, found.scope) for a in ids for b in ids if a != b},
        "sones": {part: found.table.loudness_sone(part, found.scope) for part in ids},
    }


@dataclass(frozen=True)
class ToldFight:
    """A fight, and how its leader stands in the zone: now, and were the other not there."""

    pair: HiddenPair
    weight: float
    is_as_it_should_be: bool
    in_zone: float
    on_hits: float | None
    clear: str
    stands: str
    would_win: str


def _told(found: SongHeard, one: RankedPair) -> ToldFight:
    pair, table = one.pair, found.table
    zone = (pair.low_hz, pair.high_hz)
    scope = Scope(found.scope.segments, found.scope.on_hits, zone)
    on_hits = Scope(found.scope.segments, True, zone)
    stands_db, won_db = (
        table.clear_db(pair.hidden, scope),
        table.would_win_db(pair.hidden, pair.by, scope),
    )
    return ToldFight(
        pair,
        one.weight,
        one.is_as_it_should_be,
        table.share(pair.hidden, pair.by, scope),
        table.share(pair.hidden, pair.by, on_hits) if table.has_hits(pair.hidden, scope) else None,
        clear(stands_db),
        word(stands_db),
        "" if won_db is None or won_db < SMALLEST_CHANGE_DB else clear(won_db),
    )


@blueprint.get("/lanes/ridges")
def ridges(session_id: str):
    """Each part's loudness along the ear's scale, and what of it falls to each other part."""

    document = asked_revision(session_id).document
    look = asked_look(document)
    pair, named = asked_pair(document), _told_families(document)

    def work() -> dict[str, Any]:
        found = heard_folded(session_id, document, look)
        lanes = [_lane(found.table, part, found.scope) for part in found.table.ids]
        return {
            "hz": np.round(PLACES_HZ, 2).tolist(),
            "lanes": lanes,
            "zone": _worst_zone(heard(session_id, document, look), pair),
            "families": named,
            "is_loop": found.is_loop,
            "for_now": found.for_now,
        }

    return in_turn("ridges", work)


def _lane(table: HiddenTable, part: str, scope: Scope) -> dict[str, Any]:
    """One part's ridge and figures, as the page draws them."""
    ridge = ridge_of(table, part, scope)
    stands_db = table.clear_db(part, scope)
    return {
        "id": part,
        "alone": np.round(ridge.alone, 3).tolist(),
        "hidden": np.round(ridge.hidden, 3).tolist(),
        "main": ridge.main,
        "by": {
            other: [[place, round(share, 3)] for place, share in shares.items()]
            for other, shares in ridge.by.items()
        },
        "share": round(table.share(part, None, scope), 6),
        "clear": clear(stands_db),
        "stands": word(stands_db),
        "beside": clear(table.beside_equal_db(part, scope)),
        "sone": round(table.loudness_sone(part, scope), 3),
    }


def _told_families(document: Session) -> dict[str, dict[str, Any]]:
    """The folded families, each in the ink of its first part."""
    marks = inked(document)
    return {
        family.id: {"name": family.name, "ink": marks[family.members[0]].ink}
        for family in asked_families(document)
    }


def _in_the_table(found: SongHeard, pair: Pair | None) -> list[str]:
    """The parts of the part x part table: all, or of many the chosen pair and those that lose most."""
    ids = found.table.ids
    if len(ids) <= MOST_IN_TABLE:
        return ids
    chosen = {pair.leader.id, pair.yielder.id} if pair else set()
    lost = {part: found.table.sone(part, None, found.scope) for part in ids}
    kept = set(sorted(ids, key=lambda part: (part not in chosen, -lost[part]))[:MOST_IN_TABLE])
    return [part for part in ids if part in kept]


@blueprint.get("/lanes/map")
def pair_map(session_id: str):
    """What the yielder takes of the leader by band and time, over a stretch."""
    document = asked_revision(session_id).document
    look = asked_look(document)
    pair, stretch = both_asked(document), asked_stretch(document)
    now = desk().now(at_level(document, look.level))
    hits = within(desk().hits_s(pair.leader), stretch.start, stretch.frames, document.rate)

    def work() -> dict[str, Any]:
        own, hider = (
            in_the_mix(now, part.id, stretch.start, stretch.frames).power
            for part in (pair.leader, pair.yielder)
        )
        found = time_map(own, hider, MAP_COLUMNS)
        loud = found.alone.max(axis=0)
        used = np.flatnonzero(loud > LEAST_LOUDNESS * max(float(loud.max()), 1e-9))
        first, last = (int(used[0]), int(used[-1]) + 1) if used.size else (0, PLACES_HZ.size)
        top = max(float(np.quantile(found.alone, 0.995)), 1e-9)
        return {
            "start_s": stretch.start_s,
            "end_s": stretch.end_s,
            "seconds": found.seconds,
            "hz": np.round(PLACES_HZ[first:last], 1).tolist(),
            "share": np.round(found.share[:, first:last], 2).tolist(),
            "alone": np.round(np.minimum(found.alone[:, first:last] / top, 1.0), 3).tolist(),
            "hits_s": np.round(hits + stretch.start_s, 4).tolist(),
        }

    return in_turn("map", work)


@blueprint.get("/lanes/worst")
def worst(session_id: str) -> dict[str, Any]:
    """Where the pair's worst two bars begin and end, and its zone."""
    document = asked_revision(session_id).document
    pair = both_asked(document)
    zone = _zone_hz(session_id, pair)
    beats = document.beats()
    length_s = WORST_BARS * beats.bar_s_at(0.0)
    places = places_between(*zone)
    try:
        lost = take_turn(
            "worst",
            lambda: desk().analysis.losses(document, pair.leader.id, pair.yielder.id, places),
        )
    except Superseded:
        return {"superseded": True}
    first = worst_stretch(lost, round(length_s / FRAME_S)) * FRAME_S
    song_s = desk().frames(document) / document.rate
    start_s = max(0.0, min(beats.second_of_bar(round(beats.bar_at(first))), song_s - length_s))
    return {
        "start_s": round(start_s, 4),
        "end_s": round(min(start_s + length_s, song_s), 4),
        "low_hz": round(zone[0], 1),
        "high_hz": round(zone[1], 1),
    }


def _worst_zone(found: SongHeard, pair: Pair | None) -> dict[str, float] | None:
    if pair is None or not {pair.leader.id, pair.yielder.id} <= set(found.table.ids):
        return None
    zones = found.table.zones(pair.leader.id, pair.yielder.id, found.scope)
    if not zones:
        return None
    return {"low_hz": round(zones[0].low_hz, 1), "high_hz": round(zones[0].high_hz, 1)}


def _zone_hz(session_id: str, pair: Pair) -> tuple[float, float]:
    """The pair's decided zone, or where it loses most."""
    document = asked_revision(session_id).document
    decided = _pair_zone(document, pair)
    if decided is not None:
        return decided.low_hz, decided.high_hz
    found = _heard_in_turn("zone", session_id, document)
    zone = _worst_zone(found, pair) if found else None
    return (zone["low_hz"], zone["high_hz"]) if zone else ANY_ZONE_HZ
