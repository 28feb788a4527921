"""Complementary EQ: bands tied between two parts; what one gains the other gives.

Both parts carry the move with the same bands; `side` says which of them it is. A band's difference
is divided by its share: one side rises by share x difference, the other falls by the rest. Either
side may be made dynamic: then it moves only as far as the other part sounds in that band.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import partial
from typing import Literal

import numpy as np
from pydantic import Field

from pondel.core.dsp.cascade import Cascade, settle_s
from pondel.core.dsp.matched import biquads, response
from pondel.core.dsp.moving import moving_settle_s, second_form_change_db, still_q
from pondel.core.dsp.moving_bands import MovingBands
from pondel.core.model import Model
from pondel.core.moves.amounts import amount_for
from pondel.core.moves.base import MoveBase, MoveKind, Pair, Trace, note_gains
from pondel.core.moves.describe import (
    Key,
    choice,
    decibels,
    frequency,
    items,
    placement,
    share,
    sharpness,
)
from pondel.core.moves.fight import Fight, Start
from pondel.core.moves.picture import Factor, Picture, angles, band_handle, moving_factor
from pondel.core.moves.placement import Placement
from pondel.core.refs import TieRef
from pondel.core.units import say, say_hz

MOST_BANDS = 12
ATTACK_MS = 8.0
RETURN_MS = 160.0
SHARE = 0.4
SUBS_BELOW, MIDS_ABOVE, LOWS_Q = 1.25, 2.2, 1.0


class TiedBand(Model):
    """One band of both parts."""

    on: bool = True
    shape: Literal["bell", "low shelf", "high shelf"] = choice(
        "Shape",
        default="bell",
        labels={"bell": "bell", "low shelf": "low shelf", "high shelf": "high shelf"},
        help="What rises in one part and falls in the other.",
    )
    hz: float = frequency("Frequency", 400.0, 20, 18000, "Centre of the bell, corner of the shelf.")
    q: float = sharpness(1.2, 0.2, 20, "Sharpness.")
    difference_db: float = decibels(
        "Difference", 4.0, -18, 18, "What lies between the two parts' gains in this band."
    )
    share: float = share(
        "Share", 0.5, "How much of the difference the gaining part takes; the other gives the rest."
    )
    dynamic: Literal["neither", "gains", "gives", "both"] = choice(
        "Dynamic",
        default="neither",
        labels={
            "neither": "neither side",
            "gains": "the gaining side",
            "gives": "the giving side",
            "both": "both sides",
        },
        help="Which side moves only while the other part sounds in this band.",
    )
    full_at_db: float = decibels(
        "Full at",
        -30.0,
        -80,
        0,
        "Level of the other part in this band at which a dynamic side moves all the way.",
    )


def _first_bands() -> list[TiedBand]:
    return [TiedBand()]


class ComplementaryEq(MoveBase):
    """Parameters of one side of a complementary EQ; `tied_to` is the other."""

    kind: Literal["complementary eq"] = "complementary eq"
    key: Key | None = None
    side: Literal["gains", "gives"] = Field("gives", title="Side")
    tied_to: TieRef = Field(title="Tied to")
    bands: list[TiedBand] = items(
        "Bands", least=1, most=MOST_BANDS, first=_first_bands, help="The same in both parts."
    )
    placement: Placement = placement()


def gain_db(band: TiedBand, side: str) -> float:
    """What the band does on a side, in dB."""
    if side == "gains":
        return band.difference_db * band.share
    return -band.difference_db * (1.0 - band.share)


def _moves(band: TiedBand, side: str) -> bool:
    return band.dynamic in (side, "both")


@dataclass(frozen=True)
class Side:
    """A dynamic side of a band, as a moving band's settings."""

    shape: str
    hz: float
    q: float
    range_db: float
    threshold_db: float
    mode: str = "follow"
    ratio: float = 1.0
    attack_ms: float = ATTACK_MS
    hold_ms: float = 0.0
    release_ms: float = RETURN_MS
    listens: str = "band"


def _moving(band: TiedBand, side: str) -> Side:
    return Side(band.shape, band.hz, band.q, gain_db(band, side), band.full_at_db)


def _live(move: ComplementaryEq) -> list[TiedBand]:
    """The bands that move on this side."""
    return [b for b in move.bands if b.on and _moves(b, move.side) and gain_db(b, move.side)]


def _still(move: ComplementaryEq, rate: int) -> np.ndarray:
    rows = [np.zeros((0, 6))]
    for band in move.bands:
        gain = gain_db(band, move.side)
        if band.on and gain and not _moves(band, move.side):
            rows.append(biquads(band.shape, band.hz, gain, still_q(band.shape, band.q), rate))
    return np.concatenate(rows)


class ComplementaryEqProcessor:
    """Still bands as one cascade, then the moving ones, which hear the other part."""

    latency = 0

    def __init__(
        self, move: ComplementaryEq, rate: int, channels: int, on_trace: Trace | None = None
    ) -> None:
        self._cascade = Cascade(_still(move, rate), channels)
        moving = [_moving(band, move.side) for band in _live(move)]
        self._moving = MovingBands(moving, rate, channels)
        self._on_trace = on_trace

    def process(self, block: np.ndarray, key: np.ndarray | None) -> np.ndarray:
        still = self._cascade.process(np.ascontiguousarray(block, np.float32))
        trace = None if self._on_trace is None else partial(note_gains, self._on_trace)
        return self._moving.process(still, block if key is None else key, trace)


def _settle_s(move: ComplementaryEq) -> float:
    total = settle_s(_still(move, 48000), 48000)
    for band in _live(move):
        total += sum(moving_settle_s(_moving(band, move.side)))
    return total


def _rings_s(move: ComplementaryEq) -> float:
    moving = sum(moving_settle_s(_moving(band, move.side))[1] for band in _live(move))
    return settle_s(_still(move, 48000), 48000) + moving


def _rises(move: ComplementaryEq) -> bool:
    gains_db = [gain_db(band, move.side) for band in move.bands if band.on]
    return bool(gains_db) and min(gains_db) >= 0 and max(gains_db) > 0


def _in_brief(move: ComplementaryEq) -> str:
    shown = [
        f"{say_hz(band.hz)} {say(gain_db(band, move.side), 'dB')}" for band in move.bands if band.on
    ]
    return ", ".join(shown[:3]) or "no band"


def _picture(move: ComplementaryEq, hz: np.ndarray, rate: int) -> Picture:
    factors = [Factor(response(_still(move, rate), angles(hz, rate)))]
    for n, band in enumerate(_live(move)):
        factors.append(moving_factor(f"/{n}", _moving(band, move.side), hz, rate))
    return Picture(
        factors,
        [
            band_handle(n, b, db=gain_db(b, move.side), of=f", {move.side}")
            for n, b in enumerate(move.bands)
        ],
    )


def _start(fight: Fight) -> Start:
    """So many decibels between both parts in the zone, two fifths of them gained by the leader."""
    amount, q = amount_for(fight, "difference"), round(fight.zone_q, 2)
    gained = SHARE * amount.wanted_db
    band = {
        "hz": round(fight.centre_hz, 1),
        "q": q,
        "difference_db": amount.wanted_db,
        "share": SHARE,
    }
    return Start(
        {"kind": "complementary eq", "bands": [band]},
        [
            f"{say_hz(fight.centre_hz)}, Q {q:g}: as wide as {fight.zone}.",
            f"{fight.leader.name} gains {say(gained, 'dB')}, {fight.yielder.name} gives "
            f"{say(amount.wanted_db - gained, 'dB')}. {amount.why}",
        ],
    )


def _parted_lows(fight: Fight, leader_owns_subs: bool) -> Start:
    """One part owns the subs, the other the low mids: what each gains, the other gives."""
    amount, at_hz = amount_for(fight, "difference"), fight.lows_part_hz
    sign = 1.0 if leader_owns_subs else -1.0
    bands = [
        {"hz": round(hz, 1), "q": LOWS_Q, "difference_db": turn * amount.wanted_db, "share": 0.5}
        for hz, turn in ((at_hz / SUBS_BELOW, sign), (at_hz * MIDS_ABOVE, -sign))
    ]
    names = [fight.leader.name, fight.yielder.name][:: 1 if leader_owns_subs else -1]
    half = say(0.5 * amount.wanted_db, "dB")
    return Start(
        {"kind": "complementary eq", "bands": bands},
        [
            f"{names[0]} owns the subs around {say_hz(bands[0]['hz'])}, {names[1]} the low mids around "
            f"{say_hz(bands[1]['hz'])}: each gains {half} there, and the other gives as much.",
            amount.why,
        ],
    )


KIND = MoveKind(
    name="complementary eq",
    title="Complementary EQ",
    summary="Bands tied between two parts: what one gains the other gives.",
    place=8,
    params=ComplementaryEq,
    picture=_picture,
    start=_start,
    parts_lows=_parted_lows,
    warmed_by=({"tied_to": {"part": "other", "move": "m"}, "bands": [{"hz": 90, "dynamic": "both"}]},),
    pair=Pair(sides=("gains", "gives"), alike=("bands", "placement")),
    make=ComplementaryEqProcessor,
    settle_s=_settle_s,
    rings_s=_rings_s,
    since_form_2_db=lambda move, rate: max(
        (second_form_change_db(_moving(band, move.side), rate) for band in _live(move)), default=0.0
    ),
    rises=_rises,
    keyed=True,
    in_brief=_in_brief,
)
