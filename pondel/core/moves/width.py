"""Width: middle against sides, mono below a frequency, channels swapped."""

from __future__ import annotations

from typing import Literal

import numpy as np

from pondel.core.dsp.cascade import Cascade, settle_s
from pondel.core.dsp.limits import finite
from pondel.core.dsp.matched import butterworth_cut, response
from pondel.core.moves.base import MoveBase, MoveKind, Trace
from pondel.core.moves.describe import choice, frequency, number
from pondel.core.moves.fight import Start
from pondel.core.moves.picture import Factor, Handle, Picture, angles
from pondel.core.units import say, say_hz

SLOPE_DB_OCT = 24


class Width(MoveBase):
    """Parameters of the width move. It acts on stereo parts; mono ones pass."""

    kind: Literal["width"] = "width"
    width: float = number(
        "Width",
        default=1.0,
        low=0,
        high=2,
        unit="%",
        step=0.05,
        decimals=0,
        help="Level of the sides: 0 % is mono, 100 % as it was, 200 % the sides twice as strong.",
    )
    mono_below_hz: float | None = frequency(
        "Mono below", None, 20, 1000, "Below this the sides are taken out.", optional=True
    )
    swap: bool = choice("Swap", default=False, help="Left to right and right to left.")


class WidthProcessor:
    """Acts on the sides alone, so that the mono sum stays as it was."""

    latency = 0

    def __init__(self, move: Width, rate: int, channels: int, on_trace: Trace | None = None) -> None:
        self._acts = channels == 2 and (move.width != 1.0 or move.mono_below_hz is not None)
        self._swap = channels == 2 and move.swap
        self._width = np.float32(move.width)
        cut = move.mono_below_hz
        sos = butterworth_cut("low cut", cut, SLOPE_DB_OCT, rate) if cut else np.zeros((0, 6))
        self._cut = Cascade(sos, 1)

    def process(self, block: np.ndarray, key: np.ndarray | None) -> np.ndarray:
        block = finite(block)
        if self._acts:
            half = np.float32(0.5)
            middle = (block[:, :1] + block[:, 1:]) * half
            side = self._cut.process(np.ascontiguousarray((block[:, :1] - block[:, 1:]) * half))
            side = side * self._width
            block = np.hstack([middle + side, middle - side])
        return np.ascontiguousarray(block[:, ::-1]) if self._swap else block


def _settle_s(move: Width) -> float:
    if move.mono_below_hz is None:
        return 0.0
    return settle_s(butterworth_cut("low cut", move.mono_below_hz, SLOPE_DB_OCT, 48000), 48000)


def _in_brief(move: Width) -> str:
    words = [say(move.width, "%")]
    if move.mono_below_hz is not None:
        words.append(f"mono below {say_hz(move.mono_below_hz)}")
    return ", ".join(words + (["swapped"] if move.swap else []))


def _picture(move: Width, hz: np.ndarray, rate: int) -> Picture:
    still = np.full(hz.size, move.width, complex)
    handles = []
    if move.mono_below_hz is not None:
        cut = butterworth_cut("low cut", move.mono_below_hz, SLOPE_DB_OCT, rate)
        still = still * response(cut, angles(hz, rate))
        handles.append(Handle("mono below", move.mono_below_hz, "mono_below_hz"))
    return Picture([Factor(still)], handles, of="the sides")


KIND = MoveKind(
    name="width",
    title="Width",
    summary="Middle against sides; mono below a frequency.",
    place=9,
    params=Width,
    picture=_picture,
    start=lambda fight: Start({"kind": "width"}, []),
    make=WidthProcessor,
    settle_s=_settle_s,
    rings_s=_settle_s,
    in_brief=_in_brief,
)
