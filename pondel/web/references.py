"""The mix beside its references: a picture of third octaves, words and a table."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from flask import Blueprint, render_template

from pondel.core.judgement.references import NAMES_HZ, Beside
from pondel.jobs.references import references_of
from pondel.web.context import asked_revision, jobs
from pondel.web.ink import inked
from pondel.web.proof import asked_where

WIDTH, HEIGHT, LEFT, FOOT = 760.0, 190.0, 46.0, 22.0
LEAST_DB, MOST_DB, STEP_DB = 6.0, 18.0, 3.0
LABELLED = {50.0: "50", 100.0: "100", 200.0: "200", 500.0: "500"} | {
    1000.0 * n: f"{n}k" for n in (1, 2, 5, 10)
}
blueprint = Blueprint("references", __name__, url_prefix="/sessions/<session_id>")


@dataclass(frozen=True)
class Third:
    """One third octave of the picture: where it lies, and where mix and references are in it."""

    name: str
    left: float
    right: float
    middle: float
    mix: float | None
    ticks: list[float]
    difference_db: float | None
    ticks_db: list[float]
    is_outside: bool


@dataclass(frozen=True)
class Picture:
    """Third octaves from left to right, and the lines of the axes with what they say."""

    thirds: list[Third]
    lines_db: list[tuple[str, float]]
    labels_hz: list[tuple[str, float]]
    width: float = WIDTH
    height: float = HEIGHT
    left: float = LEFT
    foot: float = FOOT


def pictured(found: Beside) -> Picture:
    """The picture of a mix beside references."""
    told = np.concatenate([found.difference_db[None], found.ticks_db])
    furthest = np.nanmax(np.abs(told)) if np.isfinite(told).any() else 0.0
    top_db = float(np.clip(STEP_DB * np.ceil(furthest / STEP_DB), LEAST_DB, MOST_DB))
    column = (WIDTH - LEFT) / len(NAMES_HZ)
    middle_y = (HEIGHT - FOOT) / 2

    def y(db: float) -> float:
        return float(middle_y * (1.0 - np.clip(db / top_db, -1.0, 1.0)))

    outside = {hz for run in found.runs for hz in NAMES_HZ if run.low_hz <= hz <= run.high_hz}
    thirds = []
    for n, hz in enumerate(NAMES_HZ):
        is_heard = bool(np.isfinite(found.difference_db[n]))
        ticks_db = [float(db) for db in found.ticks_db[:, n]] if is_heard else []
        difference_db = float(found.difference_db[n]) if is_heard else None
        left = LEFT + n * column
        thirds.append(
            Third(
                f"{hz:g} Hz" if hz < 1000 else f"{hz / 1000:g} kHz",
                left + 1.5,
                left + column - 1.5,
                left + column / 2,
                None if difference_db is None else y(difference_db),
                [y(db) for db in ticks_db],
                difference_db,
                ticks_db,
                hz in outside,
            )
        )
    step_db = STEP_DB if top_db <= 3 * STEP_DB else 2 * STEP_DB
    every_db = np.arange(-np.floor(top_db / step_db), np.floor(top_db / step_db) + 1) * step_db
    return Picture(
        thirds,
        [(f"{db:+.0f}".replace("-", "\u2212").replace("+0", "0"), y(db)) for db in every_db],
        [
            (LABELLED[hz], one.middle)
            for hz, one in zip(NAMES_HZ, thirds, strict=True)
            if hz in LABELLED
        ],
    )


def line_through(thirds: list[Third]) -> list[str]:
    """The mix as lines of SVG points, broken where nothing is heard."""
    lines: list[list[str]] = [[]]
    for one, after in [*pairwise(thirds), (thirds[-1], None)]:
        if one.mix is not None:
            lines[-1].append(f"{one.middle:.1f},{one.mix:.1f}")
        if after is not None and after.mix is None and lines[-1]:
            lines.append([])
    return [" ".join(points) for points in lines if points]


@blueprint.get("/proof/references")
def beside(session_id: str):
    """The mix beside its references as far as they are compared; a fragment."""
    document = asked_revision(session_id).document
    where = asked_where(document)
    tracks = references_of(document)
    told = jobs().meanwhile.beside(session_id, document, where) if tracks else None
    picture = pictured(told.beside) if told and told.beside else None
    return render_template(
        "parts/references.html",
        facts={"id": session_id},
        tracks=tracks,
        told=told,
        picture=picture,
        lines=line_through(picture.thirds) if picture else [],
        marks=inked(document),
    )
