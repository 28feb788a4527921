"""A small synthesiser: plays the notes of one instrument into one recording.

Everything random is seeded by the instrument, so that the same score gives the same bytes.
"""

from __future__ import annotations

import zlib
from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

import numpy as np
import soundfile
from scipy import fft

RATE = 48000
BLOCK = 16384
ROOM_FRAMES = 1 << 18


@dataclass(frozen=True)
class Note:
    """One note of the score."""

    start_s: float
    seconds: float
    pitch: int
    velocity: float

    @property
    def hz(self) -> float:
        return 440.0 * 2.0 ** ((self.pitch - 69) / 12.0)


def _time(seconds: float) -> np.ndarray:
    return np.arange(round(seconds * RATE)) / RATE


def _edges(t: np.ndarray, seconds: float, rise: float, fall: float) -> np.ndarray:
    """An envelope that rises and, after `seconds`, falls."""
    up = np.minimum(t / rise, 1.0)
    down = np.exp(-np.maximum(t - seconds, 0.0) / fall)
    return np.sin(0.5 * np.pi * up) ** 2 * down


def _band(noise: np.ndarray, low_hz: float, high_hz: float, order: int = 2) -> np.ndarray:
    from scipy.signal import sosfilt

    return sosfilt(_bandpass(order, low_hz, high_hz), noise)


@lru_cache
def _bandpass(order: int, low_hz: float, high_hz: float) -> np.ndarray:
    from scipy.signal import butter

    return butter(order, [low_hz, high_hz], "bandpass", fs=RATE, output="sos")


def _partials(base: np.ndarray, weights: np.ndarray, phases: np.ndarray | None = None) -> np.ndarray:
    """Harmonics of a running phase: the sum of weights[n-1] * sin(n * base + phases[n-1]).

    By Clenshaw's recurrence, in blocks that stay in the processor's own memory.
    """
    sines = weights if phases is None else weights * np.cos(phases)
    out = np.empty(base.size)
    for first in range(0, base.size, BLOCK):
        x = base[first : first + BLOCK]
        out[first : first + BLOCK] = _summed(x, sines)[0] * np.sin(x)
        if phases is not None:
            one, two = _summed(x, weights * np.sin(phases))
            out[first : first + BLOCK] += one * np.cos(x) - two
    return out


def _summed(x: np.ndarray, weights: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """The last two terms of Clenshaw's recurrence for the multiples of an angle."""
    twice = 2.0 * np.cos(x)
    one, two, spare = np.zeros_like(x), np.zeros_like(x), np.empty_like(x)
    for weight in weights[::-1]:
        np.multiply(twice, one, out=spare)
        spare -= two
        spare += weight
        one, two, spare = spare, one, two
    return one, two


def _harmonics(hz: float, top_hz: float, most: int) -> np.ndarray:
    """Numbers of the harmonics below `top_hz`, at most `most` of them."""
    return np.arange(1, int(min(most, top_hz // hz)) + 1)


def _bump(hz: np.ndarray, centre_hz: float, width_hz: float) -> np.ndarray:
    return np.exp(-(((hz - centre_hz) / width_hz) ** 2))


def bass_drum(note: Note, random: np.random.Generator) -> np.ndarray:
    """A big skin: a falling tone with a long boom, and a soft beater."""
    t = _time(1.6)
    glide = note.hz * (1.0 + 0.55 * np.exp(-t / 0.035))
    tone = np.sin(2.0 * np.pi * np.cumsum(glide) / RATE)
    boom = tone * (0.75 * np.exp(-t / 0.11) + 0.30 * np.exp(-t / 0.34))
    skin = 0.12 * np.sin(2.0 * np.pi * note.hz * 2.14 * t) * np.exp(-t / 0.12)
    beater = 0.16 * _band(random.standard_normal(t.size), 1200, 4200) * np.exp(-t / 0.007)
    rise = np.minimum(t / 0.0012, 1.0)
    end = np.minimum((t[-1] - t) / 0.1, 1.0)
    return note.velocity * (boom + skin + beater) * rise * end


def tuba(note: Note, random: np.random.Generator) -> np.ndarray:
    """A round low brass tone, brighter at its start."""
    t = _time(note.seconds + 0.35)
    vibrato = 1.0 + 0.0015 * np.sin(2 * np.pi * 4.6 * t) * np.minimum(t / 0.6, 1.0)
    base = 2 * np.pi * np.cumsum(note.hz * vibrato) / RATE
    n = _harmonics(note.hz, 14000, 14)
    weights = n**-1.15 * np.exp(-((n * note.hz / 520.0) ** 1.3))
    dark = _partials(base, weights * 0.55 ** (n - 1))
    out = dark + (_partials(base, weights) - dark) * np.exp(-t / 0.12)
    breath = 0.012 * _band(random.standard_normal(t.size), 300, 1800)
    return note.velocity * (out + breath) * _edges(t, note.seconds, 0.045, 0.07)


def side_drum(note: Note, random: np.random.Generator) -> np.ndarray:
    """A shell tone with rattling wires."""
    t = _time(0.4)
    shell = np.sin(2 * np.pi * 196 * t) * np.exp(-t / 0.05)
    shell += 0.6 * np.sin(2 * np.pi * 331 * t) * np.exp(-t / 0.035)
    wires = _band(random.standard_normal(t.size), 1100, 9000, 1) * np.exp(-t / 0.075)
    stick = _band(random.standard_normal(t.size), 2500, 6000) * np.exp(-t / 0.004)
    return note.velocity * (0.5 * shell + 0.8 * wires + 0.9 * stick) * np.minimum(t / 0.0006, 1.0)


def shaker(note: Note, random: np.random.Generator) -> np.ndarray:
    """A short rush of seeds."""
    t = _time(0.13)
    shape = np.minimum(t / 0.018, 1.0) ** 2 * np.exp(-np.maximum(t - 0.018, 0) / 0.024)
    return note.velocity * shape * _band(random.standard_normal(t.size), 4200, 13000)


def accordion(note: Note, random: np.random.Generator) -> np.ndarray:
    """Two reeds beating against each other, strong between 500 Hz and 4 kHz."""
    t = _time(note.seconds + 0.2)
    out = np.zeros(t.size)
    for cents in (-7.0, 6.0):
        hz = note.hz * 2 ** (cents / 1200)
        n = _harmonics(hz, 14000, 40)
        body = 1.0 + 1.5 * _bump(n * hz, 760, 380) + 1.8 * _bump(n * hz, 2500, 1100)
        body *= 1.0 / (1.0 + (430.0 / (n * hz)) ** 4)
        phases = random.uniform(0, 2 * np.pi, n.size)
        out += _partials(2 * np.pi * hz * t, body * n**-0.95, phases)
    swell = 0.85 + 0.15 * np.sin(2 * np.pi * 0.43 * t)
    return 0.3 * note.velocity * out * swell * _edges(t, note.seconds, 0.06, 0.05)


def marimba(note: Note, random: np.random.Generator) -> np.ndarray:
    """A wooden bar: fundamental, the fourth and tenth partial, and the mallet."""
    t = _time(1.1)
    long = 0.42 * (330 / note.hz) ** 0.6
    out = np.sin(2 * np.pi * note.hz * t) * np.exp(-t / long)
    out += 0.28 * np.sin(2 * np.pi * 3.98 * note.hz * t) * np.exp(-t / (0.22 * long))
    out += 0.10 * np.sin(2 * np.pi * 9.8 * note.hz * t) * np.exp(-t / (0.07 * long))
    out += 0.10 * _band(random.standard_normal(t.size), 500, 3000) * np.exp(-t / 0.006)
    return note.velocity * out * np.minimum(t / 0.001, 1.0) * np.minimum((t[-1] - t) / 0.1, 1.0)


def brass(note: Note, random: np.random.Generator) -> np.ndarray:
    """A horn that opens as it is blown: strongest between 900 Hz and 3 kHz."""
    t = _time(note.seconds + 0.25)
    vibrato = 1.0 + 0.002 * np.sin(2 * np.pi * 5.1 * t + random.uniform(0, 6)) * np.minimum(t / 0.5, 1)
    base = 2 * np.pi * np.cumsum(note.hz * vibrato) / RATE
    n = _harmonics(note.hz, 9000, 24)
    formant = 0.5 + 1.6 * _bump(n * note.hz, 1300, 700) + 0.5 * _bump(n * note.hz, 2600, 900)
    weights = formant * n**-0.75
    opened = np.minimum(t / 0.07, 1.0)
    closed = _partials(base, weights * 0.7**n)
    out = opened * (closed + (_partials(base, weights) - closed) * opened)
    return 0.35 * note.velocity * out * _edges(t, note.seconds, 0.03, 0.06)


def voice(note: Note, random: np.random.Generator) -> np.ndarray:
    """An open vowel with vibrato: formants at 800 Hz, 1.2, 2.9 and 3.6 kHz."""
    t = _time(note.seconds + 0.3)
    depth = 0.006 * np.clip((t - 0.25) / 0.4, 0, 1)
    scoop = 1.0 - 0.02 * np.exp(-t / 0.05)
    hz = note.hz * scoop * (1.0 + depth * np.sin(2 * np.pi * 5.4 * t))
    base = 2 * np.pi * np.cumsum(hz) / RATE
    n = _harmonics(note.hz, 9000, 30)
    f = n * note.hz
    formants = 0.04 + _bump(f, 800, 220) + 0.8 * _bump(f, 1200, 260)
    formants += 0.75 * _bump(f, 2900, 420) + 0.4 * _bump(f, 3600, 500)
    out = _partials(base, formants * n**-0.35)
    air = 0.010 * _band(random.standard_normal(t.size), 2500, 9000)
    return note.velocity * (out + air) * _edges(t, note.seconds, 0.07, 0.09)


def street_loop(note: Note, random: np.random.Generator) -> np.ndarray:
    """A whole small kit on one recording: a low drum (36), a rattle (38), a tin lid (42)."""
    t = _time(0.45)
    rise = np.minimum(t / 0.0008, 1.0)
    if note.pitch == 36:
        falling = 2.0 * np.pi * np.cumsum(74.0 * (1.0 + 0.8 * np.exp(-t / 0.02))) / RATE
        return note.velocity * np.sin(falling) * np.exp(-t / 0.09) * rise
    if note.pitch == 38:
        shell = 0.4 * np.sin(2.0 * np.pi * 231.0 * t) * np.exp(-t / 0.04)
        wires = _band(random.standard_normal(t.size), 900, 7000, 1) * np.exp(-t / 0.06)
        return note.velocity * (shell + 0.6 * wires) * rise
    tin = _band(random.standard_normal(t.size), 5500, 12_000) * np.exp(-t / 0.03)
    return 0.35 * note.velocity * tin * rise


@dataclass(frozen=True)
class Player:
    """How an instrument is recorded: its notes, its level, its room and its width."""

    play: Callable[[Note, np.random.Generator], np.ndarray]
    peak_db: float
    room: float
    stereo: bool
    each_new: bool = False
    """Whether no two strokes are alike; otherwise equal notes share one sound."""


PLAYERS = {
    "Bass drum": Player(bass_drum, -3.5, 0.02, False),
    "Tuba": Player(tuba, -11.0, 0.04, False),
    "Side drum": Player(side_drum, -4.0, 0.10, False, each_new=True),
    "Shaker": Player(shaker, -11.0, 0.05, True, each_new=True),
    "Accordion": Player(accordion, -16.5, 0.10, True),
    "Marimba": Player(marimba, -13.0, 0.14, True),
    "Brass chords": Player(brass, -11.0, 0.16, True),
    "Voice": Player(voice, -12.0, 0.12, False),
    "Street loop": Player(street_loop, -9.0, 0.08, True, each_new=True),
}


def perform(name: str, notes: list[Note], seconds: float) -> np.ndarray:
    """The recording of one instrument, float64 (frames, 1 or 2), at 48 kHz."""
    player = PLAYERS[name]
    random = np.random.default_rng(zlib.crc32(name.encode()))
    channels = 2 if player.stereo else 1
    out = np.zeros((channels, round(seconds * RATE)))
    known: dict[tuple[int, float, float], np.ndarray] = {}
    for note in notes:
        same = (note.pitch, round(note.seconds, 4), note.velocity)
        sound = known.get(same)
        if sound is None or player.each_new:
            sound = known[same] = player.play(note, random)
        first = round(note.start_s * RATE)
        room = out[:, first : first + sound.size]
        across = 0.5 + 0.35 * np.sin(note.pitch * 1.7) if player.stereo else 0.5
        sides = (np.sqrt(1 - across), np.sqrt(across)) if player.stereo else (1.0,)
        for c, gain in enumerate(sides):
            room[c] += gain * sound[: room.shape[1]]
    out = _in_a_room(out, player.room, random)
    return out.T * (10 ** (player.peak_db / 20) / np.abs(out).max())


def _in_a_room(dry: np.ndarray, amount: float, random: np.random.Generator) -> np.ndarray:
    """A sound, (channels, frames), with what a room adds to it."""
    from scipy.signal import butter, lfilter, sosfilt

    t = _time(0.9)
    wet = np.empty_like(dry)
    for channel, heard in zip(dry, wet, strict=True):
        tail = random.standard_normal(t.size) * np.exp(-t / 0.16) * np.minimum(t / 0.012, 1.0)
        tail = lfilter([0.35], [1, -0.65], tail)
        tail = sosfilt(butter(2, 180, "highpass", fs=RATE, output="sos"), tail)
        tail = (tail / np.sqrt((tail**2).sum())).astype(np.float32)
        heard[:] = _convolved(channel.astype(np.float32), tail)
    return dry + amount * wet


def _convolved(sound: np.ndarray, tail: np.ndarray) -> np.ndarray:
    """A sound with a tail, as long as the sound: overlap and add, in blocks that a cache holds."""
    response = fft.rfft(tail, ROOM_FRAMES)
    step = ROOM_FRAMES - tail.size + 1
    out = np.zeros(sound.size + ROOM_FRAMES, np.float32)
    for first in range(0, sound.size, step):
        block = fft.rfft(sound[first : first + step], ROOM_FRAMES)
        out[first : first + ROOM_FRAMES] += fft.irfft(block * response, ROOM_FRAMES)
    return out[: sound.size]


def write_24_bit(path: Path, samples: np.ndarray) -> None:
    """A recording, float64 (frames, channels), as a 24-bit WAV that is there whole or not at all."""
    whole = np.round(samples * 2**23).astype(np.int32) << 8
    unfinished = path.with_suffix(".part")
    soundfile.write(unfinished, whole, RATE, "PCM_24", format="WAV")
    unfinished.rename(path)
