"""Gain that falls as a level rises: the curve, the detector, and both at work.

The static curve with its quadratic knee is equation 4 of Giannoulis, Massberg and Reiss,
"Digital dynamic range compressor design", JAES 60(6), 2012; the ballistics follow the curve
and work on decibels (their log-domain, decoupled form).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Protocol

import numpy as np

from pondel.core.dsp import ballistics
from pondel.core.dsp.compiled import kernel
from pondel.core.dsp.decibels import FLOOR, amplitude_to_db, db_to_amplitude, to_amplitude
from pondel.core.dsp.delay import DelayLine
from pondel.core.dsp.followers import HeldPeaks, hold_largest, mean_square, peaks
from pondel.core.dsp.gain import apply_gain
from pondel.core.dsp.limits import QUIETEST

TILE = 1024
NO_KNEE_DB = 0.01


class Squeeze(Protocol):
    """The settings of a compressor, or of one of several bands."""

    @property
    def threshold_db(self) -> float: ...
    @property
    def ratio(self) -> float: ...
    @property
    def knee_db(self) -> float: ...
    @property
    def attack_ms(self) -> float: ...
    @property
    def hold_ms(self) -> float: ...
    @property
    def release_ms(self) -> float: ...
    @property
    def range_db(self) -> float: ...
    @property
    def makeup_db(self) -> float: ...
    @property
    def mix(self) -> float: ...
    @property
    def detector(self) -> str: ...
    @property
    def rms_window_ms(self) -> float: ...
    @property
    def look_ahead_ms(self) -> float: ...


@dataclass(frozen=True)
class BandSqueeze:
    """The settings of one of several bands."""

    threshold_db: float
    ratio: float
    knee_db: float
    attack_ms: float
    hold_ms: float
    release_ms: float
    range_db: float
    makeup_db: float
    mix: float
    detector: str = field(default="peak", init=False)
    rms_window_ms: float = field(default=10.0, init=False)
    look_ahead_ms: float = field(default=0.0, init=False)


def static_reduction_db(
    level_db: np.ndarray, threshold_db: float, ratio: float, knee_db: float, range_db: float
) -> np.ndarray:
    """Reduction in dB (positive) that the static curve asks for at each level, any shape."""
    over = np.asarray(level_db, np.float64) - threshold_db
    slope = 1.0 - 1.0 / ratio
    half = knee_db / 2.0
    bent = slope * (over + half) ** 2 / (2.0 * knee_db) if knee_db > 0 else np.zeros_like(over)
    wanted = np.where(over >= half, slope * over, np.where(over > -half, bent, 0.0))
    return np.minimum(wanted, range_db)


@kernel(error_model="numpy", fastmath={"contract", "arcp", "nsz"})
def bend(levels, threshold_db, slope, knee_db, range_db):
    """The static curve, in place, written without branches."""
    half = np.float32(0.5) * knee_db
    inverse = np.float32(0.5) / knee_db if knee_db > np.float32(0.0) else np.float32(0.0)
    none = np.float32(0.0)
    for i in range(levels.size):
        over = levels[i] - threshold_db
        bent = min(max(over + half, none), knee_db)
        straight = max(over - half, none)
        levels[i] = min(slope * (bent * bent * inverse + straight), range_db)


@kernel(error_model="numpy", fastmath={"contract", "arcp", "nsz"})
def _mixed_gain(gain, dry, wet):
    for i in range(gain.size):
        gain[i] = dry + wet * gain[i]


@kernel(error_model="numpy")
def _run(block, key, curve, times, rms_pole, makeup_db, mix, held, holding, state, reduction, out):
    """One gain for all channels of `block`, in tiles small enough for the first-level cache."""
    frames = block.shape[0]
    gain = np.empty(TILE, np.float32)
    level = np.empty(TILE, np.float32)
    for start in range(0, frames, TILE):
        end = min(start + TILE, frames)
        size = end - start
        peaks(key[start:end], level[:size])
        if rms_pole > 0.0:
            mean_square(level[:size], rms_pole, state[2:])
        hold_largest(level[:size], held, holding)
        for i in range(size):
            level[i] = max(level[i], QUIETEST)
        tile = reduction[start:end]
        amplitude_to_db(level[:size], tile)
        bend(tile, curve[0], curve[1], curve[2], curve[3])
        ballistics.smooth_reduction(tile, state, times[0], times[1], times[2])
        for i in range(size):
            level[i] = makeup_db - tile[i]
        db_to_amplitude(level[:size], gain[:size])
        if mix < np.float32(1.0):
            _mixed_gain(gain[:size], np.float32(1.0) - mix, mix)
        apply_gain(block[start:end], gain[:size], out[start:end])


def applied_db(move: Squeeze, reduction_db: np.ndarray | float) -> np.ndarray:
    """The gain in dB that is applied where the curve takes so many, with make-up and mix."""
    wet = to_amplitude(move.makeup_db - np.asarray(reduction_db, np.float64))
    return 20.0 * np.log10(np.maximum(1.0 - move.mix + move.mix * wet, FLOOR))


class Squeezer:
    """A compressor at work; `on_reduction` receives what it takes in dB, as applied, per frame."""

    def __init__(
        self,
        move: Squeeze,
        rate: int,
        channels: int,
        on_reduction: Callable[[np.ndarray], None] | None = None,
        *,
        linked: bool = True,
    ) -> None:
        self.latency = round(move.look_ahead_ms * rate / 1000.0)
        self._move = move
        self._delay = DelayLine(self.latency, channels)
        self._linked = linked or channels == 1
        times = ballistics.Times.of(move.attack_ms, move.release_ms, rate)
        self._times = np.array([times.rise, times.fall_first, times.fall_second])
        knee_db = move.knee_db if move.knee_db >= NO_KNEE_DB else 0.0
        self._curve = np.array(
            [move.threshold_db, 1.0 - 1.0 / move.ratio, knee_db, move.range_db], np.float32
        )
        rms = move.detector == "rms"
        self._rms_pole = ballistics.one_pole(move.rms_window_ms, rate) if rms else 0.0
        self._makeup_db = np.float32(move.makeup_db)
        self._mix = np.float32(move.mix)
        hold_frames = round(move.hold_ms * rate / 1000.0)
        self._states = [
            (HeldPeaks(hold_frames + 1), np.zeros(3)) for _ in range(1 if self._linked else channels)
        ]
        self._on_reduction = on_reduction

    def process(self, block: np.ndarray, key: np.ndarray | None) -> np.ndarray:
        """Treat float32 (frames, channels); `key` (frames, any channels) replaces the part."""
        detected = np.ascontiguousarray(block if key is None else key, np.float32)
        delayed = self._delay.push(np.ascontiguousarray(block, np.float32))
        if self._linked:
            out, reduction = self._run(delayed, detected, self._states[0])
        else:
            out, reduction = self._run_each_channel(delayed, detected)
        if self._on_reduction is not None:
            if self._move.mix != 1.0 or self._move.makeup_db != 0.0:
                reduction = -applied_db(self._move, reduction).astype(np.float32)
            self._on_reduction(reduction)
        return out

    def _run_each_channel(self, block, key) -> tuple[np.ndarray, np.ndarray]:
        # A key with fewer channels than the part drives the others with its last one.
        columns = [
            self._run(
                np.ascontiguousarray(block[:, c : c + 1]),
                np.ascontiguousarray(key[:, min(c, key.shape[1] - 1)][:, np.newaxis]),
                state,
            )
            for c, state in enumerate(self._states)
        ]
        outs, reductions = zip(*columns, strict=True)
        return np.hstack(outs), np.maximum.reduce(reductions)

    def _run(self, block, key, carried) -> tuple[np.ndarray, np.ndarray]:
        peaks_held, state = carried
        out = np.empty_like(block)
        reduction = np.empty(block.shape[0], np.float32)
        _run(
            block,
            key,
            self._curve,
            self._times,
            self._rms_pole,
            self._makeup_db,
            self._mix,
            peaks_held.held,
            peaks_held.state,
            state,
            reduction,
            out,
        )
        return out, reduction


def settle_s(move: Squeeze) -> float:
    """Run-up in seconds for the ballistics, the mean square and the look-ahead."""
    window_ms = move.rms_window_ms if move.detector == "rms" else 0.0
    ballistic = ballistics.settle_s(
        move.attack_ms, move.hold_ms, move.release_ms, max(move.range_db, 6.0)
    )
    return ballistic + (12.0 * window_ms + move.look_ahead_ms) / 1000.0
