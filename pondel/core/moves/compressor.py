"""The compressor: gain that falls as a level rises, its own or a key's."""

from __future__ import annotations

from typing import Any, Literal

import numpy as np

from pondel.core.dsp.squeeze import Squeezer, applied_db, settle_s
from pondel.core.moves.amounts import amount_for
from pondel.core.moves.base import Group, MoveBase, MoveKind, Trace
from pondel.core.moves.describe import (
    Key,
    Ratio,
    attack,
    choice,
    hold,
    knee,
    look_ahead,
    makeup,
    milliseconds,
    mix,
    ratio,
    reach,
    release,
    stereo_link,
    threshold,
)
from pondel.core.moves.fight import Fight, Start
from pondel.core.moves.picture import Picture, whole
from pondel.core.moves.starting import RANGE, Timing, fitted, key_of
from pondel.core.units import say

RETURNS_MS = 300.0
UNDER_WHAT_FEEDS_IT = Timing(10.0, 40.0, RETURNS_MS, 6.0, None)


class Compressor(MoveBase):
    """Parameters of the compressor."""

    kind: Literal["compressor"] = "compressor"
    key: Key | None = None
    threshold_db: float = threshold(-24.0)
    ratio: Ratio = ratio()
    knee_db: float = knee()
    attack_ms: float = attack()
    hold_ms: float = hold()
    release_ms: float = release()
    range_db: float = reach(24.0)
    makeup_db: float = makeup()
    mix: float = mix()
    detector: Literal["peak", "rms"] = choice(
        "Detector",
        default="peak",
        labels={"peak": "peak", "rms": "RMS"},
        help="What counts as the level: each peak, or the mean over a window.",
    )
    rms_window_ms: float = milliseconds(
        "RMS window",
        10.0,
        1,
        300,
        "Time constant of the mean square.",
        shown_when=("detector", "rms"),
    )
    look_ahead_ms: float = look_ahead("How early the gain starts to fall.")
    stereo_link: bool = stereo_link()


class CompressorProcessor(Squeezer):
    """The compressor at work; its trace is what it takes in dB, as applied."""

    def __init__(
        self, move: Compressor, rate: int, channels: int, on_trace: Trace | None = None
    ) -> None:
        super().__init__(move, rate, channels, on_trace, linked=move.stereo_link)


def in_brief(move: Compressor) -> str:
    """The settings that matter most, in a few words."""
    return f"{say(move.threshold_db, 'dB')}, {say(move.ratio, ':1')}, back in {move.release_ms:.0f} ms"


def _picture(move: Compressor, hz: np.ndarray, rate: int) -> Picture:
    rest_db, full_db = applied_db(move, np.array([0.0, move.range_db]))
    return Picture([whole(hz.size, float(full_db), float(rest_db))])


def _start(fight: Fight) -> Start:
    """A full-band duck; of a return, one that lets it rise in the pauses, not between notes."""
    amount = amount_for(fight, "whole")
    ratio = 4.0 if fight.firm or fight.fed else 2.5
    timing = UNDER_WHAT_FEEDS_IT if fight.fed else None

    def settings_at(threshold_db: float, timing: Timing) -> dict[str, Any]:
        return {
            "kind": "compressor",
            "key": key_of(fight),
            "threshold_db": threshold_db,
            "ratio": ratio,
            "range_db": round(RANGE * amount.wanted_db, 1),
            **timing.values("attack_ms", "hold_ms", "release_ms", "knee_db"),
        }

    found = fitted(fight, Compressor, CompressorProcessor, settings_at, amount.wanted_db, timing)
    why = [f"Release {RETURNS_MS:.0f} ms: it rises in the pauses, not between notes."]
    return Start(found.settings, [amount.why, *(why if fight.fed else found.why(fight))])


KIND = MoveKind(
    name="compressor",
    title="Compressor",
    summary="Lowers the part while a level, its own or a key's, is over a threshold.",
    place=3,
    params=Compressor,
    picture=_picture,
    start=_start,
    layout=(
        Group("Curve", ("threshold_db", "ratio", "knee_db", "range_db")),
        Group("Time", ("attack_ms", "hold_ms", "release_ms", "look_ahead_ms")),
        Group("Level", ("makeup_db", "mix")),
        Group("Detector", ("detector", "rms_window_ms", "stereo_link")),
    ),
    quick="Duck {part} for {leader}",
    make=CompressorProcessor,
    settle_s=settle_s,
    form_2_hold_ms=lambda move: move.hold_ms,
    keyed=True,
    in_brief=in_brief,
)
