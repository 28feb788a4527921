"""Gate and expander: lowers a part while a level, its own or a key's, is under a threshold."""

from __future__ import annotations

from typing import Literal

import numpy as np

from pondel.core.dsp import ballistics
from pondel.core.dsp.compiled import kernel
from pondel.core.dsp.decibels import amplitude_to_db, db_to_amplitude
from pondel.core.dsp.delay import DelayLine
from pondel.core.dsp.followers import HeldPeaks, peaks
from pondel.core.dsp.gain import apply_gain
from pondel.core.dsp.limits import QUIETEST
from pondel.core.dsp.squeeze import TILE
from pondel.core.moves.base import MoveBase, MoveKind, Trace
from pondel.core.moves.checking import always_down, clicks, key_path, never_back, settings, shut
from pondel.core.moves.describe import (
    Key,
    Ratio,
    attack,
    decibels,
    hold,
    look_ahead,
    ratio,
    reach,
    release,
    threshold,
)
from pondel.core.moves.picture import Picture, whole
from pondel.core.units import say

PEAK_MS = 25.0
"""For how long a peak counts: half a period of the lowest tone, 20 Hz, so that none makes it
flutter."""
UNCERTAIN = -1e18


class Gate(MoveBase):
    """Parameters of the gate / expander."""

    kind: Literal["gate"] = "gate"
    key: Key | None = None
    threshold_db: float = threshold(-40.0, "Level under which the gain falls.", low=-90)
    ratio: Ratio = ratio(10.0, "Decibels by which the output falls for each one under the threshold.")
    range_db: float = reach(40.0, high=90, step=1)
    hysteresis_db: float = decibels(
        "Hysteresis",
        3.0,
        0,
        20,
        "How far under the threshold the level must fall before the gate shuts.",
    )
    attack_ms: float = attack(1.0, "Time in which 63 % of the opening is done.", high=100)
    hold_ms: float = hold(
        40.0, "Time it stays open after the last peak over the threshold; 25 ms at least.", step=5
    )
    release_ms: float = release(120.0, "Time in which 63 % of the shutting is done.", high=4000)
    look_ahead_ms: float = look_ahead("How early the gate opens.")


def static_fall_db(
    level_db: np.ndarray, threshold_db: float, ratio: float, range_db: float
) -> np.ndarray:
    """Reduction in positive dB under the threshold: (ratio - 1) for each dB, at most the range."""
    under = np.maximum(threshold_db - np.asarray(level_db, np.float64), 0.0)
    if np.isinf(ratio):
        return np.where(under > 0, range_db, 0.0)
    return np.minimum(under * (ratio - 1.0), range_db)


@kernel(error_model="numpy")
def _follow(level_db, curve, times, hold_frames, state):
    """From levels to reductions in dB, in place; curve: threshold, slope, range, hysteresis.

    state: [reduction, frames of hold left, open?, frames since it was certain]; -1 while uncertain.
    """
    now, left, is_open, certain = state[0], state[1], state[2], state[3]
    threshold, slope, most, hysteresis = curve[0], curve[1], curve[2], curve[3]
    opening, shutting = times[0], times[1]
    for i in range(level_db.size):
        level = level_db[i]
        if level >= threshold:
            is_open = 1.0
            left = hold_frames
            if certain == UNCERTAIN:
                certain = -i
        elif is_open > 0.0 and level < threshold - hysteresis:
            if left > 0.0:
                left -= 1.0
            else:
                is_open = 0.0
                if certain == UNCERTAIN:
                    certain = -i
        wanted = 0.0 if is_open > 0.0 else min((threshold - level) * slope, most)
        pole = opening if wanted < now else shutting
        now = wanted + pole * (now - wanted)
        level_db[i] = now
    state[0] = now if now > 1e-9 else 0.0
    state[1], state[2] = left, is_open
    state[3] = certain + level_db.size if certain != UNCERTAIN else UNCERTAIN


@kernel(error_model="numpy", fastmath={"contract", "arcp", "nsz"})
def _run(block, levels, curve, times, hold_frames, state, reduction, out):
    """One gain for all channels of `block`, in tiles small enough for the first-level cache."""
    frames = block.shape[0]
    gain = np.empty(TILE, np.float32)
    for start in range(0, frames, TILE):
        end = min(start + TILE, frames)
        tile = reduction[start:end]
        amplitude_to_db(levels[start:end], tile)
        _follow(tile, curve, times, hold_frames, state)
        for i in range(end - start):
            gain[i] = -tile[i]
        db_to_amplitude(gain[: end - start], gain[: end - start])
        apply_gain(block[start:end], gain[: end - start], out[start:end])


class GateProcessor:
    """The gate at work."""

    def __init__(self, move: Gate, rate: int, channels: int, on_trace: Trace | None = None) -> None:
        self.latency = round(move.look_ahead_ms * rate / 1000.0)
        self._delay = DelayLine(self.latency, channels)
        slope = 1e6 if np.isinf(move.ratio) else move.ratio - 1.0
        self._curve = np.array([move.threshold_db, slope, move.range_db, move.hysteresis_db])
        self._times = np.array(
            [ballistics.one_pole(t, rate) for t in (move.attack_ms, move.release_ms)]
        )
        self._peaks = HeldPeaks(round(PEAK_MS * rate / 1000.0))
        # A peak counts for as long as the detector holds it; the rest of the hold comes after that.
        self._hold_frames = max(0, round(move.hold_ms * rate / 1000.0) - self._peaks.frames)
        self._state = np.array([move.range_db if move.ratio > 1 else 0.0, 0.0, 0.0, 0.0])
        self._on_trace = on_trace

    def doubt(self) -> None:
        """From here on, forget whether it was open: it is told anew by what is heard."""
        self._state[1:] = self._hold_frames, 1.0, UNCERTAIN

    def certain_frames(self) -> int:
        """For how many frames it has been certain whether it is open; negative while it is not."""
        return int(self._state[3])

    def process(self, block: np.ndarray, key: np.ndarray | None) -> np.ndarray:
        detected = np.ascontiguousarray(block if key is None else key, np.float32)
        delayed = self._delay.push(np.ascontiguousarray(block, np.float32))
        level = np.empty(block.shape[0], np.float32)
        peaks(detected, level)
        np.maximum(level, QUIETEST, out=level)
        self._peaks.hold(level)
        reduction, out = np.empty_like(level), np.empty_like(delayed)
        _run(delayed, level, self._curve, self._times, self._hold_frames, self._state, reduction, out)
        if self._on_trace is not None:
            self._on_trace(reduction)
        return out


def _settle_s(move: Gate) -> float:
    hold_ms = max(move.hold_ms, PEAK_MS)
    times = ballistics.settle_s(move.attack_ms, hold_ms, move.release_ms, max(move.range_db, 6.0))
    return times + (move.look_ahead_ms + PEAK_MS) / 1000.0


def _picture(move: Gate, hz: np.ndarray, rate: int) -> Picture:
    return Picture([whole(hz.size, -move.range_db)])


def _since_form_2_db(move: Gate, rate: int) -> float:
    """It used to let through what lies under the threshold in tones below 40 Hz, and to hold longer."""
    return move.range_db if move.ratio > 1 else 0.0


KIND = MoveKind(
    name="gate",
    title="Gate / expander",
    summary="Lowers the part while a level, its own or a key's, is under a threshold.",
    place=7,
    params=Gate,
    picture=_picture,
    checks=(key_path, settings, shut, never_back, always_down, clicks),
    make=GateProcessor,
    settle_s=_settle_s,
    since_form_2_db=_since_form_2_db,
    keyed=True,
    in_brief=lambda move: (
        f"{say(move.threshold_db, 'dB')}, {say(move.ratio, ':1')}, {say(move.range_db, 'dB')} range"
    ),
)
