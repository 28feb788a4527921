"""Dynamic EQ: bells and shelves whose gain moves with a level, the part's own or a key's.

A moving bell is the signal plus a multiple of its own band-pass, H = 1 + (G - 1) B, with B = 1 at
the centre: at rest it is the signal itself, at the centre the gain is G, and as only the multiple
moves it is stable at any speed. A moving shelf is two first-order ones of half the gain each.
"""

from __future__ import annotations

import math
from typing import Literal

import numpy as np
from scipy.signal import butter

from pondel.core.dsp import ballistics
from pondel.core.dsp.cascade import Cascade, settle_s
from pondel.core.dsp.compiled import kernel
from pondel.core.dsp.decibels import amplitude_to_db, db_to_amplitude
from pondel.core.model import Model
from pondel.core.moves.base import (
    Key,
    MoveBase,
    MoveKind,
    Ratio,
    Trace,
    choice,
    items,
    number,
)
from pondel.core.moves.compressor import LOUDEST, _bend, _peak
from pondel.core.units import say, say_hz

MOST_BANDS = 8
KNEE_DB = 3.0
QUIET = np.float32(1e-10)


class DynamicBand(Model):
    """One moving band."""

    on: bool = True
    shape: Literal["bell", "low shelf", "high shelf"] = choice(
        "Shape",
        default="bell",
        labels={"bell": "bell", "low shelf": "low shelf", "high shelf": "high shelf"},
        help="What moves.",
    )
    hz: float = number(
        "Frequency",
        default=100.0,
        low=20,
        high=18000,
        unit="Hz",
        scale="log",
        step=3,
        decimals=0,
        help="Centre of the bell, corner of the shelf.",
    )
    q: float = number(
        "Q",
        default=1.4,
        low=0.2,
        high=20,
        scale="log",
        step=5,
        decimals=2,
        help="Sharpness of the bell, and of what its detector hears.",
    )
    range_db: float = number(
        "Range",
        default=-6.0,
        low=-30,
        high=18,
        unit="dB",
        step=0.5,
        help="The gain it moves to: a cut below zero, a boost above.",
    )
    mode: Literal["threshold", "follow"] = choice(
        "Mode",
        default="threshold",
        labels={"threshold": "over threshold", "follow": "follow"},
        help="Move by what lies over the threshold, or in proportion to the level up to it.",
    )
    threshold_db: float = number(
        "Threshold",
        default=-30.0,
        low=-80,
        high=0,
        unit="dB",
        step=0.5,
        help="Level from which it moves; in follow mode the level of full range.",
    )
    ratio: Ratio = number(
        "Ratio",
        default=4.0,
        low=1,
        high=20,
        endless=True,
        unit=":1",
        scale="log",
        step=5,
        help="How much of what lies over the threshold is answered; not used in follow mode.",
    )
    attack_ms: float = number(
        "Attack",
        default=5.0,
        low=0.1,
        high=300,
        unit="ms",
        scale="log",
        step=5,
        help="Time in which 63 % of the way out is done.",
    )
    release_ms: float = number(
        "Return",
        default=120.0,
        low=5,
        high=4000,
        unit="ms",
        scale="log",
        step=5,
        decimals=0,
        help="Time in which 63 % of the way back is done.",
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


def band_pass(hz: float, q: float, rate: int) -> np.ndarray:
    """Band-pass of gain 1 at its centre, as one section (cookbook, constant peak gain)."""
    w = 2.0 * math.pi * min(hz, 0.45 * rate) / rate
    alpha = math.sin(w) / (2.0 * q)
    a0 = 1.0 + alpha
    return np.array([[alpha / a0, 0.0, -alpha / a0, 1.0, -2.0 * math.cos(w) / a0, (1.0 - alpha) / a0]])


def detector_biquads(band: DynamicBand, rate: int) -> np.ndarray:
    """What the band's detector hears: its band, or the side its shelf acts on."""
    if band.listens == "whole":
        return np.zeros((0, 6))
    if band.shape == "bell":
        return band_pass(band.hz, band.q, rate)
    kind = "lowpass" if band.shape == "low shelf" else "highpass"
    return butter(2, min(band.hz, 0.45 * rate), kind, fs=rate, output="sos")


@kernel(error_model="numpy", fastmath={"contract", "nsz"})
def _moving(block, gain, sos, state, out):
    """out = x + (gain - 1) B(x) for each channel; `sos` one section, state (channels, 2)."""
    b0, b1, b2, a1, a2 = sos[0], sos[1], sos[2], sos[4], sos[5]
    for c in range(block.shape[1]):
        z1, z2 = state[c, 0], state[c, 1]
        for i in range(block.shape[0]):
            given = np.float64(block[i, c])
            x = given if abs(given) < LOUDEST else 0.0
            y = b0 * x + z1
            z1 = b1 * x - a1 * y + z2
            z2 = b2 * x - a2 * y
            out[i, c] = x + (gain[i] - 1.0) * y
        state[c, 0] = z1 if abs(z1) > 1e-25 else 0.0
        state[c, 1] = z2 if abs(z2) > 1e-25 else 0.0


def _follow(level: np.ndarray, threshold_db: float, most_db: float) -> np.ndarray:
    """In proportion to the level, all of the range at the threshold."""
    full = np.float32(10.0 ** (threshold_db / 20.0))
    return np.minimum(level / full, np.float32(1.0)) * np.float32(most_db)


class MovingBand:
    """One band at work."""

    def __init__(self, band: DynamicBand, rate: int, channels: int) -> None:
        self._band = band
        self._detector_sos = detector_biquads(band, rate)
        self._detectors: dict[int, Cascade] = {}
        times = ballistics.Times.of(band.attack_ms, 0.0, band.release_ms, rate)
        self._times = (times.rise, times.fall_first, times.fall_second)
        self._sign = np.float32(-1.0 if band.range_db < 0 else 1.0)
        self._most_db = abs(band.range_db)
        self._smoothed = np.zeros(4)
        if band.shape == "bell":
            self._filters = [band_pass(band.hz, band.q, rate)[0]]
        else:
            kind = "lowpass" if band.shape == "low shelf" else "highpass"
            self._filters = [butter(1, min(band.hz, 0.45 * rate), kind, fs=rate, output="sos")[0]] * 2
        self._states = [np.zeros((channels, 2)) for _ in self._filters]

    def gain_db(self, heard: np.ndarray) -> np.ndarray:
        """The moving gain in dB for what the detector hears, float32 (frames,)."""
        channels = heard.shape[1]
        if channels not in self._detectors:
            self._detectors[channels] = Cascade(self._detector_sos, channels)
        heard = self._detectors[channels].process(np.ascontiguousarray(heard, np.float32))
        level = np.empty(heard.shape[0], np.float32)
        _peak(heard, level)
        level = np.maximum(level, QUIET)
        band = self._band
        if band.mode == "follow":
            wanted = _follow(level, band.threshold_db, self._most_db)
        else:
            wanted = np.empty_like(level)
            amplitude_to_db(level, wanted)
            slope = np.float32(1.0 - 1.0 / band.ratio)
            knee, most = np.float32(KNEE_DB), np.float32(self._most_db)
            _bend(wanted, np.float32(band.threshold_db), slope, knee, most)
        ballistics.smooth_reduction(wanted, self._smoothed, *self._times, 0)
        return wanted * self._sign

    def apply(self, block: np.ndarray, gain_db: np.ndarray) -> np.ndarray:
        """Treat float32 (frames, channels) with a gain in dB for each frame."""
        share = np.float32(1.0 / len(self._filters))
        gain = np.empty_like(gain_db)
        db_to_amplitude(gain_db * share, gain)
        for sos, state in zip(self._filters, self._states, strict=True):
            out = np.empty_like(block)
            _moving(block, gain, sos, state, out)
            block = out
        return block


class DynamicEqProcessor:
    """The bands one after another; each hears the part as it came, or the key."""

    latency = 0

    def __init__(
        self, move: DynamicEq, rate: int, channels: int, on_trace: Trace | None = None
    ) -> None:
        self._bands = [MovingBand(band, rate, channels) for band in move.bands if band.on]
        self._on_trace = on_trace

    def process(self, block: np.ndarray, key: np.ndarray | None) -> np.ndarray:
        heard = block if key is None else key
        out = np.ascontiguousarray(block, np.float32)
        deepest = np.zeros(block.shape[0], np.float32)
        for n, band in enumerate(self._bands):
            gain_db = band.gain_db(heard)
            out = band.apply(out, gain_db)
            if self._on_trace is not None:
                self._on_trace(-gain_db, n)
                deepest = np.where(np.abs(gain_db) > np.abs(deepest), -gain_db, deepest)
        if self._on_trace is not None:
            self._on_trace(deepest)
        return out


def _settle_s(move: DynamicEq) -> float:
    total = 0.0
    for band in move.bands:
        detector = settle_s(detector_biquads(band, 48000), 48000)
        own = settle_s(band_pass(band.hz, band.q, 48000), 48000)
        times = ballistics.settle_s(band.attack_ms, 0.0, band.release_ms, max(abs(band.range_db), 6.0))
        total = max(total, detector + times) + own
    return total


def _in_brief(move: DynamicEq) -> str:
    shown = [
        f"{band.shape} {say_hz(band.hz)} to {say(band.range_db, 'dB')}"
        for band in move.bands
        if band.on
    ]
    return ", ".join(shown[:2]) + (" …" if len(shown) > 2 else "") if shown else "no band"


KIND = MoveKind(
    name="dynamic eq",
    title="Dynamic EQ",
    summary="Bells and shelves that dip or rise only while a level, its own or a key's, is there.",
    params=DynamicEq,
    make=DynamicEqProcessor,
    settle_s=_settle_s,
    keyed=True,
    in_brief=_in_brief,
)
