"""Tail trim: fades each hit's tail so that it ends a chosen time after the hit."""

from __future__ import annotations

import math
from typing import Any, Literal

import numpy as np
from pydantic import Field

from pondel.core.dsp.gain import gained
from pondel.core.dsp.timing import gap_s, reigns
from pondel.core.moves.base import MoveBase, MoveKind, Place, Trace
from pondel.core.moves.describe import beats, choice, milliseconds
from pondel.core.moves.fight import Fight, Start
from pondel.core.moves.picture import Picture, whole
from pondel.core.refs import OwnHitsRef

RISE_MS = 1.5
MOST_FADE_MS = 80.0
SHORTENED_TO = 0.7
"""Of a hit's own length, where no shorter one keeps it clear of the other part."""
DEEPEST_DB = -60.0
"""As far down as the trace of a faded tail goes."""


class TailTrim(MoveBase):
    """Parameters of the tail trim."""

    kind: Literal["tail trim"] = "tail trim"
    hits_of: OwnHitsRef | None = Field(
        None, title="Hits of", description="The part whose hits end the tails; null: this one."
    )
    end_beats: float = beats("Ends after", 0.5, 0.0625, 8, "Beats from the hit to the end of its tail.")
    end_ms: float | None = milliseconds(
        "Ends after, ms", None, 10, 8000, "Instead of beats, when set.", decimals=0, optional=True
    )
    fade_ms: float = milliseconds(
        "Fade", 80.0, 2, 2000, "How long the fade takes, up to the end.", decimals=0
    )
    shape: Literal["line", "round", "steep"] = choice(
        "Shape",
        default="round",
        labels={"line": "straight", "round": "round", "steep": "steep at first"},
        help="How the fade goes.",
    )


def fade(way: np.ndarray, shape: str) -> np.ndarray:
    """Gain along a fade, `way` from 0 to 1."""
    if shape == "line":
        return 1.0 - way
    if shape == "round":
        return 0.5 + 0.5 * np.cos(np.pi * way)
    return (1.0 - way) ** 3


class TailTrimProcessor:
    """Follows the hits; before the first one, and from each hit on, the part passes untouched."""

    latency = 0

    def __init__(self, move: TailTrim, rate: int, channels: int, on_trace: Trace | None = None) -> None:
        self._move, self._rate, self._on_trace = move, rate, on_trace
        self._position = 0
        self._hits = np.empty(0, np.int64)
        self._ends = np.empty(0)
        self.start_at(Place())

    def start_at(self, place: Place) -> None:
        """Begin at a place in the song."""
        self._position = place.frame
        self._hits = np.round(place.hits_s * self._rate).astype(np.int64)
        move, quarters_s = self._move, place.beats.quarters_s(place.hits_s)
        end_s = move.end_ms / 1000.0 if move.end_ms else move.end_beats * quarters_s
        self._ends = np.full_like(quarters_s, end_s) * self._rate

    def _gain(self, size: int) -> np.ndarray:
        """The gain of the next frames, float32 (frames,)."""
        gain = np.ones(size, np.float32)
        rise = RISE_MS * self._rate / 1000.0
        for n, earliest, to in reigns(self._hits, self._position, size):
            since = self._position - int(self._hits[n])
            end = float(self._ends[n])
            fade_frames = min(self._move.fade_ms * self._rate / 1000.0, end)
            begin = max(earliest, int(end - fade_frames) - since)
            over = min(to, max(begin, math.ceil(end) - since))
            if begin >= to:
                continue
            way = (np.arange(begin, over) + since - (end - fade_frames)) / max(fade_frames, 1.0)
            gain[begin:over] = fade(np.clip(way, 0.0, 1.0), self._move.shape)
            gain[over:to] = 0.0
            if n + 1 < self._hits.size:
                # The next attack begins whole: the gain is back just before it.
                following = int(self._hits[n + 1]) - self._position
                back = np.arange(max(begin, math.floor(following - rise)), to)
                gain[back] = np.maximum(gain[back], np.clip(1.0 - (following - back) / rise, 0.0, 1.0))
        return gain

    def process(self, block: np.ndarray, key: np.ndarray | None) -> np.ndarray:
        if not self._hits.size:
            return block
        gain = self._gain(block.shape[0])
        self._position += block.shape[0]
        if self._on_trace is not None:
            self._on_trace(-20.0 * np.log10(np.maximum(gain, 10.0 ** (DEEPEST_DB / 20.0))))
        return gained(block, gain)


def _in_brief(move: TailTrim) -> str:
    end = f"{move.end_ms:.0f} ms" if move.end_ms else f"{move.end_beats:g} beats"
    return f"each hit ends after {end}"


def _picture(move: TailTrim, hz: np.ndarray, rate: int) -> Picture:
    return Picture([whole(hz.size, DEEPEST_DB)])


def _start(fight: Fight) -> Start:
    """The part's own tails end where both part, or else before its next hit."""
    name = fight.yielder.name
    if fight.shorter is not None:
        end_s, beats_long = fight.shorter.end_s, fight.shorter.beats
        end: dict[str, Any] = {"end_ms": float(round(end_s * 1000))}
        if beats_long is not None:
            end = {"end_beats": beats_long}
        fade_ms = float(min(MOST_FADE_MS, round(end_s * 500)))
        return Start(
            {"kind": "tail trim", **end, "fade_ms": fade_ms}, [f"{fight.shorter.words(name)}."]
        )
    gap, own = gap_s(fight.own_hits_s), fight.own_hit_s
    end_ms = round(min(gap * 0.9, 2.0) * 1000) if gap else 400
    why = f"before {name}'s next one comes" if gap else f"no regular hits of {name} were found"
    if own is not None and own * SHORTENED_TO * 1000 < end_ms:
        end_ms = round(own * SHORTENED_TO * 1000)
        why = f"a {name} hit takes {own * 1000:.0f} ms to fall by 20 dB"
    return Start(
        {"kind": "tail trim", "end_ms": end_ms, "fade_ms": min(120, end_ms // 2)},
        [f"Ends {end_ms} ms after each hit: {why}."],
    )


KIND = MoveKind(
    name="tail trim",
    title="Tail trim",
    summary="Ends each hit's tail a chosen time after the hit.",
    place=11,
    params=TailTrim,
    picture=_picture,
    start=_start,
    make=TailTrimProcessor,
    settle_s=lambda move: 0.0,
    timed=True,
    ends_tails=True,
    in_brief=_in_brief,
    checks=(),
)
