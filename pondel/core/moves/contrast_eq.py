"""Contrast EQ: two average spectra pushed apart, or brought together, by a share of their difference.

Both spectra are kept in the move as they were when they were taken, so that it sounds the same whatever
becomes of the parts. What it does to the loudness of the part as it was taken is taken back.
"""

from __future__ import annotations

from typing import Annotated, Any, Literal

import numpy as np
from pydantic import Field

from pondel.core.dsp.limits import finite
from pondel.core.dsp.matched import prototype, response
from pondel.core.dsp.minimum_phase import Convolved, minimum_phase
from pondel.core.dsp.tone import POINTS_PER_OCTAVE, TONE_HZ
from pondel.core.dsp.weighting import k_weighting
from pondel.core.moves.base import Action, Group, MoveBase, MoveKind, Trace
from pondel.core.moves.describe import choice, decibels, frequency, number, placement
from pondel.core.moves.picture import Factor, Handle, Picture, angles
from pondel.core.moves.placement import Placement
from pondel.core.units import say

TAPS_S = 0.35
EDGE_OCTAVES = 1 / 3
DEEPEST_DB = 45.0
"""What lies so far under the strongest of a spectrum counts as nothing."""
WIDTHS = {"sixth": 1 / 6, "third": 1 / 3, "half": 1 / 2, "octave": 1.0}
KEPT = ("id", "on", "sections", "why")
FITTED_BANDS, FIT_RATE, NEAR_DB = 8, 48_000, 0.25
LOWEST_FIT_HZ, HIGHEST_FIT_HZ = 30.0, 16_000.0
SPECTRUM_POINTS = TONE_HZ.size
Level = Annotated[float, Field(ge=-400, le=60)]


def spectrum(of: str) -> Any:
    """An average spectrum in dB at TONE_HZ, or nothing yet."""
    return Field(default_factory=list, max_length=SPECTRUM_POINTS, description=of)


class ContrastEq(MoveBase):
    """Parameters of the contrast EQ, and the spectra it stands between."""

    kind: Literal["contrast eq"] = "contrast eq"
    amount: float = number(
        "Amount",
        default=-0.4,
        low=-1,
        high=1,
        unit="%",
        step=0.05,
        decimals=0,
        help="From −100 %, apart, to +100 %, together.",
    )
    most_db: float = decibels("Most", 4.0, 0, 12, "The most it may raise or lower.")
    smoothing: Literal["sixth", "third", "half", "octave"] = choice(
        "Smoothing",
        default="third",
        labels={
            "sixth": "1/6 octave",
            "third": "1/3 octave",
            "half": "1/2 octave",
            "octave": "1 octave",
        },
        help="How fine a difference is followed.",
    )
    low_hz: float = frequency("From", 80, 20, 10_000, "Below this it does nothing.")
    high_hz: float = frequency("To", 12_000, 40, 20_000, "Above this it does nothing.")
    placement: Placement = placement()
    against: str = Field("", max_length=200, description="What it stands against, by name.")
    taken: str = Field("", max_length=200, description="Where in the song both were taken, in words.")
    own_db: list[Level] = spectrum("The part's own spectrum.")
    other_db: list[Level] = spectrum("The spectrum it stands against.")
    sources: dict[str, Annotated[str, Field(max_length=80)]] = Field(
        default_factory=dict,
        max_length=4,
        description="The parts that were taken, with what they were made of then.",
    )


def smoothed(levels_db: np.ndarray, octaves: float) -> np.ndarray:
    """Mean power over a width, at TONE_HZ."""
    half = max(1, round(octaves * POINTS_PER_OCTAVE / 2.0))
    power = 10.0 ** (np.pad(levels_db, half, mode="edge") / 10.0)
    window = np.hanning(2 * half + 3)[1:-1]
    return 10.0 * np.log10(np.convolve(power, window / window.sum(), "valid"))


def _both(move: ContrastEq) -> tuple[np.ndarray, np.ndarray] | None:
    """Both spectra, smoothed; None while either is not known."""
    if len(move.own_db) != SPECTRUM_POINTS or len(move.other_db) != SPECTRUM_POINTS:
        return None
    rows = []
    for levels in (move.own_db, move.other_db):
        row = smoothed(np.array(levels), WIDTHS[move.smoothing])
        rows.append(np.maximum(row, row.max() - DEEPEST_DB))
    return rows[0], rows[1]


def _within(move: ContrastEq) -> np.ndarray:
    """1 between both edges, 0 a third of an octave beyond them, at TONE_HZ."""
    octaves = np.log2(TONE_HZ)
    rise = (octaves - np.log2(move.low_hz)) / EDGE_OCTAVES + 1.0
    fall = (np.log2(max(move.high_hz, 1.1 * move.low_hz)) - octaves) / EDGE_OCTAVES + 1.0
    way = np.clip(np.minimum(rise, fall), 0.0, 1.0)
    return 0.5 - 0.5 * np.cos(np.pi * way)


def asked_db(move: ContrastEq, rate: int) -> np.ndarray:
    """The gain that was asked for, in dB at TONE_HZ, with the loudness kept."""
    both = _both(move)
    if both is None:
        return np.zeros(SPECTRUM_POINTS)
    own, other = both
    within = _within(move)
    difference = other - own
    # How much louder one of them is where both are strong is no difference of tone.
    shared = within * 10.0 ** ((own - own.max() + other - other.max()) / 40.0)
    difference = difference - float((shared * difference).sum() / max(shared.sum(), 1e-9))
    gain = within * np.clip(move.amount * difference, -move.most_db, move.most_db)
    weighting = np.abs(response(k_weighting(rate), angles(TONE_HZ, rate))) ** 2
    power = weighting * 10.0 ** (np.array(move.own_db) / 10.0)
    return gain - 10.0 * np.log10(float((power * 10.0 ** (gain / 10.0)).sum() / power.sum()))


def _at(gain_db: np.ndarray, hz: np.ndarray) -> np.ndarray:
    return np.interp(np.log(np.maximum(hz, 1.0)), np.log(TONE_HZ), gain_db)


def taps_of(move: ContrastEq, rate: int) -> np.ndarray:
    """The filter with the gain that was asked for."""
    taps = round(TAPS_S * rate)
    size = 1 << int(np.ceil(np.log2(4 * taps)))
    hz = np.arange(size // 2 + 1) * rate / size
    return minimum_phase(_at(asked_db(move, rate), hz), taps)


class ContrastEqProcessor:
    """The contrast EQ at work; without spectra it lets all pass."""

    latency = 0

    def __init__(
        self, move: ContrastEq, rate: int, channels: int, on_trace: Trace | None = None
    ) -> None:
        self._filter = Convolved(taps_of(move, rate), channels) if _both(move) and move.amount else None

    def process(self, block: np.ndarray, key: np.ndarray | None) -> np.ndarray:
        sound = finite(np.ascontiguousarray(block, np.float32))
        return self._filter.process(sound) if self._filter else sound


def _picture(move: ContrastEq, hz: np.ndarray, rate: int) -> Picture:
    answer = np.fft.rfft(taps_of(move, rate), 1 << 16)
    bins = np.arange(answer.size) * rate / (1 << 16)
    applied = np.interp(hz, bins, answer.real) + 1j * np.interp(hz, bins, answer.imag)
    handles = [Handle("from", move.low_hz, "low_hz"), Handle("to", move.high_hz, "high_hz")]
    asked = _at(asked_db(move, rate), hz)
    return Picture([Factor(applied)], handles, asked_db=np.round(asked, 2).tolist())


def fitted(move: ContrastEq) -> tuple[list[dict[str, Any]], float]:
    """Bells that come near to the gain asked for, and the output level beside them."""
    from scipy.optimize import least_squares

    inside = (TONE_HZ >= LOWEST_FIT_HZ) & (TONE_HZ <= HIGHEST_FIT_HZ)
    hz, wanted = TONE_HZ[inside], asked_db(move, FIT_RATE)[inside]
    x = np.array([float(np.median(wanted))])

    def drawn(x: np.ndarray) -> np.ndarray:
        total = np.full(hz.size, x[0])
        for at, gain_db, sharp in x[1:].reshape(-1, 3):
            bell = prototype("bell", hz, float(np.exp(at)), float(gain_db), float(np.exp(sharp)))
            total += 20.0 * np.log10(np.abs(bell))
        return total

    while x.size < 1 + 3 * FITTED_BANDS:
        left = wanted - drawn(x)
        at = int(np.argmax(np.abs(left)))
        if abs(left[at]) < NEAR_DB:
            break
        x = np.concatenate([x, [np.log(hz[at]), left[at], np.log(1.4)]])
        bands = x.size // 3
        low = np.array([-24.0, *[np.log(LOWEST_FIT_HZ), -18.0, np.log(0.2)] * bands])
        high = np.array([24.0, *[np.log(HIGHEST_FIT_HZ), 18.0, np.log(6.0)] * bands])
        start = np.clip(x, low + 1e-6, high - 1e-6)
        x = least_squares(lambda x: drawn(x) - wanted, start, bounds=(low, high), max_nfev=60).x
    bells = [
        {
            "hz": round(float(np.exp(at)), 1),
            "gain_db": round(float(gain_db), 2),
            "q": round(float(np.exp(sharp)), 2),
        }
        for at, gain_db, sharp in x[1:].reshape(-1, 3)
    ]
    return sorted(bells, key=lambda bell: bell["hz"]), round(float(x[0]), 2)


def _fit(settings: dict[str, Any], index: int) -> None:
    """An EQ in the place of the move, which can be rebuilt elsewhere."""
    move = ContrastEq.model_validate(settings)
    bands, level = fitted(move)
    kept: dict[str, Any] = {name: settings[name] for name in KEPT if name in settings}
    placed = [{**band, "placement": move.placement} for band in bands]
    settings.clear()
    settings |= {**kept, "kind": "eq", "bands": placed, "output_db": level}


def _in_brief(move: ContrastEq) -> str:
    if _both(move) is None:
        return "no spectra yet"
    way = "apart from" if move.amount < 0 else "towards"
    return f"{say(abs(move.amount), '%')} {way} {move.against}, {say(move.most_db, 'dB')} at most"


KIND = MoveKind(
    name="contrast eq",
    title="Contrast EQ",
    summary="Two average spectra pushed apart, or brought together, at the same loudness.",
    place=8,
    params=ContrastEq,
    picture=_picture,
    actions=(
        Action(
            "fit",
            "Fit to EQ bands",
            _fit,
            fits=lambda move, index: _both(move) is not None,
            help="An EQ of a few bands takes its place, which can be rebuilt anywhere",
        ),
    ),
    layout=(
        Group("Contrast", ("amount", "most_db", "smoothing")),
        Group("Where", ("low_hz", "high_hz", "placement")),
    ),
    make=ContrastEqProcessor,
    settle_s=lambda move: TAPS_S,
    rings_s=lambda move: TAPS_S,
    takes_spectra=True,
    is_still=lambda move: True,
    in_brief=_in_brief,
)
