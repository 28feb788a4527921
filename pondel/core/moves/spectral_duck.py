"""Spectral duck: many narrow bands of the part, each lowered only by what the key holds there."""

from __future__ import annotations

from functools import partial
from typing import Any, Literal, Self

import numpy as np
from pydantic import model_validator

from pondel.core.dsp import ballistics
from pondel.core.dsp.bell_row import BellRow, bell_row
from pondel.core.dsp.bells import (
    applied_db,
    asked_for,
    band_peaks,
    levels_of,
    set_bells,
    through_bells,
    turned_over,
)
from pondel.core.dsp.cascade import settle_s as cascade_settle_s
from pondel.core.dsp.compiled import plain
from pondel.core.dsp.followers import HeldPeaks
from pondel.core.dsp.lanes import WIDTH, even
from pondel.core.dsp.limits import finite
from pondel.core.dsp.matched import response
from pondel.core.dsp.moving import band_pass
from pondel.core.dsp.scale import cam_of, erb_hz, hz_of
from pondel.core.moves.amounts import amount_for
from pondel.core.moves.base import MoveBase, MoveKind, Place, Trace
from pondel.core.moves.describe import (
    Key,
    Ratio,
    attack,
    choice,
    decibels,
    frequency,
    hold,
    mix,
    placement,
    ratio,
    release,
    threshold,
)
from pondel.core.moves.fight import Fight, Start
from pondel.core.moves.picture import Factor, Handle, MovingGain, Picture, angles
from pondel.core.moves.placement import Placement
from pondel.core.moves.starting import RANGE, Timing, around, fitted, key_of
from pondel.core.units import say, say_hz

STEP = 16
GENTLE_RATIO = 1.5
"""So that the bands in which the key holds less than in the deepest one fall too."""
FEW_CAM = 4.0
"""A zone of fewer critical bandwidths is taken in wide bands: between narrow ones too much stands."""


class SpectralDuck(MoveBase):
    """Parameters of the spectral duck."""

    kind: Literal["spectral duck"] = "spectral duck"
    key: Key | None = None
    depth_db: float = decibels("Depth", 9.0, 0, 30, "The most a band may fall.")
    threshold_db: float = threshold(
        -40.0, "Level of the key in a band at which that band begins to fall."
    )
    ratio: Ratio = ratio(2.0, "Decibels of the key over the threshold of which one is left standing.")
    attack_ms: float = attack(5.0, "Time in which 63 % of a band's fall is done.", low=0.5, high=200)
    hold_ms: float = hold(0.0, "Time a band stays down before it returns.")
    release_ms: float = release(
        120.0, "Time in which 63 % of a band's return is done.", low=10, high=2000
    )
    low_hz: float = frequency("From", 100.0, 20, 16000, "Below this nothing is lowered.")
    high_hz: float = frequency("To", 8000.0, 40, 18000, "Above this nothing is lowered.")
    tilt_db_oct: float = decibels(
        "Tilt",
        3.0,
        -6,
        9,
        "Raises the key's highs by this much an octave before it is judged, from 1 kHz.",
    )
    bands: Literal["narrow", "middle", "wide"] = choice(
        "Bands",
        default="middle",
        labels={"narrow": "1/3 ERB", "middle": "1/2 ERB", "wide": "1 ERB"},
        help="Width of the bands.",
    )
    mix: float = mix()

    @model_validator(mode="after")
    def _is_a_range(self) -> Self:
        if self.high_hz < self.low_hz * 1.2:
            raise ValueError("the upper limit of action lies at least a fifth above the lower one")
        return self

    placement: Placement = placement()


WIDTHS = {"narrow": 1 / 3, "middle": 1 / 2, "wide": 1.0}


def _row(move: SpectralDuck, rate: int) -> BellRow:
    return bell_row(move.low_hz, move.high_hz, WIDTHS[move.bands], rate)


def _lanes(sections: np.ndarray) -> np.ndarray:
    """b0 and the turned feedback of band-passes, filled up to a multiple of eight, (3, bands)."""
    count = -(-sections.shape[0] // WIDTH) * WIDTH
    rows = np.zeros((3, count))
    rows[:, : sections.shape[0]] = sections[:, [0, 4, 5]].T * [[1.0], [-1.0], [-1.0]]
    return rows


def _planar(block: np.ndarray) -> np.ndarray:
    """float64 (channels, frames); where an odd channel lacks a partner, it stands in for it."""
    out = np.empty((even(block.shape[1]), block.shape[0]))
    out[: block.shape[1]] = block.T
    out[block.shape[1] :] = out[block.shape[1] - 1]
    return out


class SpectralDuckProcessor:
    """The row at work. Gains are decided every 16 frames of the song, whatever the blocks are."""

    latency = 0

    def __init__(
        self, move: SpectralDuck, rate: int, channels: int, on_trace: Trace | None = None
    ) -> None:
        self._move, self._design = move, _row(move, rate)
        design = self._design
        self._heard = _lanes(design.heard)
        self._bells = _lanes(design.sections)
        bands, bells = self._heard.shape[1], self._bells.shape[1]
        self._tilt_db = np.zeros(bands)
        self._tilt_db[: design.inner] = move.tilt_db_oct * np.log2(design.centres_hz / 1000.0)
        self._settings = np.array([move.threshold_db, 1.0 - 1.0 / move.ratio, move.depth_db])
        self._times = np.array(
            [ballistics.one_pole(t, rate / STEP) for t in (move.attack_ms, move.release_ms)]
        )
        hold_steps = round(move.hold_ms * rate / 1000.0 / STEP)
        self._held = [HeldPeaks(hold_steps + 1) for _ in range(design.inner if hold_steps else 0)]
        self._state = np.zeros((even(channels), 2, bells))
        self._key_state: np.ndarray | None = None
        self._asked = np.zeros(bands)
        self._lines = np.zeros((3, bells))
        self._falls = np.zeros((design.sections.shape[0], 2), np.float32)
        self._top = np.zeros(bands)
        self._away = design.away(design.centres_hz, rate) if on_trace else None
        self._on_trace = on_trace
        self._done = 0

    def start_at(self, place: Place) -> None:
        """Begin at a place in the song: steps are counted from its start."""
        self._done = place.frame % STEP

    def process(self, block: np.ndarray, key: np.ndarray | None) -> np.ndarray:
        if not block.shape[0]:
            return block
        clean = finite(np.ascontiguousarray(block, np.float32))
        out = _planar(clean)
        heard = out if key is None else _planar(finite(np.ascontiguousarray(key, np.float32)))
        whole, rest = divmod(self._done + block.shape[0], STEP)
        power = self._power(heard, whole + (rest > 0))
        falls, lines = self._decide(power[:whole])
        through_bells(out, self._bells, lines, self._done, STEP, self._state)
        self._note(falls, block.shape[0])
        self._top = power[whole] if rest else np.zeros_like(self._top)
        self._lines, self._falls = lines[whole : whole + 3], falls[:, whole : whole + 2]
        self._done = rest
        wet = out[: block.shape[1]].T.astype(np.float32)
        mix = np.float32(self._move.mix)
        return wet if mix == 1.0 else clean * (np.float32(1.0) - mix) + wet * mix

    def _power(self, heard: np.ndarray, steps: int) -> np.ndarray:
        """The loudest of each band of the key in every step that is touched, (steps, bands)."""
        if self._key_state is None:
            self._key_state = np.zeros((heard.shape[0], 4, self._heard.shape[1]))
        power = np.empty((steps, self._heard.shape[1]))
        band_peaks(heard, self._heard, self._done, STEP, self._key_state, power)
        power[0] = np.maximum(power[0], self._top)
        return power

    def _decide(self, power: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Falls of all bells in dB, (bells, steps), and the lines of their gains, (steps, bells).

        Those that hold already come first.
        """
        design, steps = self._design, power.shape[0]
        asked = np.empty(power.shape[::-1], np.float32)
        level = np.empty(power.shape, np.float32)
        levels_of(power, level)
        for n, held in enumerate(self._held):
            held.hold(level[:, n])
        asked_for(level, self._settings, self._tilt_db, self._times, self._asked, asked)
        falls = np.empty((design.sections.shape[0], steps), np.float32)
        less = np.empty_like(falls)
        set_bells(asked, design.powers, design.evenly, design.near, design.spill, falls, less)
        lines = np.zeros((steps + 3, self._bells.shape[1]))
        lines[:3] = self._lines
        turned_over(less, self._bells[0], lines[3:])
        return np.concatenate([self._falls, falls], axis=1), lines

    def _note(self, falls: np.ndarray, frames: int) -> None:
        """Write what the row does at each centre, the most of it, and the fall of each bell."""
        trace = self._on_trace
        if trace is None or self._away is None:
            return
        falls = plain(falls[:, : -(-(self._done + frames) // STEP)])
        applied = np.empty((self._design.inner, falls.shape[1]), np.float32)
        applied_db(falls, self._away, self._move.mix, applied)

        def in_frames(row: np.ndarray) -> np.ndarray:
            return np.repeat(row, STEP)[self._done :][:frames]

        trace(in_frames(applied.max(axis=0)))
        for n, row in enumerate(applied):
            trace(in_frames(row), n)
        for n, row in enumerate(falls):
            trace(in_frames(row), f"bell {n}")


def _rings_s(move: SpectralDuck) -> float:
    row = _row(move, 48000)
    slowest = sorted(cascade_settle_s(one[None], 48000) for one in row.sections[:3])
    return 1.5 * slowest[-1]


def _settle_s(move: SpectralDuck) -> float:
    return 2 * _rings_s(move) + ballistics.settle_s(
        move.attack_ms, move.hold_ms, move.release_ms, max(move.depth_db, 6.0)
    )


def _in_brief(move: SpectralDuck) -> str:
    return f"{say_hz(move.low_hz)} to {say_hz(move.high_hz)}, up to {say(move.depth_db, 'dB')}"


def _picture(move: SpectralDuck, hz: np.ndarray, rate: int) -> Picture:
    row, w = _row(move, rate), angles(hz, rate)
    full = row.bells_for(move.depth_db)
    factors = [
        Factor(None, [MovingGain(f"/bell {n}", response(section[None], w), -float(full[n]))])
        for n, section in enumerate(row.sections)
    ]
    handles = [Handle("from", move.low_hz, "low_hz"), Handle("to", move.high_hz, "high_hz")]
    return Picture(factors, handles, wet=move.mix)


class _Detector(SpectralDuckProcessor):
    """The row's falls alone: nothing is filtered.

    What the key holds is measured once for all settings: `powers` is empty before the first.
    """

    def __init__(
        self,
        move: SpectralDuck,
        rate: int,
        channels: int,
        on_trace: Trace | None,
        *,
        powers: list[np.ndarray],
    ) -> None:
        super().__init__(move, rate, channels, on_trace)
        self._tell, self._powers = on_trace, powers

    def process(self, block: np.ndarray, key: np.ndarray | None) -> np.ndarray:
        whole = block.shape[0] // STEP
        if not self._powers:
            self._powers.append(self._power(_planar(block), whole + 1)[:whole])
        falls, _ = self._decide(self._powers[0])
        if self._tell is not None:
            applied = np.empty((self._design.inner, falls.shape[1]), np.float32)
            applied_db(falls, self._away, 1.0, applied)
            self._tell(np.repeat(applied.max(axis=0), STEP))
        return block


def _start(fight: Fight) -> Start:
    """Narrow bands around the zone, each lowered by what the leader holds there."""
    amount = amount_for(fight, "spectral")
    low, high = around(fight.low_hz, fight.high_hz)
    is_narrow = float(cam_of(fight.high_hz) - cam_of(fight.low_hz)) < FEW_CAM

    def settings_at(threshold_db: float, timing: Timing) -> dict[str, Any]:
        return {
            "kind": "spectral duck",
            "bands": "wide" if is_narrow else "middle",
            "key": key_of(fight),
            "low_hz": round(low, 1),
            "high_hz": round(high, 1),
            "depth_db": round(RANGE * amount.wanted_db, 1),
            "threshold_db": threshold_db,
            "ratio": GENTLE_RATIO,
            **timing.values("attack_ms", "hold_ms", "release_ms"),
            "tilt_db_oct": 0.0,
        }

    found = fitted(fight, SpectralDuck, partial(_Detector, powers=[]), settings_at, amount.wanted_db)
    where = f"{say_hz(low)} to {say_hz(high)}: the zone, {fight.zone}, up to its edges."
    return Start(found.settings, [where, amount.why, *found.why(fight)])


def _since_form_2_db(move: SpectralDuck, rate: int) -> float:
    """How much less than its depth a full row used to do in the middle of its limits, at most.

    There each bell took a fixed share of the depth, with which a row of 4 dB each reached it.
    """
    width, high_hz = WIDTHS[move.bands], min(move.high_hz, 0.43 * rate)
    first, last = float(cam_of(move.low_hz)) + 2 * width, float(cam_of(high_hz)) - 2 * width
    count = max(1, round((last - first) / width) + 1)
    centres = hz_of(np.linspace(first, max(last, first), count))
    rows = [band_pass(hz, hz / (erb_hz(hz) * width * 2.0), rate) for hz in centres]
    passed = [response(row, 2 * np.pi * centres / rate) for row in rows]

    def done_db(falls_db: np.ndarray) -> np.ndarray:
        bells = (
            1.0 + (10.0 ** (-fall / 20.0) - 1.0) * b for fall, b in zip(falls_db, passed, strict=True)
        )
        return sum(-20.0 * np.log10(np.abs(bell)) for bell in bells)  # type: ignore[return-value]

    shares = 4.0 / np.maximum(done_db(np.full(count, 4.0)), 4.0)
    return float(move.depth_db - done_db(move.depth_db * shares).min())


KIND = MoveKind(
    name="spectral duck",
    title="Spectral duck",
    summary="Lowers narrow bands of the part, each only by what the key holds there.",
    place=5,
    params=SpectralDuck,
    picture=_picture,
    start=_start,
    make=SpectralDuckProcessor,
    settle_s=_settle_s,
    rings_s=_rings_s,
    since_form_2_db=_since_form_2_db,
    keyed=True,
    timed=True,
    in_brief=_in_brief,
    warmed_by=({"hold_ms": 5},),
)
