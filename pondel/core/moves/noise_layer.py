"""Noise layer: noise over each hit, or while a key is loud enough, coloured by hand or like the part.

The noise is a function of the song's frame (splitmix64; Steele, Lea and Flood, "Fast splittable
pseudorandom number generators", 2014), and its colour one symmetric filter, so that every stretch of
the song sounds the same wherever playing begins.
"""

from __future__ import annotations

from typing import Literal

import numpy as np

from pondel.core.dsp.compiled import kernel
from pondel.core.dsp.partitioned import Partitioned
from pondel.core.dsp.tone import PINK, TONE_HZ, Tone
from pondel.core.moves.base import Group, MoveKind, Place, Trace
from pondel.core.moves.describe import choice, frequency, number
from pondel.core.moves.opening import OPENING, Layer, Opened, Voices, in_brief, settle_s
from pondel.core.moves.picture import Handle, Picture
from pondel.core.units import say_hz

TAPS_S = 0.085
TILT_HZ = 1000.0
DEEPEST_DB = -70.0
SIDES = 0x9E3779B97F4A7C15


class NoiseLayer(Opened):
    """Parameters of the noise layer."""

    kind: Literal["noise layer"] = "noise layer"
    colour: Literal["tilt", "part"] = choice(
        "Colour",
        default="tilt",
        labels={"tilt": "by hand", "part": "like the part"},
        help="Tilted by hand, or like the part's own average spectrum.",
    )
    tilt_db_oct: float = number(
        "Tilt",
        default=-3.0,
        low=-12,
        high=6,
        unit="dB/oct",
        step=0.5,
        help="Decibels for each octave upwards; −3 is pink.",
        shown_when=("colour", "tilt"),
    )
    low_cut_hz: float = frequency("Low cut", 1500, 20, 15000, "Below this there is none of it.")
    high_cut_hz: float = frequency("High cut", 14000, 100, 20000, "Above this there is none of it.")
    wide: bool = choice("Wide", default=False, help="Left and right have noises of their own.")


@kernel()
def white(first, frames, channel):
    """Even noise of power 1 from a frame of the song on, float32 (frames,)."""
    out = np.empty(frames, np.float32)
    begin = np.uint64(first) + np.uint64(channel) * np.uint64(1 << 40) + np.uint64(1)
    for i in range(frames):
        x = (begin + np.uint64(i)) * np.uint64(SIDES)
        x = (x ^ (x >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
        x = (x ^ (x >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
        x = x ^ (x >> np.uint64(31))
        out[i] = (2.0 * 2.0**-53 * np.float64(x >> np.uint64(11)) - 1.0) * np.sqrt(3.0)
    return out


def magnitude_db(move: NoiseLayer, hz: np.ndarray, tone: Tone) -> np.ndarray:
    """The colour at frequencies in Hz: cuts of 12 dB an octave, and a tilt or the part's density."""
    octaves = np.log2(np.maximum(hz, 1.0) / TILT_HZ)
    if move.colour == "part":
        density = np.maximum(tone.left + tone.right, 1e-30) / TONE_HZ
        colour = np.interp(np.log(np.maximum(hz, 1.0)), np.log(TONE_HZ), 10.0 * np.log10(density))
        colour = np.maximum(colour - colour.max(), DEEPEST_DB)
    else:
        # Below the low cut a tilt would go on rising for ever.
        colour = move.tilt_db_oct * np.maximum(octaves, np.log2(move.low_cut_hz / 2.0 / TILT_HZ))
    low = -10.0 * np.log10(1.0 + (move.low_cut_hz / np.maximum(hz, 1.0)) ** 4)
    high = -10.0 * np.log10(1.0 + (hz / move.high_cut_hz) ** 4)
    return colour + low + high


def colouring(move: NoiseLayer, rate: int, tone: Tone) -> np.ndarray:
    """A symmetric filter of odd length that makes white noise of power 1 noise of that colour."""
    half = round(TAPS_S * rate / 2.0)
    size = 1 << int(np.ceil(np.log2(4 * half)))
    gain = 10.0 ** (magnitude_db(move, np.fft.rfftfreq(size, 1.0 / rate), tone) / 20.0)
    pulse = np.fft.irfft(gain, size)
    taps = np.roll(pulse, half)[: 2 * half + 1] * np.hanning(2 * half + 3)[1:-1]
    return taps / np.sqrt(np.sum(taps**2))


class _Noise:
    """The noise of a layer; it is coloured once where it stands is known."""

    def __init__(self, move: NoiseLayer, rate: int, channels: int) -> None:
        self._move, self._rate = move, rate
        self._channels = channels if move.wide else 1
        self.colour(PINK)

    def colour(self, tone: Tone) -> None:
        self._filter = Partitioned(colouring(self._move, self._rate, tone)[np.newaxis])

    def sound(self, first: int, voices: Voices) -> np.ndarray:
        open_by = np.sum([one for one, _ in voices], axis=0)
        out = np.zeros((open_by.size, self._channels))
        open_at = np.flatnonzero(open_by)
        if not open_at.size:
            return out
        begin, end, past = open_at[0], open_at[-1] + 1, self._filter.past
        rows = [white(first + begin - past // 2, past + end - begin, c) for c in range(self._channels)]
        (coloured,) = self._filter.valid(np.stack(rows))
        out[begin:end] = (coloured * open_by[begin:end]).T
        return out


class NoiseLayerProcessor(Layer):
    """The noise layer at work."""

    def __init__(
        self, move: NoiseLayer, rate: int, channels: int, on_trace: Trace | None = None
    ) -> None:
        self._noise = _Noise(move, rate, channels)
        self._by_part = move.colour == "part"
        super().__init__(move, rate, channels, self._noise.sound)

    def start_at(self, place: Place) -> None:
        """Begin at a place in the song, with the colour of the part there."""
        super().start_at(place)
        if self._by_part:
            self._noise.colour(place.tone())


def _picture(move: NoiseLayer, hz: np.ndarray, rate: int) -> Picture:
    handles = [
        Handle("low cut", move.low_cut_hz, "low_cut_hz"),
        Handle("high cut", move.high_cut_hz, "high_cut_hz"),
    ]
    return Picture([], handles, of="the part without it")


def _in_brief(move: NoiseLayer) -> str:
    return f"{say_hz(move.low_cut_hz)} to {say_hz(move.high_cut_hz)}, {in_brief(move)}"


KIND = MoveKind(
    name="noise layer",
    title="Noise layer",
    summary="Noise over each hit, as loud as the hit asks for, coloured by hand or like the part.",
    place=16,
    params=NoiseLayer,
    picture=_picture,
    layout=(
        Group("Noise", ("colour", "tilt_db_oct", "low_cut_hz", "high_cut_hz", "wide", "level_db")),
        *OPENING,
    ),
    make=NoiseLayerProcessor,
    settle_s=settle_s,
    rings_s=settle_s,
    rises=lambda move: True,
    keyed=True,
    timed=True,
    in_brief=_in_brief,
)
