"""Delay: echoes by note value or milliseconds, lows and highs cut, from side to side if wished."""

from __future__ import annotations

import math
from typing import Literal

import numpy as np

from pondel.core.dsp.echo import repeat
from pondel.core.dsp.limits import finite
from pondel.core.moves.base import Group, MoveBase, MoveKind, Place, Trace
from pondel.core.moves.cuts import cuts, cuts_picture
from pondel.core.moves.describe import beats, choice, frequency, milliseconds, mix, share
from pondel.core.units import say

SLOWEST_BEAT_S = 3.0
MOST_BEATS = 4.0
DOWN_DB = 96.0


class Delay(MoveBase):
    """Parameters of the delay. What goes in mono comes out in stereo."""

    kind: Literal["delay"] = "delay"
    time_ms: float | None = milliseconds(
        "Time", None, 5, 4000, "How late an echo comes; off for a note value.", optional=True
    )
    time_beats: float = beats(
        "Note",
        0.5,
        0.0625,
        MOST_BEATS,
        "How late an echo comes, where no time is set; it follows the tempo.",
    )
    feedback: float = share("Feedback", 0.35, "How much of an echo is echoed again.", high=0.9)
    low_cut_hz: float = frequency("Low cut", 200, 20, 2000, "Below this each echo is thinner.")
    high_cut_hz: float = frequency("High cut", 5000, 500, 20000, "Above this each echo is duller.")
    sides: bool = choice(
        "Side to side", default=True, help="The first echo comes left, the next right, and so on."
    )
    mix: float = mix()


class DelayProcessor:
    """Echoes at work; `start_at` says where the song is, for note values."""

    latency = 0

    def __init__(self, move: Delay, rate: int, channels: int, on_trace: Trace | None = None) -> None:
        self._move, self._rate, self._channels = move, rate, channels
        self._sos = cuts(move, rate)
        self._state = np.zeros((2, self._sos.shape[0], 2))
        self._ring = np.zeros((2, round(MOST_BEATS * SLOWEST_BEAT_S * rate) + 2))
        if move.time_ms is not None:
            self._ring = self._ring[:, : round(move.time_ms / 1000.0 * rate) + 2].copy()
        self._place = 0
        self._position = 0
        self.start_at(Place())

    def start_at(self, place: Place) -> None:
        """Begin at a place in the song."""
        self._position, self._beats = place.frame, place.beats

    def ringing(self) -> tuple[np.ndarray, ...]:
        """What is on its way round, oldest first, and its cuts."""
        late = int(self._delays(1)[0])
        at = np.arange(self._place - late, self._place) % self._ring.shape[1]
        return self._ring[:, at], self._state.copy()

    def ring_on(self, state: tuple[np.ndarray, ...]) -> bool:
        """Go on with what was on another's way round, as far back as this one hears."""
        under_way, cuts_state = state
        if cuts_state.shape != self._state.shape:
            return False
        newest = under_way[:, -(self._ring.shape[1] - 1) :]
        self._ring[:] = 0.0
        self._ring[:, : newest.shape[1]] = newest
        self._place, self._state[:] = newest.shape[1], cuts_state
        return True

    def _delays(self, frames: int) -> np.ndarray:
        """How late each frame hears, in frames."""
        move = self._move
        if move.time_ms is not None:
            return np.full(frames, max(1, round(move.time_ms / 1000.0 * self._rate)))
        at_s = (self._position + np.arange(frames)) / self._rate
        late = np.round(move.time_beats * self._beats.quarters_s(at_s) * self._rate)
        return np.clip(late, 1, self._ring.shape[1] - 2).astype(np.int64)

    def process(self, block: np.ndarray, key: np.ndarray | None) -> np.ndarray:
        dry = np.repeat(finite(block), 2, axis=1) if block.shape[1] == 1 else finite(block)
        given = dry
        if self._move.sides:
            middle = dry.mean(axis=1)
            given = np.stack([middle, np.zeros_like(middle)], axis=1)
        wet = np.empty_like(dry)
        delays = self._delays(dry.shape[0])
        self._position += dry.shape[0]
        self._place = repeat(
            np.ascontiguousarray(given),
            delays,
            self._move.feedback,
            self._move.sides,
            self._sos,
            self._state,
            self._ring,
            self._place,
            wet,
        )
        share_wet = np.float32(self._move.mix)
        return dry * (np.float32(1.0) - share_wet) + wet * share_wet


def _rings_s(move: Delay) -> float:
    """Until what is echoed again and again has fallen by 96 dB, and the cuts have rung."""
    late_s = move.time_ms / 1000.0 if move.time_ms else move.time_beats * SLOWEST_BEAT_S
    times = 1.0 if move.feedback <= 1e-4 else DOWN_DB / (-20.0 * math.log10(move.feedback))
    return late_s * (1.0 + math.ceil(times)) + 12.0 / (2 * math.pi * move.low_cut_hz) * 2.0


def _in_brief(move: Delay) -> str:
    late = say(move.time_ms, "ms") if move.time_ms else f"{move.time_beats:g} beats"
    return f"{late}, {say(move.feedback, '%')} back" + (", side to side" if move.sides else "")


KIND = MoveKind(
    name="delay",
    title="Delay",
    summary="Echoes by note value or time, their lows and highs cut.",
    place=13,
    params=Delay,
    picture=lambda move, hz, rate: cuts_picture(move, hz, rate, "the first echo"),
    layout=(
        Group("Time", ("time_ms", "time_beats", "feedback", "sides")),
        Group("Tone", ("low_cut_hz", "high_cut_hz")),
        Group("Level", ("mix",)),
    ),
    make=DelayProcessor,
    settle_s=_rings_s,
    rings_s=_rings_s,
    channels_out=lambda move, channels: 2,
    timed=True,
    limits_input=True,
    is_space=True,
    in_brief=_in_brief,
)
