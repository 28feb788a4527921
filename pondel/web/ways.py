"""Ways to make room: relief against cost, every kind from gentle to strong, each heard in its place."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from flask import Blueprint, redirect, render_template, request, url_for

from pondel.core.judgement.ways import AMOUNTS
from pondel.core.moves.registry import kind_of
from pondel.core.operations import parse_operation
from pondel.jobs.tryouts import Point, Tried
from pondel.jobs.tryouts_report import in_words
from pondel.web import asked
from pondel.web.context import asked_stretch, desk, jobs, opened, song_facts
from pondel.web.ink import inked
from pondel.web.moves import chosen_pair

blueprint = Blueprint("ways", __name__, url_prefix="/sessions/<session_id>/ways")
WIDE, HIGH = 700.0, 330.0
LEFT, RIGHT, TOP, BASE = 54.0, 120.0, 26.0, 286.0
LEAST_COST, LEAST_RELIEF_DB = 0.05, 2.0
DASHES = ("", "7 3", "2 3", "9 3 2 3", "5 2 1 2")
APART = 15.0


@dataclass(frozen=True)
class Axis:
    """Marks of one axis: what they say, and where they lie."""

    marks: list[tuple[str, float]]
    at: Any


def _axes(points: list[Point]) -> tuple[Axis, Axis]:
    """Cost across and relief upwards, wide enough for every point."""
    costs = [one.judgement.fight.cost_share for one in points]
    reliefs = [one.judgement.relief_db for one in points]
    least, most = min([0.0, *costs]), max([LEAST_COST, *costs])
    low, high = min([0.0, *reliefs]), max([LEAST_RELIEF_DB, *reliefs])
    step = 0.05 if most - least <= 0.3 else 0.1
    rise = 1.0 if high - low <= 5 else 2.0
    least, most = step * -(-least // -step), step * -(-most // step)
    low, high = rise * (low // rise), rise * -(-high // rise)

    def across(cost: float) -> float:
        return LEFT + (cost - least) / (most - least) * (WIDE - LEFT - RIGHT)

    def up(relief_db: float) -> float:
        return BASE - (relief_db - low) / (high - low) * (BASE - TOP)

    steps = round((most - least) / step) + 1
    rises = round((high - low) / rise) + 1
    costs_at = [least + n * step for n in range(steps)]
    reliefs_at = [low + n * rise for n in range(rises)]
    return (
        Axis([(f"{100 * one:.0f} %".replace("-", "−"), across(one)) for one in costs_at], across),
        Axis([(f"{one:+.0f}".replace("-", "−"), up(one)) for one in reliefs_at], up),
    )


def _drawn(tried: Tried, chosen: str) -> dict[str, Any]:
    """The plane, kind by kind, and the table of the same points."""
    points = tried.points()
    across, up = _axes(points)
    kinds = sorted({one.way.kind for one in points}, key=lambda name: kind_of(name).place)
    lines, taken = [], []
    for n, name in enumerate(kinds):
        own = [one for one in points if one.way.kind == name]
        dots = [
            (across.at(one.judgement.fight.cost_share), up.at(one.judgement.relief_db), one)
            for one in own
        ]
        x, y, _ = max(dots, key=lambda dot: dot[0])
        while any(abs(y - other) < APART for other in taken):
            y += APART
        taken.append(y)
        label = (x + 9, y + 4)
        lines.append(
            {"kind": kind_of(name), "dash": DASHES[n % len(DASHES)], "dots": dots, "label": label}
        )
    usual = [one for one in points if one.way.far == 1.0 or _is_alone(one, points)]
    return {
        "lines": lines,
        "across": across,
        "up": up,
        "table": sorted(usual, key=lambda one: -one.judgement.relief_db),
        "chosen": next((one for one in points if one.name == chosen), None),
        "count": len(points),
        "kinds": len(kinds),
    }


def _is_alone(point: Point, points: list[Point]) -> bool:
    return sum(one.way.kind == point.way.kind for one in points) == 1


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
    if tried.trouble is not None:
        raise tried.trouble
    return render_template(
        "ways.html",
        stage="moves",
        facts=song_facts(session_id, revision),
        document=document,
        marks=inked(document),
        pair=pair,
        stretch=stretch,
        tried=tried,
        amounts=sorted(AMOUNTS),
        kind_of=kind_of,
        brief=in_words,
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


@blueprint.post("/keep")
def keep(session_id: str):
    """Keep a way that was tried: as a move, or as one in a variant of its own."""
    point = desk().tryouts.point(asked.words("chosen", most=40))
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
        }
    )
    base = asked.whole("base")
    if request.form.get("variant") == "1":
        base = jobs().variants.keep(session_id).id
    done = desk().do(session_id, [operation], base=base)
    part = done.document.part(fight.yielder.id)
    where = url_for("moves.show", session_id=session_id, part=part.id, move=part.moves[-1].id)
    return redirect(where, 303)
