"""Ways to make room: relief against cost, every kind from gentle to strong, each heard in its place."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

from flask import Blueprint, redirect, render_template, request, url_for

from pondel.core.advice.fights import ranked
from pondel.core.document import Session
from pondel.core.dsp.fold import FOLDS, SIDES, Side
from pondel.core.hearing.table import HiddenPair
from pondel.core.moves.registry import kind_of
from pondel.core.operations import parse_operation
from pondel.core.operations.under_one import amounts_by_role
from pondel.jobs.tryouts import MOST_TRIES, Point, Tried
from pondel.web import asked
from pondel.web.context import asked_stretch, desk, head, jobs, opened, song_facts, still_as
from pondel.web.ink import inked
from pondel.web.moves import chosen_pair
from pondel.web.standing import WHERE
from pondel.web.words import change, signed

blueprint = Blueprint("ways", __name__, url_prefix="/sessions/<session_id>/ways")
WIDE, HIGH = 700.0, 330.0
LEFT, RIGHT, TOP, BASE = 54.0, 120.0, 26.0, 286.0
LEAST_COST, LEAST_RELIEF_DB = 0.05, 2.0
COSTS = (0.01, 0.02, 0.05, 0.1, 0.2, 0.4, 0.8)
DASHES = ("", "7 3", "2 3", "9 3 2 3", "5 2 1 2")
APART, LETTER_WIDE, MARK_WIDE = 14.0, 6.8, 44.0
DOT_WIDE, FURTHER = 7.0, (26.0, 60.0, 100.0)
FIGHTS_SHOWN = 7


@dataclass(frozen=True)
class Axis:
    """Marks of one axis: what they say, and where they lie."""

    marks: list[tuple[str, float]]
    at: Any


def _axes(points: list[Point]) -> tuple[Axis, Axis]:
    """Cost across, by its square root so that small costs lie apart, and relief upwards."""
    costs = [one.judgement.fight.cost_share for one in points]
    reliefs = [one.judgement.relief_db for one in points]
    least, most = _root(min([0.0, *costs])), _root(max([LEAST_COST, *costs]) * 1.05)
    low, high = min([0.0, *reliefs]), max([LEAST_RELIEF_DB, *reliefs])
    rise = 1.0 if high - low <= 5 else 2.0
    low, high = rise * (low // rise), rise * -(-high // rise)

    def across(cost: float) -> float:
        return LEFT + (_root(cost) - least) / (most - least) * (WIDE - LEFT - RIGHT)

    def up(relief_db: float) -> float:
        return BASE - (relief_db - low) / (high - low) * (BASE - TOP)

    marks = [sign * one for one in COSTS for sign in (1, -1) if least <= _root(sign * one) <= most]
    reliefs_at = [low + n * rise for n in range(round((high - low) / rise) + 1)]
    return (
        Axis(_with_room([(change(-one), across(one)) for one in (0.0, *marks[::-1])]), across),
        Axis([(signed(one, "", 0), up(one)) for one in reliefs_at], up),
    )


def _with_room(marks: list[tuple[str, float]]) -> list[tuple[str, float]]:
    """Those that stand apart, the first ones rather than the later."""
    kept: list[tuple[str, float]] = []
    for one in marks:
        if all(abs(one[1] - other[1]) >= MARK_WIDE for other in kept):
            kept.append(one)
    return sorted(kept, key=lambda one: one[1])


def _root(cost: float) -> float:
    return math.copysign(math.sqrt(abs(cost)), cost)


def _drawn(tried: Tried, chosen: str) -> dict[str, Any]:
    """The plane, kind by kind, and the table of the same points."""
    every = tried.points()
    points = [one for one in every if one.way.fold == "both"]
    across, up = _axes(points)
    kinds = sorted({one.way.kind for one in points}, key=lambda name: kind_of(name).place)
    lines: list[dict[str, Any]] = []
    placed = [
        (across.at(one.judgement.fight.cost_share), up.at(one.judgement.relief_db), one)
        for one in points
    ]
    # Left, right and middle of what no name may cover.
    taken = [(x - DOT_WIDE, x + DOT_WIDE, y) for x, y, _ in placed]
    for n, name in enumerate(kinds):
        dots = [dot for dot in placed if dot[2].way.kind == name and not dot[2].better_than]
        x, y, _ = max(dots, key=lambda dot: dot[0])
        wide = LETTER_WIDE * len(kind_of(name).title)
        at_x, at_y = _free(x + 9.0, y, wide, taken)
        taken.append((at_x, at_x + wide, at_y))
        lines.append(
            {
                "kind": kind_of(name),
                "dash": DASHES[n % len(DASHES)],
                "dots": dots,
                "label": (at_x, at_y + 4.0),
                "lead": (x, y, at_x - 3.0, at_y) if (at_x, at_y) != (x + 9.0, y) else None,
            }
        )
    usual = [one for one in points if one.way.far == 1.0 or one.better_than]
    return {
        "lines": lines,
        "better": [dot for dot in placed if dot[2].better_than],
        "across": across,
        "up": up,
        "table": sorted(usual, key=lambda one: -one.judgement.relief_db),
        "folded": _folded(every),
        "chosen": next((one for one in every if one.name == chosen), None),
        "count": len(every),
        "kinds": len({one.way.kind for one in every}),
    }


def _folded(points: list[Point]) -> list[tuple[Side, list[list[Point]]]]:
    """What is judged on one side alone, by side: the points of each kind, from gentle to strong."""
    found = []
    for side in SIDES[1:]:
        there = [one for one in points if one.way.fold == side]
        kinds = sorted({one.way.kind for one in there}, key=lambda name: kind_of(name).place)
        if there:
            found.append((side, [[one for one in there if one.way.kind == name] for name in kinds]))
    return found


def _free(
    x: float, y: float, wide: float, taken: list[tuple[float, float, float]]
) -> tuple[float, float]:
    """The place for a name near the end of its line, clear of all points and of what is written."""
    tries = ((n, far, sign) for n in range(1, 40) for far in FURTHER for sign in (1, -1))
    beside = [(x, y), *((x + far, y + sign * n * APART / 2) for n, far, sign in tries)]
    for at_x, at_y in beside:
        clear = all(
            abs(at_y - middle) >= APART or at_x >= right or at_x + wide <= left
            for left, right, middle in taken
        )
        if clear and TOP < at_y < BASE and at_x + wide < WIDE:
            return at_x, at_y
    return x, y


@blueprint.get("")
def show(session_id: str):
    """The screen."""
    revision = opened(session_id)
    document = revision.document
    pair = chosen_pair(document)
    if pair is None:
        return redirect(url_for("moves.show", session_id=session_id), 303)
    stretch = asked_stretch(document)
    tried = desk().tryouts.begin(
        document, pair.leader.id, pair.yielder.id, stretch.start, stretch.frames
    )
    # Looked at before the points: one that comes in after it is shown, or asked for again.
    is_busy, is_whole = tried.is_busy, tried.is_complete
    return render_template(
        "ways.html",
        stage="moves",
        facts=song_facts(session_id, revision),
        document=document,
        marks=inked(document),
        pair=pair,
        tried=tried,
        stretch=stretch,
        is_busy=is_busy,
        is_whole=is_whole,
        kind_of=kind_of,
        where=WHERE,
        most_tries=MOST_TRIES,
        fights=_fights(document),
        plane={
            "wide": WIDE,
            "high": HIGH,
            "left": LEFT,
            "right": WIDE - RIGHT,
            "top": TOP,
            "base": BASE,
        },
        **_drawn(tried, request.args.get("chosen", "")),
    )


def _fights(document: Session) -> list[HiddenPair]:
    """The fights that matter most, as far as the whole song is known: others to make room in."""
    table = desk().analysis.known_table(document)
    return [one.pair for one in ranked(document, table)[:FIGHTS_SHOWN]] if table else []


def _values(point: Point) -> dict[str, Any]:
    """What a search made of a way, and where it works, as values over what is worked out."""
    settings = point.way.start.settings
    if not point.better_than and point.way.fold not in FOLDS[1:]:
        return {}
    return {name: value for name, value in settings.items() if name not in ("kind", "key")}


@blueprint.post("/better")
def better(session_id: str):
    """Look for better near a point; the page tells when something was found, or nothing."""
    point = desk().tryouts.point(asked.words("chosen", most=40))
    desk().tryouts.look_for_better(point.name)
    return _back_to(session_id, point)


@blueprint.post("/better/stop")
def stop_looking(session_id: str):
    """End the search near a point: what it found until now stands."""
    point = desk().tryouts.point(asked.words("chosen", most=40))
    desk().tryouts.stop_looking(point.name)
    return _back_to(session_id, point)


def _back_to(session_id: str, point: Point):
    """The screen with a point chosen, in the loop of the page that asks."""
    fight = point.way.fight
    stretch = {"start_s": asked.number("loop_start_s", 0.0), "end_s": asked.number("loop_end_s")}
    where: dict[str, Any] = {"part": fight.yielder.id, "leader": fight.leader.id, **stretch}
    return redirect(url_for("ways.show", session_id=session_id, chosen=point.name, **where), 303)


@blueprint.post("/under")
def under(session_id: str):
    """Several parts under one leader."""
    amounts = {
        name.removeprefix("amount "): asked.checked_text(value, 20)
        for name, value in request.form.items()
        if name.startswith("amount ")
    }
    leader = asked.words("leader", most=40)
    amounts = amounts or dict(amounts_by_role(head(session_id).document, leader))
    operation = parse_operation(
        {
            "op": "under one",
            "leader": leader,
            "amounts": amounts,
            "start_s": asked.number("loop_start_s", 0.0),
        }
    )
    done = desk().do(session_id, [operation], base=asked.whole("base"))
    first = next(one for one, amount in amounts.items() if amount != "none")
    move = done.document.part(first).moves[-1]
    where = {"part": first, "leader": move.began.leader, "move": move.id}
    return redirect(url_for("moves.show", session_id=session_id, **where), 303)


@blueprint.post("/keep")
def keep(session_id: str):
    """Keep a way that was tried: as a move, or as one in a variant of its own."""
    point = desk().tryouts.point(asked.words("chosen", most=40))
    still_as(session_id, desk().tryouts.made_from(point.name))
    fight, way = point.way.fight, point.way
    operation = parse_operation(
        {
            "op": "give way",
            "part": fight.yielder.id,
            "leader": fight.leader.id,
            "kind": way.kind,
            "start_s": point.start_s,
            "low_hz": fight.low_hz,
            "high_hz": fight.high_hz,
            "how_far": way.far,
            "values": _values(point),
        }
    )
    base = asked.whole("base")
    if request.form.get("variant") == "1":
        base = jobs().variants.keep(session_id, base).id
    done = desk().do(session_id, [operation], base=base)
    part = done.document.part(fight.yielder.id)
    where = {"part": part.id, "leader": fight.leader.id, "move": part.moves[-1].id}
    return redirect(url_for("moves.show", session_id=session_id, **where), 303)
