"""Dynamic EQ: bells and shelves whose gain moves with a level, the part's own or a key's.

At every gain on its way a band has the response of the still EQ's band at that gain.
"""

from __future__ import annotations

from functools import partial
from typing import Any, Literal

import numpy as np

from pondel.core.dsp.moving import moving_settle_s, second_form_change_db
from pondel.core.dsp.moving_bands import MovingBands
from pondel.core.model import Model
from pondel.core.moves.amounts import amount_for
from pondel.core.moves.base import MoveBase, MoveKind, Trace, note_gains
from pondel.core.moves.describe import (
    Key,
    Ratio,
    attack,
    choice,
    frequency,
    hold,
    items,
    placement,
    ratio,
    reach,
    release,
    sharpness,
    threshold,
)
from pondel.core.moves.fight import Fight, Start
from pondel.core.moves.picture import Picture, band_handle, moving_factor
from pondel.core.moves.placement import Placement
from pondel.core.moves.starting import Timing, bell_share, fitted, key_of
from pondel.core.units import say, say_hz

MOST_BANDS = 8
NEARLY = 0.95


class DynamicBand(Model):
    """One moving band."""

    on: bool = True
    shape: Literal["bell", "low shelf", "high shelf"] = choice(
        "Shape",
        default="bell",
        labels={"bell": "bell", "low shelf": "low shelf", "high shelf": "high shelf"},
        help="What moves.",
    )
    hz: float = frequency("Frequency", 100.0, 20, 18000, "Centre of the bell, corner of the shelf.")
    q: float = sharpness(1.4, 0.2, 20, "Sharpness of the bell, and of what its detector hears.")
    range_db: float = reach(
        -6.0, "The gain it moves to: a cut below zero, a boost above.", low=-30, high=18
    )
    mode: Literal["threshold", "follow"] = choice(
        "Mode",
        default="threshold",
        labels={"threshold": "over threshold", "follow": "follow"},
        help="Move by what lies over the threshold, or in proportion to the level up to it.",
    )
    threshold_db: float = threshold(
        -30.0, "Level from which it moves; in follow mode the level of full range."
    )
    ratio: Ratio = ratio(
        4.0,
        "How much of what lies over the threshold is answered.",
        shown_when=("mode", "threshold"),
    )
    attack_ms: float = attack(5.0, "Time in which 63 % of the way out is done.", low=0.1)
    hold_ms: float = hold(0.0, "Time it stays out before it returns.")
    release_ms: float = release(
        120.0, "Time in which 63 % of the way back is done.", low=5, high=4000, title="Return"
    )
    listens: Literal["band", "whole"] = choice(
        "Listens to",
        default="band",
        labels={"band": "the same band", "whole": "all of it"},
        help="Whether its detector hears only this band of the part or key, or everything.",
    )


def _first_bands() -> list[DynamicBand]:
    return [DynamicBand()]


class DynamicEq(MoveBase):
    """Parameters of the dynamic EQ."""

    kind: Literal["dynamic eq"] = "dynamic eq"
    key: Key | None = None
    bands: list[DynamicBand] = items(
        "Bands", least=1, most=MOST_BANDS, first=_first_bands, help="All act one after another."
    )
    placement: Placement = placement()


def _live(move: DynamicEq) -> list[DynamicBand]:
    return [band for band in move.bands if band.on and band.range_db]


class DynamicEqProcessor:
    """The bands one after another; each hears the part as it came, or the key."""

    latency = 0

    def __init__(
        self, move: DynamicEq, rate: int, channels: int, on_trace: Trace | None = None
    ) -> None:
        self._bands = MovingBands(_live(move), rate, channels)
        self._on_trace = on_trace

    def process(self, block: np.ndarray, key: np.ndarray | None) -> np.ndarray:
        trace = None if self._on_trace is None else partial(note_gains, self._on_trace)
        return self._bands.process(block, block if key is None else key, trace)


class _Detector:
    """The gain of a single band alone: nothing is filtered."""

    latency = 0

    def __init__(self, move: DynamicEq, rate: int, channels: int, on_trace: Trace | None) -> None:
        self._bands, self._tell = MovingBands(_live(move), rate, channels), on_trace

    def process(self, block: np.ndarray, key: np.ndarray | None) -> np.ndarray:
        if self._tell is not None:
            self._tell(-self._bands.listen(block if key is None else key)[0])
        return block


def _settle_s(move: DynamicEq) -> float:
    total = 0.0
    for band in _live(move):
        detector, own = moving_settle_s(band)
        total = max(total, detector) + own
    return total


def _in_brief(move: DynamicEq) -> str:
    shown = [
        f"{band.shape} {say_hz(band.hz)} to {say(band.range_db, 'dB')}"
        for band in move.bands
        if band.on
    ]
    return ", ".join(shown[:2]) + (" …" if len(shown) > 2 else "") if shown else "no band"


def _picture(move: DynamicEq, hz: np.ndarray, rate: int) -> Picture:
    return Picture(
        [moving_factor(f"/{n}", band, hz, rate) for n, band in enumerate(_live(move))],
        [band_handle(n, b, db=b.range_db, db_field="range_db") for n, b in enumerate(move.bands)],
    )


def _start(fight: Fight) -> Start:
    """A bell on the zone that dips while the leader sounds there."""
    amount, q = amount_for(fight, "bell"), round(fight.zone_q, 2)
    depth_db = round(amount.wanted_db / bell_share(fight, q), 1)

    def settings_at(threshold_db: float, timing: Timing) -> dict[str, Any]:
        band = {
            "shape": "bell",
            "hz": round(fight.centre_hz, 1),
            "q": q,
            "range_db": -depth_db,
            "ratio": 4.0,
            "threshold_db": threshold_db,
            **timing.values("attack_ms", "hold_ms", "release_ms"),
        }
        return {"kind": "dynamic eq", "key": key_of(fight), "bands": [band]}

    # Half of the hits reach nine tenths of the bell's depth, so that its range is what is given.
    found = fitted(fight, DynamicEq, _Detector, settings_at, NEARLY * depth_db)
    return Start(
        found.settings,
        [
            f"Bell at {say_hz(fight.centre_hz)}, Q {q:g}: as wide as the zone, {fight.zone}.",
            f"{amount.why} The bell goes to {say(-depth_db, 'dB')}, which is that much over its zone.",
            *found.why(fight),
        ],
    )


KIND = MoveKind(
    name="dynamic eq",
    title="Dynamic EQ",
    summary="Bells and shelves that dip or rise only while a level, its own or a key's, is there.",
    place=2,
    params=DynamicEq,
    picture=_picture,
    start=_start,
    fits_slowly=True,
    suits=lambda fight: 0.5,
    make=DynamicEqProcessor,
    settle_s=_settle_s,
    rings_s=lambda move: sum(moving_settle_s(band)[1] for band in _live(move)),
    since_form_2_db=lambda move, rate: max(
        (second_form_change_db(band, rate) for band in _live(move)), default=0.0
    ),
    rises=lambda move: bool(_live(move)) and all(band.range_db > 0 for band in _live(move)),
    keyed=True,
    in_brief=_in_brief,
    warmed_by=({}, {"bands": [{}, {}, {}]}),
)
