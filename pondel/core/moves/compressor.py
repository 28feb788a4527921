"""The compressor: gain that falls as a level rises, its own or a key's."""

from __future__ import annotations

from typing import Literal

import numpy as np

from pondel.core.dsp.squeeze import Squeezer, applied_db, settle_s
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
from pondel.core.moves.starting import fitted, key_of, manner, release_for, threshold_words
from pondel.core.units import say

UNDER_DB, RETURNS_MS = 9.0, 300.0


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
    """A full-band duck."""
    if fight.fed:
        return _under_what_feeds_it(fight)
    ratio = 4.0 if fight.firm else 2.5
    release_ms, why = release_for(fight)
    settings = {
        "kind": "compressor",
        "key": key_of(fight),
        "ratio": ratio,
        "knee_db": 6.0,
        "attack_ms": 2.0,
        "release_ms": release_ms,
        "range_db": 12.0 if fight.firm else 8.0,
    }
    wanted = 4.0 if fight.firm else 3.0
    threshold, reached = fitted(
        fight, Compressor, CompressorProcessor, lambda t: {**settings, "threshold_db": t}, wanted
    )
    return Start(
        {**settings, "threshold_db": threshold},
        [
            threshold_words(threshold, reached),
            f"Ratio {ratio:g}:1: {manner(fight)}.",
            "Attack 2 ms: short enough to catch the hit, long enough not to click.",
            why,
        ],
    )


def _under_what_feeds_it(fight: Fight) -> Start:
    """A return that is heard when the part pauses: further down than a part may go, and slowly back."""
    settings = {
        "kind": "compressor",
        "key": key_of(fight),
        "ratio": 4.0,
        "knee_db": 6.0,
        "attack_ms": 10.0,
        "hold_ms": 40.0,
        "release_ms": RETURNS_MS,
        "range_db": 15.0,
    }
    threshold, reached = fitted(
        fight, Compressor, CompressorProcessor, lambda t: {**settings, "threshold_db": t}, UNDER_DB
    )
    return Start(
        {**settings, "threshold_db": threshold},
        [
            threshold_words(threshold, reached),
            f"{say(UNDER_DB, 'dB')} are usual for a return under the part that feeds it.",
            f"Release {RETURNS_MS:.0f} ms: it rises in the pauses, not between notes.",
        ],
    )


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
    warm=True,
    quick="Duck {part} for {leader}",
    make=CompressorProcessor,
    settle_s=settle_s,
    form_2_hold_ms=lambda move: move.hold_ms,
    keyed=True,
    in_brief=in_brief,
)
