"""A dense arrangement of twelve parts, ten seconds long, synthesised: everything at once."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import soundfile

from pondel.core.document import Session
from pondel.jobs.sessions import take_file
from pondel.store.library import Library

RATE, SECONDS = 48_000, 10.0
BEAT_S = 0.5
LEADS = (("kick", "bass"), ("snare", "guitar"), ("voice", "keys"))
"""Three fights: who leads, and who gives way."""


def _time() -> np.ndarray:
    return np.arange(round(SECONDS * RATE)) / RATE


def _struck(at_s: np.ndarray, sound: np.ndarray) -> np.ndarray:
    out = np.zeros(round(SECONDS * RATE))
    for at in at_s:
        first = round(at * RATE)
        room = out[first : first + sound.size]
        room += sound[: room.size]
    return out


def _tone(hz: float, seconds: float, decay_s: float, partials: int, fall: float = 1.0) -> np.ndarray:
    t = np.arange(round(seconds * RATE)) / RATE
    wave = sum(np.sin(2 * np.pi * n * hz * t + n) / n**fall for n in range(1, partials + 1))
    ramp = np.minimum(1.0, np.minimum(t / 0.004, (seconds - t) / 0.02))
    return wave * np.exp(-t / decay_s) * ramp


def _notes(pitches: list[float], every_s: float, seconds: float, decay_s: float, partials: int):
    out = np.zeros(round(SECONDS * RATE))
    for n, at in enumerate(np.arange(0.05, SECONDS - 0.1, every_s)):
        note = _tone(pitches[n % len(pitches)], seconds, decay_s, partials)
        first = round(at * RATE)
        out[first : first + note.size] += note[: out.size - first]
    return out


def _noise(seconds: float, decay_s: float, rng: np.random.Generator, step: int = 1) -> np.ndarray:
    t = np.arange(round(seconds * RATE)) / RATE
    white = rng.normal(size=t.size)
    return np.diff(white, step, prepend=np.zeros(step)) * np.exp(-t / decay_s)


def stems() -> dict[str, tuple[str, np.ndarray]]:
    """Role and sound of each part, float64 (frames,), by name."""
    rng = np.random.default_rng(12)
    beats = np.arange(0.1, SECONDS - 0.2, BEAT_S)
    t = np.arange(round(0.35 * RATE)) / RATE
    thump = np.sin(2 * np.pi * (52 * t + 2.2 * (1 - np.exp(-t / 0.02)))) * np.exp(-t / 0.11)
    crack = _tone(190, 0.25, 0.05, 3) + 0.5 * _noise(0.25, 0.07, rng)
    held = _time()
    voice = sum(
        np.sin(2 * np.pi * n * 247 * held + 0.25 * n * np.sin(2 * np.pi * 5.2 * held)) / n
        for n in range(1, 13)
    ) * (0.55 + 0.45 * np.sin(2 * np.pi * 0.8 * held))
    pad = sum(
        np.sin(2 * np.pi * hz * (1 + d) * held + k) / 6
        for k, hz in enumerate((131, 165, 196, 262, 330, 392, 523, 659))
        for d in (0.0, 0.003)
    )
    shakes, shake = np.arange(0.1, 9.8, 0.125), _noise(0.09, 0.03, rng, 1)
    chord = sum(_notes([hz, hz * 9 / 8], 1.0, 0.95, 1.2, 10) for hz in (262, 330))
    return {
        "kick": ("kick", 0.7 * _struck(beats, thump)),
        "snare": ("snare", 0.30 * _struck(beats[1::2], crack)),
        "hats": ("hats", 0.05 * _struck(np.arange(0.1, 9.8, 0.25), _noise(0.1, 0.02, rng, 2))),
        "shaker": ("percussion", 0.04 * _struck(shakes, shake)),
        "bass": ("bass", 0.30 * _notes([55, 55, 65.4, 49], 0.25, 0.24, 0.5, 8)),
        "guitar": ("guitar", 0.10 * _notes([196, 247, 220, 294], 0.25, 0.3, 0.25, 14)),
        "second": ("guitar", 0.08 * _notes([147, 165, 220, 185], 0.5, 0.5, 0.4, 12)),
        "keys": ("keys", 0.11 * chord),
        "pad": ("pad", 0.06 * pad),
        "brass": ("brass", 0.08 * _notes([233, 311], 2.0, 0.9, 0.9, 16)),
        "lead": ("lead", 0.08 * _notes([523, 587, 659, 784], 0.5, 0.45, 0.4, 9)),
        "voice": ("voice", 0.12 * voice),
    }


def take_in(library: Library, folder: Path) -> str:
    """The arrangement as a session of a library, with two sections; its id."""
    parts = []
    for name, (role, sound) in stems().items():
        path = folder / f"{name}.wav"
        soundfile.write(path, sound.astype(np.float32), RATE, "FLOAT")
        file = take_file(library, path, RATE)
        parts.append({"id": name, "name": name.title(), "role": role, "file": file})
    sections = [
        {"id": "verse", "name": "Verse", "start_s": 0.0, "end_s": 5.0},
        {"id": "chorus", "name": "Chorus", "start_s": 5.0, "end_s": SECONDS},
    ]
    whole = {"name": "Dense", "parts": parts, "sections": sections}
    return library.create(Session.model_validate(whole), rate_known=True)
