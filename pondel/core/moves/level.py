"""The level move: gain and polarity, exactly."""

from __future__ import annotations

from typing import Literal

import numpy as np

from pondel.core.dsp.decibels import to_amplitude
from pondel.core.dsp.limits import finite
from pondel.core.moves.amounts import amount_for
from pondel.core.moves.base import MoveBase, MoveKind, Trace
from pondel.core.moves.describe import choice, decibels
from pondel.core.moves.fight import Fight, Start
from pondel.core.moves.picture import Factor, Picture
from pondel.core.units import say


class Level(MoveBase):
    """Parameters of the level move."""

    kind: Literal["level"] = "level"
    gain_db: float = decibels("Gain", 0.0, -90, 24, "Gain of the part.")
    inverted: bool = choice("Turn over", default=False, help="Polarity: what went up goes down.")


class LevelProcessor:
    """Multiplies by one number."""

    latency = 0

    def __init__(self, move: Level, rate: int, channels: int, on_trace: Trace | None = None) -> None:
        self._gain = np.float32(to_amplitude(move.gain_db) * (-1.0 if move.inverted else 1.0))

    def process(self, block: np.ndarray, key: np.ndarray | None) -> np.ndarray:
        return finite(block) * self._gain


def _picture(move: Level, hz: np.ndarray, rate: int) -> Picture:
    return Picture([Factor(np.full(hz.size, to_amplitude(move.gain_db), complex))])


def _start(fight: Fight) -> Start:
    """What everybody tries first: the whole part, all the time, by the amount of a duck."""
    amount = amount_for(fight, "whole")
    return Start(
        {"kind": "level", "gain_db": -amount.wanted_db},
        [f"{amount.why} All of {fight.yielder.name}, all the time."],
    )


KIND = MoveKind(
    name="level",
    title="Level",
    summary="Gain and polarity.",
    place=0,
    params=Level,
    picture=_picture,
    start=_start,
    make=LevelProcessor,
    settle_s=lambda move: 0.0,
    only_level=True,
    is_still=lambda move: True,
    in_brief=lambda move: say(move.gain_db, "dB") + (", turned over" if move.inverted else ""),
)
