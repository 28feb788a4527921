"""Sub layer: a sine under each hit, or while a key is loud enough."""

from __future__ import annotations

from typing import Literal

import numpy as np

from pondel.core.dsp.compiled import kernel
from pondel.core.moves.base import Group, MoveKind, Trace
from pondel.core.moves.describe import choice, frequency
from pondel.core.moves.opening import OPENING, Layer, Opened, Voices, in_brief, settle_s
from pondel.core.moves.picture import Handle, Picture
from pondel.core.notes import note_name
from pondel.core.units import say_hz


class SubLayer(Opened):
    """Parameters of the sub layer."""

    kind: Literal["sub layer"] = "sub layer"
    hz: float = frequency(
        "Frequency", 50.0, 20, 300, "In Hz, or as a note: A1, F#1.", decimals=1, step=1
    )
    from_hit: bool = choice(
        "Begins with the hit",
        default=True,
        help="The sine begins anew with each hit, or runs on through the song.",
    )
    inverted: bool = choice(
        "Inverted",
        default=False,
        help="Turned over, where it is fuller against the part's own low end.",
    )


@kernel(error_model="numpy")
def _add_sine(turn, at, open_by, total):
    """A sine at frames `at`, as far as it is open; where it is shut nothing is worked out."""
    for i in range(total.size):
        if open_by[i]:
            total[i] += open_by[i] * np.sin(turn * at[i])


def _sine(move: SubLayer, rate: int, first: int, voices: Voices) -> np.ndarray:
    turn = (-2.0 if move.inverted else 2.0) * np.pi * move.hz / rate
    runs_on = move.opened_by == "gate" or not move.from_hit
    total = np.zeros(voices[0][0].size)
    for open_by, since in voices:
        at = first + np.arange(since.size, dtype=np.float64) if runs_on else since
        _add_sine(turn, at, open_by, total)
    return total[:, None]


def _make(move: SubLayer, rate: int, channels: int, on_trace: Trace | None = None) -> Layer:
    return Layer(move, rate, channels, lambda first, voices: _sine(move, rate, first, voices))


def _picture(move: SubLayer, hz: np.ndarray, rate: int) -> Picture:
    return Picture([], [Handle("frequency", move.hz, "hz")], of="the part without it")


KIND = MoveKind(
    name="sub layer",
    title="Sub layer",
    summary="A sine under each hit, as loud as the hit asks for.",
    place=15,
    params=SubLayer,
    picture=_picture,
    layout=(Group("Sine", ("hz", "from_hit", "inverted", "level_db")), *OPENING),
    make=_make,
    settle_s=settle_s,
    rings_s=settle_s,
    tuned="hz",
    rises=lambda move: True,
    warmed_by=({}, {"opened_by": "gate"}),
    keyed=True,
    timed=True,
    in_brief=lambda move: f"{say_hz(move.hz)} ({note_name(move.hz)}), {in_brief(move)}",
)
