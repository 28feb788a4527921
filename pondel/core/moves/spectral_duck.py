"""Spectral duck: many narrow bands of the part, each lowered only by what the key holds there.

A row of narrow moving bells on the ear's scale, one after another, each 1 + (g - 1) B with B the
band-pass of its band. At rest every g is 1 and the part passes untouched; there is no latency and
nothing before the key sounds. Neighbouring bells overlap; each takes the share of the depth with
which a row of equal ones reaches it.
"""

from __future__ import annotations

from functools import lru_cache
from typing import Literal, Self

import numpy as np
from pydantic import model_validator

from pondel.core.dsp import ballistics
from pondel.core.dsp.cascade import Cascade
from pondel.core.dsp.cascade import settle_s as cascade_settle_s
from pondel.core.dsp.compiled import kernel
from pondel.core.dsp.decibels import to_db
from pondel.core.dsp.limits import LOUDEST
from pondel.core.dsp.matched import response
from pondel.core.dsp.moving import band_pass
from pondel.core.dsp.scale import cam_of, erb_hz, hz_of
from pondel.core.moves.base import MoveBase, MoveKind, Place, Trace
from pondel.core.moves.describe import Key, attack, choice, decibels, frequency, mix, number, release
from pondel.core.moves.fight import Fight, Start
from pondel.core.moves.picture import Factor, Handle, MovingGain, Picture, angles
from pondel.core.moves.starting import key_of, manner, release_for
from pondel.core.units import say, say_hz

STEP = 16
FLOOR = 1e-12


class SpectralDuck(MoveBase):
    """Parameters of the spectral duck."""

    kind: Literal["spectral duck"] = "spectral duck"
    key: Key | None = None
    depth_db: float = decibels("Depth", 9.0, 0, 30, "The most a band may fall.")
    sensitivity_db: float = decibels(
        "Sensitivity", -40.0, -80, 0, "Level of the key in a band at which that band begins to fall."
    )
    sharpness: float = number(
        "Sharpness",
        default=0.5,
        low=0.1,
        high=1,
        unit="%",
        step=0.05,
        decimals=0,
        help="How much of each decibel over the sensitivity is answered.",
    )
    attack_ms: float = attack(5.0, "Time in which 63 % of a band's fall is done.", low=0.5, high=200)
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


OVERLAP = 2.0
TYPICAL_DB = 4.0
WIDTHS = {"narrow": 1 / 3, "middle": 1 / 2, "wide": 1.0}


@lru_cache(maxsize=64)
def bank(
    low_hz: float, high_hz: float, width_erb: float, rate: int
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Centres in Hz, a band-pass section for each band (bands, 6), and each band's share of depth.

    The outermost centres lie inside the limits, so that skirts have faded an octave beyond them.
    """
    high_hz = min(high_hz, 0.43 * rate)
    inset = 2.0 * width_erb
    first, last = float(cam_of(low_hz)) + inset, float(cam_of(high_hz)) - inset
    count = max(1, round((last - first) / width_erb) + 1)
    centres = hz_of(np.linspace(first, max(last, first), count))
    qs = centres / (erb_hz(centres) * width_erb * OVERLAP)
    rows = np.array([band_pass(hz, q, rate)[0] for hz, q in zip(centres, qs, strict=True)])
    w = 2 * np.pi * centres / rate
    typical = 10.0 ** (-TYPICAL_DB / 20.0) - 1.0
    reached = sum(-20.0 * np.log10(np.abs(1.0 + typical * response(row[None], w))) for row in rows)
    return centres, rows, TYPICAL_DB / np.maximum(reached, TYPICAL_DB)


@kernel(error_model="numpy", fastmath={"contract", "nsz"})
def _levels(key, rows, gains, state, out):
    """Largest squared output of each band of the key in every step of STEP frames.

    The detector is the band's section twice over, so that its skirts are twice as steep.
    """
    steps = out.shape[0]
    for k in range(rows.shape[0]):
        b0, b2, a1, a2 = rows[k, 0], rows[k, 2], rows[k, 4], rows[k, 5]
        for c in range(key.shape[1]):
            z1, z2, w1, w2 = state[k, c, 0], state[k, c, 1], state[k, c, 2], state[k, c, 3]
            for s in range(steps):
                top = out[s, k] if c else 0.0
                for i in range(s * STEP, min((s + 1) * STEP, key.shape[0])):
                    given = np.float64(key[i, c])
                    x = given if abs(given) < LOUDEST else 0.0
                    y = b0 * x + z1
                    z1 = -a1 * y + z2
                    z2 = b2 * x - a2 * y
                    v = b0 * y + w1
                    w1 = -a1 * v + w2
                    w2 = b2 * y - a2 * v
                    top = max(top, v * v)
                out[s, k] = top
            state[k, c, 0] = z1 if abs(z1) > 1e-25 else 0.0
            state[k, c, 1] = z2 if abs(z2) > 1e-25 else 0.0
            state[k, c, 2] = w1 if abs(w1) > 1e-25 else 0.0
            state[k, c, 3] = w2 if abs(w2) > 1e-25 else 0.0
    for s in range(steps):
        for k in range(rows.shape[0]):
            out[s, k] *= gains[k]


@kernel(error_model="numpy")
def _smooth(wanted, rise, fall, state):
    for s in range(wanted.shape[0]):
        for k in range(wanted.shape[1]):
            now = state[k]
            pole = rise if wanted[s, k] > now else fall
            now = wanted[s, k] + pole * (now - wanted[s, k])
            state[k] = now if now > 1e-9 else 0.0
            wanted[s, k] = now


@kernel(error_model="numpy", fastmath={"contract", "nsz"})
def _apply(out, rows, less, before, offset, state):
    """Each bell in place on (channels, frames), its gain moving in a line over each step.

    `offset` is how many frames of the first step are done; only then is there a single step.
    """
    steps = less.shape[0]
    for k in range(rows.shape[0]):
        b0, b2, a1, a2 = rows[k, 0], rows[k, 2], rows[k, 4], rows[k, 5]
        for c in range(out.shape[0]):
            z1, z2 = state[k, c, 0], state[k, c, 1]
            given = out[c]
            for s in range(steps):
                start = before[k] if s == 0 else less[s - 1, k]
                slope = (less[s, k] - start) / STEP
                first = s * STEP
                for i in range(first, min(first + STEP, given.size)):
                    x = given[i]
                    y = b0 * x + z1
                    z1 = -a1 * y + z2
                    z2 = b2 * x - a2 * y
                    given[i] = x + (start + slope * (offset + i - first + 1)) * y
            state[k, c, 0] = z1 if abs(z1) > 1e-25 else 0.0
            state[k, c, 1] = z2 if abs(z2) > 1e-25 else 0.0


class SpectralDuckProcessor:
    """The bank at work. Gains are decided every 16 frames of the song, whatever the blocks are."""

    latency = 0

    def __init__(
        self, move: SpectralDuck, rate: int, channels: int, on_trace: Trace | None = None
    ) -> None:
        self._move = move
        width = WIDTHS[move.bands]
        centres, self._rows, self._shares = bank(move.low_hz, move.high_hz, width, rate)
        self._key_gains = 10.0 ** (move.tilt_db_oct * np.log2(centres / 1000.0) / 10.0)
        count = centres.size
        self._state = np.zeros((count, channels, 2))
        self._key_state: np.ndarray | None = None
        self._rise, self._fall = (
            ballistics.one_pole(t, rate / STEP) for t in (move.attack_ms, move.release_ms)
        )
        self._smoothed = np.zeros(count)
        self._before = np.zeros(count)
        self._target = np.zeros(count)
        self._top = np.zeros(count)
        self._shown = np.zeros(count, np.float32)
        self._on_trace = on_trace
        self._done = 0

    def start_at(self, place: Place) -> None:
        """Begin at a place in the song: steps are counted from its start."""
        self._done = place.frame % STEP

    def process(self, block: np.ndarray, key: np.ndarray | None) -> np.ndarray:
        heard = np.ascontiguousarray(block if key is None else key, np.float32)
        block = np.ascontiguousarray(block, np.float32)
        if self._key_state is None:
            self._key_state = np.zeros((self._rows.shape[0], heard.shape[1], 4))
        pieces = []
        at = 0
        while at < block.shape[0]:
            left = block.shape[0] - at
            whole = self._done == 0 and left >= STEP
            size = left - left % STEP if whole else min(STEP - self._done, left)
            work = self._whole_steps if whole else self._part_of_step
            pieces.append(work(block[at : at + size], heard[at : at + size]))
            at += size
        return np.concatenate(pieces) if pieces else block

    def _whole_steps(self, block: np.ndarray, heard: np.ndarray) -> np.ndarray:
        power = np.empty((block.shape[0] // STEP, self._rows.shape[0]))
        _levels(heard, self._rows, self._key_gains, self._key_state, power)
        less, shown = self._decide(power)
        lines = np.concatenate([self._target[None], less[:-1]])
        out = self._duck(block, lines, 0)
        self._before, self._target = lines[-1].copy(), less[-1].copy()
        self._note(np.concatenate([self._shown[None], shown[:-1]]), block.shape[0])
        self._shown = shown[-1]
        return out

    def _part_of_step(self, block: np.ndarray, heard: np.ndarray) -> np.ndarray:
        power = np.empty((1, self._rows.shape[0]))
        _levels(heard, self._rows, self._key_gains, self._key_state, power)
        self._top = np.maximum(self._top, power[0])
        out = self._duck(block, self._target[None], self._done)
        self._note(self._shown[None], block.shape[0])
        self._done += block.shape[0]
        if self._done == STEP:
            less, shown = self._decide(self._top[None])
            self._before, self._target = self._target, less[0].copy()
            self._shown = shown[0]
            self._top = np.zeros_like(self._top)
            self._done = 0
        return out

    def _decide(self, power: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """What each step asks of the next one, by band: g - 1, and the fall in dB."""
        move = self._move
        over = 10.0 * np.log10(np.maximum(power, FLOOR)) - move.sensitivity_db
        wanted = np.clip(over * move.sharpness, 0.0, move.depth_db)
        _smooth(wanted, self._rise, self._fall, self._smoothed)
        less = 10.0 ** (-wanted * self._shares / 20.0) - 1.0
        return less, wanted.astype(np.float32)

    def _duck(self, block: np.ndarray, lines: np.ndarray, offset: int) -> np.ndarray:
        clean = np.where(np.abs(block) < LOUDEST, block, np.float32(0.0))
        out = np.ascontiguousarray(clean.T, np.float64)
        _apply(out, self._rows, lines, self._before, offset, self._state)
        mix = self._move.mix
        return (clean * (1.0 - mix) + out.T * mix).astype(np.float32)

    def _note(self, shown: np.ndarray, frames: int) -> None:
        """Write the deepest fall, and that of each band, of shape (steps, bands)."""
        if self._on_trace is None:
            return
        self._on_trace(np.repeat(shown.max(axis=1), STEP)[:frames])
        for n in range(shown.shape[1]):
            self._on_trace(np.repeat(shown[:, n], STEP)[:frames], n)


def _rings_s(move: SpectralDuck) -> float:
    _, rows, _ = bank(move.low_hz, move.high_hz, WIDTHS[move.bands], 48000)
    return 1.5 * max(cascade_settle_s(row[None], 48000) for row in rows[:2])


def _settle_s(move: SpectralDuck) -> float:
    return 2 * _rings_s(move) + ballistics.settle_s(
        move.attack_ms, 0, move.release_ms, max(move.depth_db, 6.0)
    )


def _in_brief(move: SpectralDuck) -> str:
    return f"{say_hz(move.low_hz)} to {say_hz(move.high_hz)}, up to {say(move.depth_db, 'dB')}"


def _picture(move: SpectralDuck, hz: np.ndarray, rate: int) -> Picture:
    _, rows, shares = bank(move.low_hz, move.high_hz, WIDTHS[move.bands], rate)
    w = angles(hz, rate)
    factors = [
        Factor(None, [MovingGain(f"/{n}", response(row[None], w), -move.depth_db, float(share))])
        for n, (row, share) in enumerate(zip(rows, shares, strict=True))
    ]
    handles = [Handle("from", move.low_hz, "low_hz"), Handle("to", move.high_hz, "high_hz")]
    return Picture(factors, handles, wet=move.mix)


def _band_level_db(fight: Fight) -> float:
    """The leader's usual level in the zone while it sounds, in dB."""
    sos = band_pass(fight.centre_hz, max(fight.zone_q, 1.0), fight.rate)
    heard = Cascade(sos, fight.key.shape[1]).process(np.ascontiguousarray(fight.key, np.float32))
    step = fight.rate // 50
    count = heard.shape[0] // step
    if not count:
        return -60.0
    peaks = np.abs(heard[: count * step]).max(axis=1).reshape(count, step).max(axis=1)
    return float(to_db(np.quantile(peaks, 0.8)))


def _start(fight: Fight) -> Start:
    """Narrow bands around the zone, each lowered by what the leader holds there."""
    low, high = max(20.0, fight.low_hz / 1.5), min(18000.0, fight.high_hz * 1.5)
    high = max(high, low * 1.3)
    level = _band_level_db(fight)
    sensitivity = float(np.clip(round(2 * (level - 20.0)) / 2, -80, 0))
    release_ms, why = release_for(fight)
    depth = 12.0 if fight.firm else 9.0
    return Start(
        {
            "kind": "spectral duck",
            "key": key_of(fight),
            "low_hz": round(low, 1),
            "high_hz": round(high, 1),
            "depth_db": depth,
            "sensitivity_db": sensitivity,
            "sharpness": 0.6,
            "attack_ms": 4.0,
            "release_ms": release_ms,
            "tilt_db_oct": 0.0,
        },
        [
            f"{say_hz(low)} to {say_hz(high)}: half an octave around the zone.",
            f"Sensitivity {say(sensitivity, 'dB')}: 20 dB under the usual level of "
            f"{fight.leader.name} there.",
            f"Depth {say(depth, 'dB')}: {manner(fight)}.",
            why,
        ],
    )


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
    keyed=True,
    timed=True,
    in_brief=_in_brief,
)
