"""Alignment: a nudge in time to fractions of a sample, polarity, and phase rotation."""

from __future__ import annotations

import math
from typing import Literal

import numpy as np

from pondel.core.dsp.cascade import Cascade, settle_s
from pondel.core.dsp.delay import DelayLine, ShortFilter
from pondel.core.dsp.limits import finite
from pondel.core.moves.base import MoveBase, MoveKind, Trace
from pondel.core.moves.describe import choice, frequency, milliseconds
from pondel.core.moves.fight import Fight, Start
from pondel.core.moves.picture import Picture
from pondel.core.units import say

HALF_TAPS = 48
MOST_MS = 50.0


class Alignment(MoveBase):
    """Parameters of the alignment move."""

    kind: Literal["alignment"] = "alignment"
    nudge_ms: float = milliseconds(
        "Nudge",
        0.0,
        -MOST_MS,
        MOST_MS,
        "Later when positive, earlier when negative.",
        step=0.1,
        decimals=2,
        scale="linear",
    )
    inverted: bool = choice("Turn over", default=False, help="Polarity: what went up goes down.")
    rotate_hz: float | None = frequency(
        "Rotate at",
        None,
        20,
        2000,
        "Turns the phase by a quarter at this frequency and leaves levels as they are.",
        optional=True,
    )


def fractional_kernel(delay: float) -> np.ndarray:
    """Windowed sinc that delays by HALF_TAPS + `delay` frames, 0 <= delay < 1; float64 (taps,).

    Kaiser window, beta 8; flat within 0.1 dB to 18 kHz at 44.1 kHz.
    """
    n = np.arange(2 * HALF_TAPS + 2) - HALF_TAPS - delay
    window = np.i0(8.0 * np.sqrt(np.maximum(0.0, 1.0 - (n / (HALF_TAPS + 1)) ** 2))) / np.i0(8.0)
    kernel = np.sinc(n) * window
    return kernel / kernel.sum()


def all_pass(hz: float, rate: int) -> np.ndarray:
    """First-order all-pass: a quarter turn at `hz`, as a section."""
    t = math.tan(math.pi * min(hz, 0.45 * rate) / rate)
    c = (t - 1.0) / (t + 1.0)
    return np.array([[c, 1.0, 0.0, 1.0, c, 0.0]])


class AlignmentProcessor:
    """Delays by more than the earliest nudge; the constant part is made up for as latency."""

    def __init__(
        self, move: Alignment, rate: int, channels: int, on_trace: Trace | None = None
    ) -> None:
        frames = move.nudge_ms * rate / 1000.0
        whole = math.floor(frames)
        is_whole = frames == whole
        ahead = 0 if is_whole else HALF_TAPS
        self.latency = max(0, -whole) + ahead
        self._delay = DelayLine(self.latency + whole - ahead, channels)
        self._between = None if is_whole else ShortFilter(fractional_kernel(frames - whole), channels)
        self._inverted = move.inverted
        sos = all_pass(move.rotate_hz, rate) if move.rotate_hz else np.zeros((0, 6))
        self._rotation = Cascade(sos, channels)

    def process(self, block: np.ndarray, key: np.ndarray | None) -> np.ndarray:
        out = self._delay.push(finite(block))
        if self._between is not None:
            out = self._between.process(out)
        out = self._rotation.process(np.ascontiguousarray(out))
        return -out if self._inverted else out


def _settle_s(move: Alignment) -> float:
    rotation = settle_s(all_pass(move.rotate_hz, 48000), 48000) if move.rotate_hz else 0.0
    return rotation + (2 * MOST_MS + 5.0) / 1000.0


def _in_brief(move: Alignment) -> str:
    words = [say(move.nudge_ms, "ms")] if move.nudge_ms else []
    words += ["turned over"] if move.inverted else []
    return ", ".join(words) or "no nudge"


def _picture(move: Alignment, hz: np.ndarray, rate: int) -> Picture:
    return Picture()


def _start(fight: Fight) -> Start:
    """The nudge and polarity with which both lows help each other most."""
    lows = fight.lows
    if lows is None:
        return Start({"kind": "alignment"}, ["Both parts have no lows together to align."])
    nudge = round(lows.best_nudge_ms, 2)
    if not nudge and not lows.best_flipped:
        return Start(
            {"kind": "alignment"},
            [f"No nudge wins half a decibel: the low end is {say(lows.gain_db, 'dB')} as it is."],
        )
    return Start(
        {"kind": "alignment", "nudge_ms": nudge, "inverted": lows.best_flipped},
        [
            f"{say(nudge, 'ms')}{' and turned over' if lows.best_flipped else ''}: at the hits the low "
            f"end is {say(lows.gain_db, 'dB')} against the sum of both now, "
            f"{say(lows.best_gain_db, 'dB')} then."
        ],
    )


KIND = MoveKind(
    name="alignment",
    title="Alignment",
    summary="Nudge, polarity and phase rotation.",
    place=10,
    params=Alignment,
    picture=_picture,
    start=_start,
    make=AlignmentProcessor,
    warmed_by=({"nudge_ms": 0.37},),
    settle_s=_settle_s,
    rings_s=_settle_s,
    later_s=lambda move: max(0.0, move.nudge_ms / 1000.0),
    in_brief=_in_brief,
)
