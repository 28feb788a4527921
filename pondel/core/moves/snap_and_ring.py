"""Snap and ring: the beginning of each hit and what rings after it, each up or down, at any level.

Two followers go after the level in decibels: one that rises slowly, one that falls slowly. How far the
level is above the first is its snap, how far the second is above the level its ring: a quieter part has
the same of both, and a steady tone has neither.
"""

from __future__ import annotations

from typing import Any, Literal

import numpy as np

from pondel.core.dsp.ballistics import one_pole
from pondel.core.dsp.compiled import kernel
from pondel.core.dsp.crossover import AllPass, Crossover, band_biquads, crossover_settle_s
from pondel.core.dsp.decibels import amplitude_to_db, db_to_amplitude, to_amplitude, to_db
from pondel.core.dsp.followers import HeldPeaks, peaks
from pondel.core.dsp.limits import QUIETEST, finite
from pondel.core.dsp.matched import response
from pondel.core.moves.base import Group, MoveBase, MoveKind, Trace, note_gains
from pondel.core.moves.describe import Key, choice, decibels, frequency, milliseconds, mix
from pondel.core.moves.picture import Factor, Handle, MovingGain, Picture, angles
from pondel.core.units import say

PEAK_MS = 25.0
FULL_AT_DB, FURTHEST_DB = 12.0, 18.0
"""So far above, or below, a follower the gain is what was asked for; no follower is further away."""
SMOOTH_MS = 0.7
SNAP_HELP, RING_HELP = "Gain of the beginning of each hit.", "Gain of what rings after it."


def _gains(what: str, help: str, least_bands: int) -> Any:
    shown = None if least_bands == 1 else ("bands", *range(least_bands, 4))
    return decibels(what, 0.0, -18, 18, help, shown_when=shown)


class SnapAndRing(MoveBase):
    """Parameters of snap and ring; further bands lie above each other."""

    kind: Literal["snap and ring"] = "snap and ring"
    key: Key | None = None
    bands: Literal[1, 2, 3] = choice(
        "Bands", default=1, labels={"1": "whole", "2": "two", "3": "three"}, help="Whole, or in bands."
    )
    snap_db: float = _gains("Snap", SNAP_HELP, 1)
    ring_db: float = _gains("Ring", RING_HELP, 1)
    crossover_hz: float = frequency(
        "First crossover", 200, 40, 4000, "Where the second band begins.", shown_when=("bands", 2, 3)
    )
    second_snap_db: float = _gains("Snap, second band", SNAP_HELP, 2)
    second_ring_db: float = _gains("Ring, second band", RING_HELP, 2)
    second_crossover_hz: float = frequency(
        "Second crossover", 3000, 200, 12000, "Where the third band begins.", shown_when=("bands", 3)
    )
    third_snap_db: float = _gains("Snap, third band", SNAP_HELP, 3)
    third_ring_db: float = _gains("Ring, third band", RING_HELP, 3)
    snap_ms: float = milliseconds("Snap time", 30.0, 5, 200, "How long a beginning counts.")
    ring_ms: float = milliseconds("Ring time", 250.0, 30, 2000, "How long a ring counts.")
    mix: float = mix()


def _crossovers_hz(move: SnapAndRing) -> list[float]:
    """Apart by a third at least, so that each band is one."""
    first = move.crossover_hz
    return [first, max(move.second_crossover_hz, 1.3 * first)][: move.bands - 1]


def _asked_db(move: SnapAndRing) -> list[tuple[float, float]]:
    every = [
        (move.snap_db, move.ring_db),
        (move.second_snap_db, move.second_ring_db),
        (move.third_snap_db, move.third_ring_db),
    ]
    return every[: move.bands]


@kernel(error_model="numpy")
def _shape(level_db, asked, poles, state, gain_db):
    """Gains in dB from levels in dB; asked: snap and ring; poles: of the followers and the gain.

    state: [follower that rises slowly, that falls slowly, gain], carried.
    """
    rising, falling, now = state[0], state[1], state[2]
    for i in range(level_db.size):
        level = level_db[i]
        # No further away than counts, so that it does not matter how deep a silence was.
        rising = min(max(level + poles[0] * (rising - level), level - FURTHEST_DB), level)
        falling = max(min(level + poles[1] * (falling - level), level + FURTHEST_DB), level)
        snap = min((level - rising) / FULL_AT_DB, 1.0)
        ring = min((falling - level) / FULL_AT_DB, 1.0)
        wanted = asked[0] * snap + asked[1] * ring
        now = wanted + poles[2] * (now - wanted)
        gain_db[i] = now
    state[0], state[1] = rising, falling
    state[2] = now if abs(now) > 1e-9 else 0.0


class _Band:
    """The followers and the gain of one band."""

    def __init__(self, asked_db: tuple[float, float], move: SnapAndRing, rate: int) -> None:
        self._peaks = HeldPeaks(round(PEAK_MS * rate / 1000.0))
        self._asked = np.array(asked_db)
        self._poles = np.array([one_pole(ms, rate) for ms in (move.snap_ms, move.ring_ms, SMOOTH_MS)])
        floor_db = 20.0 * np.log10(QUIETEST)
        self._state = np.array([floor_db, floor_db, 0.0])

    def gain_db(self, detected: np.ndarray) -> np.ndarray:
        level = np.empty(detected.shape[0], np.float32)
        peaks(np.ascontiguousarray(detected, np.float32), level)
        np.maximum(level, QUIETEST, out=level)
        self._peaks.hold(level)
        level_db, gain = np.empty_like(level), np.empty_like(level)
        amplitude_to_db(level, level_db)
        _shape(level_db, self._asked, self._poles, self._state, gain)
        return gain


class SnapAndRingProcessor:
    """Snap and ring at work."""

    latency = 0

    def __init__(
        self, move: SnapAndRing, rate: int, channels: int, on_trace: Trace | None = None
    ) -> None:
        self._mix = np.float32(move.mix)
        self._on_trace = on_trace
        cuts = _crossovers_hz(move)
        self._split = Crossover(cuts, rate, channels) if cuts else None
        self._key_split: Crossover | None = None
        self._cuts, self._rate = cuts, rate
        self._bands = [_Band(asked, move, rate) for asked in _asked_db(move)]

    def _detected(self, key: np.ndarray | None, bands: list[np.ndarray]) -> list[np.ndarray]:
        """What each band listens to: itself, or the same band of the key."""
        if key is None:
            return bands
        if self._split is None:
            return [key]
        if self._key_split is None:
            self._key_split = Crossover(self._cuts, self._rate, key.shape[1])
        return self._key_split.split(np.ascontiguousarray(key, np.float32))

    def process(self, block: np.ndarray, key: np.ndarray | None) -> np.ndarray:
        sound = np.ascontiguousarray(finite(block), np.float32)
        bands = self._split.split(sound) if self._split else [sound]
        out = np.zeros_like(sound)
        gains_db = np.empty((len(bands), sound.shape[0]), np.float32)
        for n, (band, heard) in enumerate(zip(bands, self._detected(key, bands), strict=True)):
            gain = np.empty(sound.shape[0], np.float32)
            db_to_amplitude(self._bands[n].gain_db(heard), gain)
            applied = np.float32(1.0) + self._mix * (gain - np.float32(1.0))
            out += band * applied[:, None]
            gains_db[n] = to_db(applied)
        if self._on_trace is not None:
            note_gains(self._on_trace, gains_db, gains_db)
        return out


def _rings_s(move: SnapAndRing) -> float:
    return crossover_settle_s(_crossovers_hz(move))


def _settle_s(move: SnapAndRing) -> float:
    # A follower 18 dB away is within 0.0002 dB after 11 of its times.
    return 2 * _rings_s(move) + (PEAK_MS + 11.0 * max(move.snap_ms, move.ring_ms) + 10.0) / 1000.0


def _in_phase(move: SnapAndRing, rate: int, channels: int) -> AllPass | None:
    cuts = _crossovers_hz(move)
    return AllPass(cuts, rate, channels) if cuts else None


def _picture(move: SnapAndRing, hz: np.ndarray, rate: int) -> Picture:
    asked_db = np.array([snap if abs(snap) >= abs(ring) else ring for snap, ring in _asked_db(move)])
    full_db = to_db(1.0 + move.mix * (to_amplitude(asked_db) - 1.0))
    cuts = _crossovers_hz(move)
    weights = [response(sos, angles(hz, rate)) for sos in band_biquads(cuts, rate)]
    total = np.sum(weights, axis=0)
    moving = [
        MovingGain(f"/{n}", weight / total, float(db))
        for n, (weight, db) in enumerate(zip(weights, full_db, strict=True))
    ]
    names = ("crossover_hz", "second_crossover_hz")
    handles = [Handle("crossover", cut, name) for cut, name in zip(cuts, names, strict=False)]
    return Picture([Factor(np.ones(hz.size, complex), moving)], handles)


def _in_brief(move: SnapAndRing) -> str:
    snap, ring = _asked_db(move)[0]
    bands = f", {move.bands} bands" if move.bands > 1 else ""
    return f"snap {say(snap, 'dB')}, ring {say(ring, 'dB')}{bands}"


KIND = MoveKind(
    name="snap and ring",
    title="Snap and ring",
    summary="The beginning of each hit and what rings after it, each up or down.",
    place=12,
    params=SnapAndRing,
    picture=_picture,
    layout=(
        Group("Whole", ("bands", "snap_db", "ring_db")),
        Group("Second band", ("crossover_hz", "second_snap_db", "second_ring_db")),
        Group("Third band", ("second_crossover_hz", "third_snap_db", "third_ring_db")),
        Group("Time", ("snap_ms", "ring_ms")),
        Group("Level", ("mix",)),
    ),
    make=SnapAndRingProcessor,
    settle_s=_settle_s,
    rings_s=_rings_s,
    in_phase=_in_phase,
    keyed=True,
    in_brief=_in_brief,
)
