"""Drawn duck: a gain curve that every hit, or every beat, sets off."""

from __future__ import annotations

from itertools import pairwise
from typing import Any, Literal, Self

import numpy as np
from pydantic import Field, model_validator

from pondel.core.dsp.compiled import kernel
from pondel.core.dsp.crossover import Crossover, band_biquads, crossover_settle_s
from pondel.core.dsp.decibels import db_to_amplitude
from pondel.core.dsp.gain import gained
from pondel.core.dsp.matched import response
from pondel.core.dsp.timing import reigns
from pondel.core.model import Model
from pondel.core.moves.amounts import amount_for
from pondel.core.moves.base import MoveBase, MoveKind, Place, Trace
from pondel.core.moves.describe import (
    beats,
    choice,
    decibels,
    frequency,
    items,
    milliseconds,
    number,
    share,
)
from pondel.core.moves.fight import Fight, Start
from pondel.core.moves.hitface import CurvePoint, HitFace
from pondel.core.moves.picture import Factor, Handle, MovingGain, Picture, angles, whole
from pondel.core.moves.starting import THROUGH, around, due_s
from pondel.core.refs import HitsRef
from pondel.core.units import say, say_hz

MOST_POINTS = 32
KEPT_FRAMES = 1 << 15
"""So much of the curve is worked out once for all starts after which it lasts as long."""


class Point(Model):
    """A point of the curve: when, as a share of the length, and how deep, as a share of the depth.

    `bend` curves the way to the next point: 0 is straight, -1 late, 1 early.
    """

    at: float = share("At", 0.0, "Share of the length.", step=0.02)
    deep: float = share("Depth", 0.0, "Share of the depth.")
    bend: float = number(
        "Bend",
        default=0.0,
        low=-1,
        high=1,
        step=0.1,
        decimals=1,
        help="How the way to the next point curves: -1 late, 1 early.",
    )


DEEP_LONGER = 0.2
"""A drawn curve is over when its length is; a detector's return goes on."""


def _first_points() -> list[Point]:
    return [
        Point(at=0.0, deep=0.0),
        Point(at=0.02, deep=1.0),
        Point(at=0.3, deep=1.0, bend=0.3),
        Point(at=1.0, deep=0.0),
    ]


class DrawnDuck(MoveBase):
    """Parameters of the drawn duck."""

    kind: Literal["drawn duck"] = "drawn duck"
    trigger: Literal["hits", "beats"] = choice(
        "Set off by",
        default="hits",
        labels={"hits": "the hits of", "beats": "the beat"},
        help="What starts the curve.",
    )
    hits_of: HitsRef | None = Field(
        None,
        title="Hits of",
        description="The part whose hits start the curve.",
        json_schema_extra={"shown_when": ["trigger", "hits"]},
    )
    every_beats: float = beats(
        "Every", 1.0, 0.125, 16, "Beats between two starts.", step=100, shown_when=("trigger", "beats")
    )
    offset_beats: float = beats(
        "Offset",
        0.0,
        -4,
        4,
        "Moves the starts against the beat.",
        shown_when=("trigger", "beats"),
        step=0.25,
        decimals=2,
        scale="linear",
    )
    depth_db: float = decibels("Depth", 8.0, 0, 60, "The most the gain falls.")
    length_beats: float = beats("Length", 0.5, 0.03125, 8, "How long the curve lasts, in beats.")
    length_ms: float | None = milliseconds(
        "Length in ms", None, 10, 8000, "Instead of beats, when set.", decimals=0, optional=True
    )
    ramp_ms: float = milliseconds(
        "Least ramp", 2.0, 0.5, 50, "The whole depth takes at least this long, so that nothing clicks."
    )
    acts_on: Literal["all", "lows", "highs"] = choice(
        "Acts on",
        default="all",
        labels={"all": "all of the part", "lows": "what lies below", "highs": "what lies above"},
        help="The whole part, or one side of the crossover.",
    )
    crossover_hz: float = frequency(
        "Crossover",
        120.0,
        30,
        8000,
        "Where lows end and highs begin.",
        shown_when=("acts_on", "lows", "highs"),
    )
    points: list[Point] = items(
        "Curve",
        least=2,
        most=MOST_POINTS,
        first=_first_points,
        help="From start to end.",
        fresh={"at": 1.0},
    )

    @model_validator(mode="after")
    def _rises(self) -> Self:
        if any(b.at < a.at for a, b in pairwise(self.points)):
            raise ValueError("the points of the curve follow each other in time")
        return self


def curve(points: list[Point], at: np.ndarray) -> np.ndarray:
    """The curve's depth from 0 to 1 at shares of its length, any shape.

    Before the first point it has that point's depth, after the last one that one's.
    """
    out = np.full(at.shape, points[0].deep)
    for one, following in pairwise(points):
        inside = at >= one.at
        if following.at <= one.at or not inside.any():
            continue
        deeper = following.deep - one.deep
        if not deeper:
            out[inside] = one.deep
            continue
        way = np.clip((at[inside] - one.at) / (following.at - one.at), 0.0, 1.0)
        out[inside] = one.deep + deeper * (way if not one.bend else way ** (2.0 ** (-3.0 * one.bend)))
    return out


def length_s(move: DrawnDuck, tempo_bpm: float) -> float:
    """How long the curve lasts, in seconds."""
    if move.length_ms is not None:
        return move.length_ms / 1000.0
    return move.length_beats * 60.0 / tempo_bpm


@kernel()
def _ramped(wanted, step, state):
    now = state[0]
    for i in range(wanted.size):
        if wanted[i] == now:
            continue
        away = wanted[i] - now
        now += min(max(away, -step), step)
        wanted[i] = now
    state[0] = now


class DrawnDuckProcessor:
    """Follows the curve from the last start on; `start_at` says where the song is."""

    latency = 0

    def __init__(
        self, move: DrawnDuck, rate: int, channels: int, on_trace: Trace | None = None
    ) -> None:
        self._move, self._rate, self._on_trace = move, rate, on_trace
        self._position = 0
        self._step = move.depth_db / max(1.0, move.ramp_ms * rate / 1000.0)
        self._state = np.zeros(1)
        self._starts = np.empty(0, np.int64)
        self._kept = 0.0, np.empty(0)
        self._crossover = (
            Crossover([move.crossover_hz], rate, channels) if move.acts_on != "all" else None
        )
        self.start_at(Place())

    def start_at(self, place: Place) -> None:
        """Begin at a place in the song."""
        self._position = place.frame
        self._beats = place.beats
        self._starts = np.round(place.hits_s * self._rate).astype(np.int64)

    def _starts_around(self, size: int) -> np.ndarray:
        """The frames on which the curve begins, those that reach into a block at least."""
        if self._move.trigger == "hits":
            return self._starts
        every, offset = self._move.every_beats, self._move.offset_beats
        edges_s = np.array([self._position, self._position + size]) / self._rate
        first, last = np.floor((self._beats.quarters(edges_s) - offset) / every)
        at = np.arange(first - 1, last + 2) * every + offset
        return np.round(self._beats.seconds(at) * self._rate).astype(np.int64)

    def _length(self, start: int) -> float:
        """How many frames the curve lasts from a start on."""
        move = self._move
        if move.length_ms is not None:
            return max(1.0, move.length_ms / 1000.0 * self._rate)
        quarter_s = float(self._beats.quarters_s(np.array([max(start, 0) / self._rate]))[0])
        return max(1.0, move.length_beats * quarter_s * self._rate)

    def _wanted_db(self, size: int) -> np.ndarray:
        """What the curve asks for in the next frames, without the ramp, (frames,)."""
        wanted = np.zeros(size)
        starts = self._starts_around(size)
        for n, begin, to in reigns(starts, self._position, size):
            start, length = int(starts[n]), self._length(int(starts[n]))
            over = min(to, int(start + length) + 1 - self._position)
            if begin < over:
                since = self._position - start
                wanted[begin:over] = self._drawn_db(length, begin + since, over + since)
        return wanted

    def _drawn_db(self, length: float, first: int, end: int) -> np.ndarray:
        """The curve from a frame after its start to another; its beginning is kept for the next one."""
        if end > KEPT_FRAMES:
            return curve(self._move.points, np.arange(first, end) / length) * self._move.depth_db
        if self._kept[0] != length:
            frames = np.arange(min(KEPT_FRAMES, int(length) + 2))
            self._kept = length, curve(self._move.points, frames / length) * self._move.depth_db
        return self._kept[1][first:end]

    def process(self, block: np.ndarray, key: np.ndarray | None) -> np.ndarray:
        reduction = self._wanted_db(block.shape[0])
        self._position += block.shape[0]
        _ramped(reduction, self._step, self._state)
        less = reduction.astype(np.float32)
        gain = np.empty_like(less)
        db_to_amplitude(-less, gain)
        if self._on_trace is not None:
            self._on_trace(less)
        if self._crossover is None:
            return gained(block, gain)
        low, high = self._crossover.split(np.ascontiguousarray(block, np.float32))
        return gained(low, gain) + high if self._move.acts_on == "lows" else low + gained(high, gain)


def _rings_s(move: DrawnDuck) -> float:
    return crossover_settle_s([move.crossover_hz]) if move.acts_on != "all" else 0.0


def _settle_s(move: DrawnDuck) -> float:
    # The ramp forgets within its own time once the curve has been followed for as long.
    slowest_beat_s = 60.0 / 20.0
    split = _rings_s(move)
    length = move.length_ms / 1000.0 if move.length_ms else move.length_beats * slowest_beat_s
    return max(split, 2 * move.ramp_ms / 1000.0 + length)


def _in_brief(move: DrawnDuck) -> str:
    by = "each hit" if move.trigger == "hits" else f"every {move.every_beats:g} beats"
    part = {"all": "", "lows": ", lows only", "highs": ", highs only"}[move.acts_on]
    return f"{say(-move.depth_db, 'dB')} on {by}{part}"


def _picture(move: DrawnDuck, hz: np.ndarray, rate: int) -> Picture:
    if move.acts_on == "all":
        return Picture([whole(hz.size, -move.depth_db)])
    w = angles(hz, rate)
    low, high = (response(sos, w) for sos in band_biquads([move.crossover_hz], rate))
    side = low if move.acts_on == "lows" else high
    moving = MovingGain("", side / (low + high), -move.depth_db)
    return Picture([Factor(None, [moving])], [Handle("crossover", move.crossover_hz, "crossover_hz")])


def _start(fight: Fight) -> Start:
    """A curve on every hit of the leader, over as long as it hides the part."""
    amount, due = amount_for(fight, "drawn"), due_s(fight)
    through = THROUGH[fight.comes_through]
    length_s = due or fight.hit_s or 0.25
    until = f"{fight.leader.name} hides {fight.yielder.name} there no longer"
    if fight.recovery_s is None or due is None:
        until = "a hit is over" if due is None else "the next one is still to come"
    reasons = [
        f"{fight.song_hits_s.size} hits of {fight.leader.name} set it off.",
        f"Length {length_s * 1000:.0f} ms: by then {until}.",
        amount.why,
    ]
    settings: dict[str, Any] = {
        "kind": "drawn duck",
        "hits_of": fight.leader.id,
        "length_ms": round(float(np.clip(length_s * 1000, 10, 8000))),
        "depth_db": amount.wanted_db,
        "ramp_ms": through.attack_ms,
        "points": [
            {"at": 0.0, "deep": 1.0},
            {"at": DEEP_LONGER + through.hold_share, "deep": 1.0, "bend": 0.3},
            {"at": 1.0, "deep": 0.0},
        ],
    }
    if fight.is_low:
        cut = max(around(fight.low_hz, fight.high_hz)[1], 30.0)
        settings |= {"acts_on": "lows", "crossover_hz": round(cut, 1)}
        reasons.append(f"Lows only, below {say_hz(cut)}: the zone ends at {say_hz(fight.high_hz)}.")
    return Start(settings, reasons)


def _hit_face(move: DrawnDuck, item: int, tempo_bpm: float) -> HitFace:
    points = [CurvePoint(f"points.{n}", one.at, one.deep) for n, one in enumerate(move.points)]
    return HitFace([], points, length_s(move, tempo_bpm) * 1000.0, move.depth_db)


STEEP, STEEP_DB = 0.3, 0.6
"""From this bend on the curve used to be so far off, right after a point."""


def _since_form_2_db(move: DrawnDuck, rate: int) -> float:
    return STEEP_DB if any(abs(point.bend) > STEEP for point in move.points) else 0.0


KIND = MoveKind(
    name="drawn duck",
    title="Drawn duck",
    summary="A gain curve of your own that every hit or beat sets off.",
    place=6,
    params=DrawnDuck,
    picture=_picture,
    start=_start,
    hit_face=_hit_face,
    make=DrawnDuckProcessor,
    settle_s=_settle_s,
    rings_s=_rings_s,
    since_form_2_db=_since_form_2_db,
    timed=True,
    in_brief=_in_brief,
)
