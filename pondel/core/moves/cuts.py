"""The low and the high cut of what a space gives back: the same for echoes and rooms."""

from __future__ import annotations

from typing import Protocol

import numpy as np

from pondel.core.dsp.matched import butterworth_cut, response
from pondel.core.moves.picture import Factor, Handle, Picture, angles

SLOPE_DB_OCT = 12


class Cut(Protocol):
    """A move with both cuts."""

    @property
    def low_cut_hz(self) -> float: ...
    @property
    def high_cut_hz(self) -> float: ...


def cuts(move: Cut, rate: int) -> np.ndarray:
    """Both as second-order sections."""
    low = butterworth_cut("low cut", move.low_cut_hz, SLOPE_DB_OCT, rate)
    high = butterworth_cut("high cut", min(move.high_cut_hz, 0.45 * rate), SLOPE_DB_OCT, rate)
    return np.concatenate([low, high])


def cuts_picture(move: Cut, hz: np.ndarray, rate: int, of: str) -> Picture:
    """What they do, with a handle on each."""
    handles = [
        Handle("low cut", move.low_cut_hz, "low_cut_hz"),
        Handle("high cut", move.high_cut_hz, "high_cut_hz"),
    ]
    return Picture([Factor(response(cuts(move, rate), angles(hz, rate)))], handles, of=of)
