"""What opens a layer: hits, or a key over a threshold; and how far, by how loud the key is there.

A layer opens from nothing along a curve whose slope and bend are steady at both ends, so that no edge
is heard. What is louder opens it further, by so many decibels for each of the key's.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Literal

import numpy as np
from pydantic import Field

from pondel.core.dsp.ballistics import one_pole
from pondel.core.dsp.compiled import kernel
from pondel.core.dsp.decibels import to_amplitude
from pondel.core.dsp.delay import DelayLine
from pondel.core.dsp.followers import HeldPeaks, peaks
from pondel.core.dsp.limits import finite
from pondel.core.moves.base import Group, MoveBase, Place
from pondel.core.moves.describe import Key, choice, decibels, milliseconds, number
from pondel.core.refs import OwnHitsRef
from pondel.core.units import say

LOOK_MS, BEFORE_MS = 15.0, 2.0
"""How loud a hit is, is the highest level from just before it until then."""
SILENT = 1e-6
"""A key that is no louder than this opens nothing."""
PEAK_MS = 25.0
VOICES, STAGES = 4, 3
FAINT = 1e-12


class Opened(MoveBase):
    """What layers share: what opens them, how far, and for how long."""

    key: Key | None = None
    opened_by: Literal["hits", "gate"] = choice(
        "Opened by",
        default="hits",
        labels={"hits": "hits", "gate": "a level"},
        help="Each hit, or the time for which the key is over a threshold.",
    )
    hits_of: OwnHitsRef | None = Field(
        None,
        title="Hits of",
        description="The part whose hits open it; null: this one.",
        json_schema_extra={"shown_when": ["opened_by", "hits"]},
    )
    threshold_db: float = decibels(
        "Threshold",
        -30.0,
        -80,
        0,
        "Level of the key from which on it is open.",
        shown_when=("opened_by", "gate"),
    )
    level_db: float = decibels("Level", -18.0, -60, 0, "Level of the layer when it is fully open.")
    full_at_db: float = decibels(
        "Full at", -12.0, -60, 0, "Level of the key from which on the layer is fully open."
    )
    follow: float = number(
        "Follow",
        default=1.0,
        low=0,
        high=3,
        unit=":1",
        step=0.1,
        decimals=2,
        help="Decibels by which the layer is lower for each one that the key is under that.",
    )
    attack_ms: float = milliseconds("Attack", 12.0, 8, 200, "How long it takes to open.")
    length_ms: float = milliseconds(
        "Length",
        160.0,
        20,
        4000,
        "From the hit to the end of its fade, or how long it stays open after the key.",
        decimals=0,
    )
    release_ms: float = milliseconds("Fade", 80.0, 8, 2000, "How long it takes to shut.", decimals=0)


OPENING = (
    Group("Opening", ("opened_by", "threshold_db", "full_at_db", "follow")),
    Group("Time", ("attack_ms", "length_ms", "release_ms")),
)


@kernel()
def smooth_step(way):
    """From 0 to 1 along `way`, with no slope and no bend at either end."""
    if way <= 0.0 or way >= 1.0:
        return 0.0 if way <= 0.0 else 1.0
    return way - np.sin(2.0 * np.pi * way) / (2.0 * np.pi)


@kernel(error_model="numpy")
def _struck(first, hits, opened, times, open_by, since):
    """The voices of the last hits, each fading where the next one comes; returns how many sound.

    times: frames of attack, length and release; open_by and since: float64 (VOICES, frames).
    """
    attack, length, release = times
    newest, count = np.searchsorted(hits, first, side="right") - 1, 0
    for i in range(open_by.shape[1]):
        at = first + i
        while newest + 1 < hits.size and hits[newest + 1] <= at:
            newest += 1
        left = 1.0
        for back in range(min(open_by.shape[0], newest + 1)):
            n = newest - back
            since[back, i] = at - hits[n]
            open_now = smooth_step(since[back, i] / attack)
            if since[back, i] < length:
                shut = smooth_step((since[back, i] - (length - release)) / release)
                open_by[back, i] = left * open_now * (1.0 - shut) * opened[n]
                count = max(count, back + 1)
            left *= 1.0 - open_now
            if left == 0.0:
                break
    return count


@kernel(error_model="numpy", fastmath={"contract", "nsz"})
def _with_layer(sound, layer, gain, out):
    """Float32 (frames, channels) and what is added to it, float64 (frames, 1 or channels)."""
    for i in range(sound.shape[0]):
        for c in range(sound.shape[1]):
            out[i, c] = sound[i, c] + np.float32(gain * layer[i, min(c, layer.shape[1] - 1)])


class Opening:
    """How far a layer is open, frame by frame, `latency` frames late."""

    def __init__(self, move: Opened, rate: int) -> None:
        self._move, self._rate = move, rate
        self.latency = round(LOOK_MS * rate / 1000.0)
        self._before = round(BEFORE_MS * rate / 1000.0)
        self._attack, self._length, self._release = (
            max(1.0, ms * rate / 1000.0) for ms in (move.attack_ms, move.length_ms, move.release_ms)
        )
        self._heard = 0
        self._hits = np.empty(0)
        self._loud = np.empty(0)
        self._peaks = HeldPeaks(round(max(PEAK_MS, move.length_ms) * rate / 1000.0))
        self._poles = [one_pole(ms / STAGES, rate) for ms in (move.attack_ms, move.release_ms)]
        self._levels = DelayLine(self.latency, 1)
        self._smoothed = np.zeros((2, STAGES, 1))

    def start_at(self, place: Place) -> None:
        """Begin at a place in the song."""
        self._heard = place.frame
        self._hits = np.round(place.hits_s * self._rate)
        self._loud = np.zeros(self._hits.size)

    def hear(self, key: np.ndarray) -> Voices:
        """Take in the key, (frames, channels); how far each voice is open, and frames since its hit.

        A gate has one voice, which goes on for ever.
        """
        level = np.empty(key.shape[0], np.float32)
        peaks(np.ascontiguousarray(key, np.float32), level)
        first = self._heard - self.latency
        self._heard += key.shape[0]
        if self._move.opened_by == "gate":
            return [(self._gated(level), np.arange(first, first + key.shape[0], dtype=np.float64))]
        self._note_hits(level)
        return self._struck(first, key.shape[0])

    def _opened(self, loud: np.ndarray) -> np.ndarray:
        """How far it is open at levels of the key, as amplitudes."""
        under_db = np.minimum(20.0 * np.log10(np.maximum(loud, SILENT)) - self._move.full_at_db, 0.0)
        return np.where(loud > SILENT, to_amplitude(self._move.follow * under_db), 0.0)

    def _gated(self, level: np.ndarray) -> np.ndarray:
        self._peaks.hold(level)
        wanted = np.where(
            level >= to_amplitude(self._move.threshold_db), self._opened(level.astype(np.float64)), 0.0
        )
        both = [self._smooth(wanted, n) for n in range(2)]
        # What opens faster than it shuts is the higher of both, what opens slower the lower.
        open_by = np.maximum(*both) if self._attack <= self._release else np.minimum(*both)
        return self._levels.push(open_by[:, None].astype(np.float32))[:, 0]

    def _smooth(self, wanted: np.ndarray, n: int) -> np.ndarray:
        """Three poles in series, so that neither slope nor bend jumps."""
        from scipy.signal import lfilter

        pole = self._poles[n]
        for stage in range(STAGES):
            wanted, state = lfilter([1.0 - pole], [1.0, -pole], wanted, zi=self._smoothed[n, stage])
            self._smoothed[n, stage] = np.where(np.abs(state) > FAINT, state, 0.0)
        return wanted

    def _note_hits(self, level: np.ndarray) -> None:
        """Take the highest level around each hit that this block holds some of."""
        begin = self._heard - level.size
        near = np.flatnonzero(
            (self._hits + self.latency > begin) & (self._hits - self._before < self._heard)
        )
        for n in near:
            first = max(0, int(self._hits[n]) - self._before - begin)
            last = min(level.size, int(self._hits[n]) + self.latency - begin)
            self._loud[n] = max(self._loud[n], float(level[first:last].max(initial=0.0)))

    def _struck(self, first: int, frames: int) -> Voices:
        open_by, since = np.zeros((2, VOICES, frames))
        times = (self._attack, self._length, self._release)
        count = _struck(float(first), self._hits, self._opened(self._loud), times, open_by, since)
        return list(zip(open_by, since, strict=True))[: max(count, 1)]


Voices = list[tuple[np.ndarray, np.ndarray]]
"""How far each is open, and the frames since its hit; one voice at least."""


class Layer:
    """Sound added to a part while it is open.

    `sound(first, voices)` makes it from a frame of the song on, float64 (frames, 1 or channels).
    """

    def __init__(
        self, move: Opened, rate: int, channels: int, sound: Callable[[int, Voices], np.ndarray]
    ) -> None:
        self._sound = sound
        self._opening = Opening(move, rate)
        self.latency = self._opening.latency
        self._late = DelayLine(self.latency, channels)
        self._gain = float(to_amplitude(move.level_db))
        self._first = -self.latency

    def start_at(self, place: Place) -> None:
        """Begin at a place in the song."""
        self._first = place.frame - self.latency
        self._opening.start_at(place)

    def process(self, block: np.ndarray, key: np.ndarray | None) -> np.ndarray:
        if not block.shape[0]:
            return block
        sound = finite(np.ascontiguousarray(block, np.float32))
        voices = self._opening.hear(sound if key is None else key)
        layer = self._sound(self._first, voices)
        self._first += block.shape[0]
        late = self._late.push(sound)
        out = np.empty_like(late)
        _with_layer(late, layer, self._gain, out)
        return out


def settle_s(move: Opened) -> float:
    """Until what opened it before is forgotten."""
    window_ms = max(PEAK_MS, move.length_ms) + LOOK_MS + BEFORE_MS
    return (window_ms + 12.0 * (move.attack_ms + move.release_ms)) / 1000.0


def in_brief(move: Opened) -> str:
    """Its level and what opens it."""
    return f"{say(move.level_db, 'dB')}, {'each hit' if move.opened_by == 'hits' else 'by level'}"
