"""Saturation: harmonics of the whole part or of its lows, worked out at several times the rate.

What is added is the shape of the sound less the sound itself, so that nothing is lost where nothing is
added. Odd harmonics come of u / sqrt(1 + u^2), even ones of its integral, sqrt(1 + u^2) - 1; both leave
quiet sound alone.
"""

from __future__ import annotations

from functools import lru_cache
from typing import Literal, NamedTuple

import numpy as np

from pondel.core.dsp.cascade import Cascade, settle_s
from pondel.core.dsp.compiled import kernel
from pondel.core.dsp.crossover import Crossover, crossover_settle_s
from pondel.core.dsp.decibels import to_amplitude
from pondel.core.dsp.limits import finite
from pondel.core.dsp.matched import biquads, butterworth_cut
from pondel.core.dsp.oversample import Oversampled
from pondel.core.dsp.tone import EXCERPT_S, PINK, Excerpt, Tone
from pondel.core.dsp.weighting import k_weighting
from pondel.core.moves.base import Group, MoveBase, MoveKind, Place, Trace
from pondel.core.moves.describe import choice, decibels, frequency, mix, share
from pondel.core.moves.fight import Fight, Start
from pondel.core.moves.picture import Factor, Handle, Picture
from pondel.core.moves.starting import around
from pondel.core.units import say, say_hz

MOST_MATCHED_DB = 24.0
DRIVE_DB = 12.0
OFFSET_HZ = 6.0
"""Even harmonics come with an offset; it is cut below this."""
TILT_HZ, TILT_Q = 800.0, 0.32
STAND_IN_DBFS = -18.0


class Saturation(MoveBase):
    """Parameters of the saturation."""

    kind: Literal["saturation"] = "saturation"
    acts_on: Literal["whole", "lows"] = choice(
        "Acts on",
        default="whole",
        labels={"whole": "the whole", "lows": "the lows"},
        help="Harmonics of the whole part, or of its lows alone.",
    )
    below_hz: float = frequency(
        "Lows below", 150, 40, 1000, "What lies below it is saturated.", shown_when=("acts_on", "lows")
    )
    drive_db: float = decibels("Drive", 12.0, 0, 24, "How hard the sound is driven into the curve.")
    even: float = share("Even", 0.3, "Even harmonics against odd ones.")
    tone_db: float = decibels(
        "Tone", 0.0, -6, 6, "Above 0 the highs are driven harder than the lows, below 0 less hard."
    )
    level_match: bool = choice(
        "Same loudness",
        default=True,
        help="Takes back what it does to the loudness of this part's loudest seconds as recorded.",
    )
    mix: float = mix()


@kernel(error_model="numpy", fastmath={"contract", "nsz", "arcp", "reassoc"})
def _added(sound, drive, even):
    """From float32 (rows, values) of a sound to what its shape adds, in place."""
    one = np.float32(1.0)
    odd, bowed = (one - even) / drive, np.float32(0.5) * even / drive
    for c in range(sound.shape[0]):
        row = sound[c]
        for i in range(row.size):
            u = drive * row[i]
            squared = u * u
            root = np.sqrt(one + squared)
            # root - 1 and u - u / root over one fraction, without the loss of taking near from near.
            row[i] = squared * (bowed * root - odd * u) / ((one + root) * root)


class _Shape(NamedTuple):
    """What decides the sound of a saturation, but for the level."""

    acts_on: str
    below_hz: float
    drive_db: float
    even: float
    tone_db: float


def _shape_of(move: Saturation) -> _Shape:
    return _Shape(move.acts_on, move.below_hz, move.drive_db, move.even, move.tone_db)


def _tilt(tone_db: float, rate: int) -> tuple[np.ndarray, np.ndarray]:
    """The tilt before the curve, and its exact inverse after it."""
    sos = biquads("high shelf", TILT_HZ, tone_db, TILT_Q, rate).copy()
    sos[0, :3] *= to_amplitude(-tone_db / 2.0)
    return sos, np.hstack([sos[:, 3:], sos[:, :3]]) / sos[:, :1]


class _Harmonics:
    """What is added to a sound, late by `latency` frames."""

    def __init__(self, shape: _Shape, rate: int, channels: int) -> None:
        self._oversampled = Oversampled(rate, channels)
        self.latency = self._oversampled.latency
        self._drive = np.float32(to_amplitude(shape.drive_db))
        self._even = np.float32(shape.even)
        self._low = Crossover([shape.below_hz], rate, channels) if shape.acts_on == "lows" else None
        before = np.zeros((0, 6))
        after = butterworth_cut("low cut", OFFSET_HZ, 6, rate)
        if shape.tone_db:
            before, turned = _tilt(shape.tone_db, rate)
            after = np.concatenate([after, turned])
        self._before, self._after = Cascade(before, channels), Cascade(after, channels)

    def process(self, sound: np.ndarray) -> np.ndarray:
        driven = self._low.split(sound)[0] if self._low else sound
        driven = self._before.process(driven)
        return self._after.process(
            self._oversampled.process(driven, lambda inner: _added(inner, self._drive, self._even))
        )


@lru_cache(maxsize=4)
def _stand_in(rate: int) -> np.ndarray:
    """Pink noise, for what has no recording."""
    random = np.random.default_rng(1)
    bins = random.normal(size=round(EXCERPT_S * rate) // 2 + 1) + 0j
    bins *= 1.0 / np.sqrt(np.maximum(np.arange(bins.size), 1.0))
    bins[0] = 0.0
    sound = np.fft.irfft(bins * np.exp(2j * np.pi * random.random(bins.size)))
    sound *= to_amplitude(STAND_IN_DBFS) / np.sqrt(np.mean(sound**2))
    return sound.astype(np.float32)


@lru_cache(maxsize=256)
def _lift_db(shape: _Shape, rate: int, excerpt: Excerpt | None) -> float:
    """What saturation does to the loudness (K-weighted) of an excerpt."""
    from scipy.signal import sosfilt

    sound = finite(excerpt.read() if excerpt else _stand_in(rate))
    harmonics = _Harmonics(shape, rate, 1)
    padded = np.concatenate([sound, np.zeros(harmonics.latency, np.float32)])
    added = harmonics.process(padded[:, None])[harmonics.latency :, 0]
    weighting = k_weighting(rate)
    both = (sound.astype(np.float64), sound.astype(np.float64) + added)
    before, after = (float(np.mean(sosfilt(weighting, one) ** 2)) for one in both)
    if before <= 1e-15 or after <= 1e-15:
        return 0.0
    return float(np.clip(10.0 * np.log10(after / before), -MOST_MATCHED_DB, MOST_MATCHED_DB))


def _output_db(move: Saturation, rate: int, tone: Tone = PINK) -> float:
    return -_lift_db(_shape_of(move), rate, tone.excerpt) if move.level_match else 0.0


class SaturationProcessor:
    """Saturation at work."""

    def __init__(
        self, move: Saturation, rate: int, channels: int, on_trace: Trace | None = None
    ) -> None:
        self._move, self._rate = move, rate
        self._harmonics = _Harmonics(_shape_of(move), rate, channels)
        self.latency = self._harmonics.latency
        self._late = np.zeros((self.latency, channels), np.float32)
        self._gain = np.float32(1.0)

    def start_at(self, place: Place) -> None:
        """Match the level to what is done to the part it stands on."""
        self._gain = np.float32(to_amplitude(_output_db(self._move, self._rate, place.tone())))

    def process(self, block: np.ndarray, key: np.ndarray | None) -> np.ndarray:
        sound = np.ascontiguousarray(finite(block), np.float32)
        joined = np.concatenate([self._late, sound])
        dry, self._late = joined[: sound.shape[0]], joined[sound.shape[0] :].copy()
        mixed = np.float32(self._move.mix)
        wet = self._gain * mixed
        out = self._harmonics.process(sound)
        out *= wet
        out += dry * (np.float32(1.0) - mixed + wet)
        return out


def _settle_s(move: Saturation) -> float:
    lows = crossover_settle_s([move.below_hz]) if move.acts_on == "lows" else 0.0
    return lows + settle_s(butterworth_cut("low cut", OFFSET_HZ, 6, 48000), 48000) + 0.06


def _picture(move: Saturation, hz: np.ndarray, rate: int, tone: Tone = PINK) -> Picture:
    gain = 1.0 - move.mix + move.mix * to_amplitude(_output_db(move, rate, tone))
    handles = [Handle("lows below", move.below_hz, "below_hz")] if move.acts_on == "lows" else []
    return Picture([Factor(np.full(hz.size, gain, complex))], handles, of="quiet sound")


def _in_brief(move: Saturation) -> str:
    where = f"below {say_hz(move.below_hz)}, " if move.acts_on == "lows" else ""
    return f"{where}{say(move.drive_db, 'dB')}, {say(move.even, '%')} even"


def _start(fight: Fight) -> Start:
    """A bass under another low part is told by its harmonics: as loud as before, with less below."""
    if not fight.is_low or not fight.firm:
        why = "Harmonics make room where a bass lies under another low part: they lie above it."
        return Start({"kind": "saturation"}, [why])
    _, below_hz = around(fight.low_hz, fight.high_hz)
    settings = {
        "kind": "saturation",
        "acts_on": "lows",
        "below_hz": round(below_hz, 1),
        "drive_db": DRIVE_DB,
        "level_match": True,
    }
    return Start(
        settings,
        [
            f"Lows below {say_hz(below_hz)}, where {fight.leader.name} lies, driven by "
            f"{say(DRIVE_DB, 'dB')}: their harmonics lie above it.",
            f"The same loudness: what they add is taken back, and with it {fight.yielder.name}'s lows.",
        ],
    )


KIND = MoveKind(
    name="saturation",
    title="Saturation",
    summary="Harmonics of the whole part or of its lows, so that small speakers tell it.",
    place=11,
    params=Saturation,
    start=_start,
    fits_slowly=True,
    picture=_picture,
    by_tone=True,
    layout=(
        Group("Harmonics", ("acts_on", "below_hz", "drive_db", "even", "tone_db")),
        Group("Level", ("level_match", "mix")),
    ),
    make=SaturationProcessor,
    settle_s=_settle_s,
    rings_s=_settle_s,
    in_brief=_in_brief,
)
