"""Gate and expander: lowers a part while a level, its own or a key's, is under a threshold."""

from __future__ import annotations

from typing import Literal

import numpy as np

from pondel.core.dsp import ballistics
from pondel.core.dsp.compiled import kernel
from pondel.core.dsp.decibels import amplitude_to_db, db_to_amplitude, to_db
from pondel.core.dsp.delay import DelayLine
from pondel.core.dsp.followers import fall_back, peaks
from pondel.core.dsp.limits import LOUDEST, QUIETEST
from pondel.core.moves.base import MoveBase, MoveKind, Trace
from pondel.core.moves.checking import clicks, key_path, never_back, settings
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
from pondel.core.moves.fight import Fight, Start
from pondel.core.moves.picture import Picture, whole
from pondel.core.moves.starting import key_of
from pondel.core.units import say

FALL_MS = 5.0


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
    hold_ms: float = hold(40.0, "Time it stays open after the level fell.", step=5)
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
def _follow(level_db, curve, times, hold_frames, state, reduction):
    """state: [reduction, frames of hold left, open?]; curve: threshold, slope, range, hysteresis."""
    now, left, is_open = state[0], state[1], state[2]
    threshold, slope, most, hysteresis = curve[0], curve[1], curve[2], curve[3]
    for i in range(level_db.size):
        level = level_db[i]
        if level >= threshold:
            is_open = 1.0
            left = hold_frames
        elif is_open > 0.0 and level < threshold - hysteresis:
            if left > 0.0:
                left -= 1.0
            else:
                is_open = 0.0
        wanted = 0.0 if is_open > 0.0 else min((threshold - level) * slope, most)
        pole = times[0] if wanted < now else times[1]
        now = wanted + pole * (now - wanted)
        reduction[i] = now
    state[0] = now if now > 1e-9 else 0.0
    state[1], state[2] = left, is_open


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
        self._hold_frames = round(move.hold_ms * rate / 1000.0)
        self._fall = ballistics.one_pole(FALL_MS, rate)
        self._state = np.array([move.range_db if move.ratio > 1 else 0.0, 0.0, 0.0, 0.0])
        self._on_trace = on_trace

    def process(self, block: np.ndarray, key: np.ndarray | None) -> np.ndarray:
        detected = np.ascontiguousarray(block if key is None else key, np.float32)
        delayed = self._delay.push(np.ascontiguousarray(block, np.float32))
        level = np.empty(block.shape[0], np.float32)
        level_db, reduction, gain = np.empty_like(level), np.empty_like(level), np.empty_like(level)
        peaks(detected, level)
        fall_back(level, self._fall, self._state[3:])
        np.maximum(level, QUIETEST, out=level)
        amplitude_to_db(level, level_db)
        _follow(level_db, self._curve, self._times, self._hold_frames, self._state, reduction)
        db_to_amplitude(-reduction, gain)
        if self._on_trace is not None:
            self._on_trace(reduction)
        return np.where(np.abs(delayed) < LOUDEST, delayed, np.float32(0.0)) * gain[:, None]


def _settle_s(move: Gate) -> float:
    times = ballistics.settle_s(move.attack_ms, move.hold_ms, move.release_ms, max(move.range_db, 6.0))
    return times + (move.look_ahead_ms + 12 * FALL_MS) / 1000.0


def _picture(move: Gate, hz: np.ndarray, rate: int) -> Picture:
    return Picture([whole(hz.size, -move.range_db)])


def _start(fight: Fight) -> Start:
    """Opened by the leader's hits."""
    level = float(to_db(np.quantile(np.abs(fight.key), 0.99))) if fight.key.size else -40.0
    threshold = float(np.clip(round(level - 12.0), -90, 0))
    return Start(
        {"kind": "gate", "key": key_of(fight), "threshold_db": threshold},
        [f"Threshold {say(threshold, 'dB')}: 12 dB under {fight.leader.name}'s loud moments."],
    )


KIND = MoveKind(
    name="gate",
    title="Gate / expander",
    summary="Lowers the part while a level, its own or a key's, is under a threshold.",
    place=7,
    params=Gate,
    picture=_picture,
    start=_start,
    checks=(key_path, settings, never_back, clicks),
    make=GateProcessor,
    settle_s=_settle_s,
    keyed=True,
    in_brief=lambda move: (
        f"{say(move.threshold_db, 'dB')}, {say(move.ratio, ':1')}, {say(move.range_db, 'dB')} range"
    ),
)
