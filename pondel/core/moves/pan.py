"""Pan: a part moved aside, where it stands in the chain."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any, Literal

import numpy as np

from pondel.core.dsp.limits import finite
from pondel.core.dsp.pan import pan_for, pan_gains
from pondel.core.moves.amounts import amount_for
from pondel.core.moves.base import MoveBase, MoveKind, Trace
from pondel.core.moves.checking import COMMON, Case, Finding, dear
from pondel.core.moves.describe import pan
from pondel.core.moves.fight import Fight, Start
from pondel.core.moves.picture import Factor, Picture
from pondel.core.units import PAN, say

MIDDLE_BELOW_HZ = 120.0


class Pan(MoveBase):
    """Parameters of the pan move. What was mono is stereo after it."""

    kind: Literal["pan"] = "pan"
    pan: float = pan()


class PanProcessor:
    """One gain for the left, one for the right; of a mono sound against those in the centre."""

    latency = 0

    def __init__(self, move: Pan, rate: int, channels: int, on_trace: Trace | None = None) -> None:
        gains = np.array(pan_gains(move.pan, channels))
        self._gains = (gains / max(pan_gains(0.0, channels))).astype(np.float32)

    def process(self, block: np.ndarray, key: np.ndarray | None) -> np.ndarray:
        return finite(block) * self._gains


def _far_side(move: Pan) -> Literal["both", "left", "right"]:
    """The side that loses: there alone the model hears that something gave way."""
    return "both" if move.pan == 0.0 else "left" if move.pan > 0.0 else "right"


def _picture(move: Pan, hz: np.ndarray, rate: int) -> Picture:
    far = min(pan_gains(move.pan, 2))
    side = _far_side(move)
    return Picture([Factor(np.full(hz.size, far, complex))], of="" if side == "both" else f"the {side}")


def _in_brief(move: Pan) -> str:
    return say(move.pan, PAN)


def _centred(case: Case, found: list[Finding]) -> Iterator[Finding]:
    if case.move.pan == 0.0:
        yield Finding("Pan is at the centre: the part stays where it is. Type a place such as L30.")


def _start(fight: Fight) -> Start:
    """What everybody tries next: aside, until the far side has lost the amount of a duck."""
    amount = amount_for(fight, "whole")
    far = "left" if fight.aside == "right" else "right"
    pan = round(pan_for(amount.wanted_db), 2)
    settings: dict[str, Any] = {"kind": "pan", "pan": pan if fight.aside == "right" else -pan}
    said = [f"{amount.why} So much less of {fight.yielder.name} comes from the {far}, all the time."]
    if fight.centre_hz < MIDDLE_BELOW_HZ:
        said.append("Lows are usually left in the middle: aside, one speaker carries them alone.")
    return Start(settings, said)


KIND = MoveKind(
    name="pan",
    title="Pan",
    summary="A part moved to the left or the right, where it stands in the chain.",
    place=9,
    params=Pan,
    picture=_picture,
    start=_start,
    make=PanProcessor,
    settle_s=lambda move: 0.0,
    channels_out=lambda move, channels: 2,
    fold=_far_side,
    # What it takes from one side is what it is for: there is no price at which that were too dear.
    checks=(*(check for check in COMMON if check is not dear), _centred),
    aside=True,
    only_level=True,
    is_still=lambda move: True,
    in_brief=_in_brief,
)
