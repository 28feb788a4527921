"""Two short pieces by the same players, mixed with room for everyone: the demo's references."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from pondel.demo.synth import RATE, Note, perform, write_24_bit

BEATS, CHORD = 4, 3
PEAK_DBFS = -1.0
TAIL_S = 1.2


@dataclass(frozen=True)
class Piece:
    """A piece: its tempo, a chord a bar as MIDI notes from its root up, and the level of each part.

    `mix` has the fader in dB and the pan of each part, from -1 to 1.
    """

    tempo_bpm: float
    chords: tuple[tuple[int, ...], ...]
    mix: dict[str, tuple[float, float]]

    @property
    def beat_s(self) -> float:
        return 60.0 / self.tempo_bpm

    @property
    def seconds(self) -> float:
        return BEATS * self.beat_s * len(self.chords) + TAIL_S


A_MINOR, F, C, G, D_MINOR, E_MINOR = (
    *((57, 60, 64), (53, 57, 60), (48, 52, 55), (55, 59, 62)),
    *((50, 53, 57), (52, 55, 59)),
)
PIECES = {
    "Harbour Steps": Piece(
        96.0,
        (D_MINOR, F, C, G),
        {
            "Bass drum": (1.0, 0.0),
            "Tuba": (-6.0, 0.0),
            "Side drum": (-2.0, 0.1),
            "Shaker": (0.0, -0.45),
            "Accordion": (-4.0, 0.3),
            "Marimba": (-8.0, -0.4),
            "Voice": (-6.5, 0.0),
        },
    ),
    "Market Row": Piece(
        116.0,
        (C, E_MINOR, A_MINOR, F),
        {
            "Bass drum": (0.0, 0.0),
            "Tuba": (-5.0, 0.0),
            "Side drum": (-1.0, -0.1),
            "Shaker": (1.0, 0.5),
            "Brass chords": (-8.0, -0.35),
            "Marimba": (-6.0, 0.45),
            "Voice": (-7.5, 0.0),
        },
    ),
}
RHYTHMS: dict[str, tuple[tuple[float, float, int, float], ...]] = {
    "Bass drum": ((0.0, 2.0, 33, 0.86), (2.0, 2.0, 33, 0.8)),
    "Side drum": ((1.0, 1.0, 50, 0.7), (3.0, 1.0, 50, 0.74)),
    "Shaker": tuple((n / 2, 0.5, 60, 0.7 if n % 2 else 0.5) for n in range(8)),
}
"""Of each bar: beat, length in beats, MIDI note and velocity."""


def play_references(folder: Path, say: Callable[[str], None] = lambda text: None) -> list[Path]:
    """Play the pieces into 24-bit stereo WAV files, unless they are there already."""
    folder.mkdir(parents=True, exist_ok=True)
    paths = []
    for name, piece in PIECES.items():
        path = folder / f"{name}.wav"
        paths.append(path)
        say(f"playing {name}, a reference")
        if path.exists():
            continue
        write_24_bit(path, mixed(piece))
    return paths


def mixed(piece: Piece) -> np.ndarray:
    """The piece, float64 (frames, 2), its highest sample at -1 dBFS."""
    total = np.zeros((round(piece.seconds * RATE), 2))
    for name, (fader_db, pan) in piece.mix.items():
        sound = perform(name, notes_of(name, piece), piece.seconds)
        angle = (pan + 1.0) * np.pi / 4.0
        gains = np.sqrt(2.0) * np.array([np.cos(angle), np.sin(angle)]) * 10 ** (fader_db / 20)
        total += sound * gains
    return total * 10 ** (PEAK_DBFS / 20) / np.abs(total).max()


def notes_of(name: str, piece: Piece) -> list[Note]:
    """What a part plays."""
    found = []
    for bar, chord in enumerate(piece.chords):
        for beat, beats, pitch, velocity in RHYTHMS.get(name) or _tuned(name, bar, chord):
            start_s = (BEATS * bar + beat) * piece.beat_s
            found.append(Note(start_s, beats * piece.beat_s, pitch, velocity))
    return sorted(found, key=lambda note: (note.start_s, note.pitch))


def _tuned(name: str, bar: int, chord: tuple[int, ...]) -> list[tuple[float, float, int, float]]:
    root = chord[0] - 12 if chord[0] >= 52 else chord[0]
    if name == "Tuba":
        return [(0.5, 0.9, root - 12, 0.72), (1.5, 0.5, root - 5, 0.66), (2.5, 1.4, root - 12, 0.72)]
    if name == "Marimba":
        return [(n / 2, 0.5, chord[n % CHORD] + 12, 0.6) for n in range(8)]
    if name == "Voice":
        return [
            (0.0, 1.8, chord[bar % CHORD] + 12, 0.75),
            (2.0, 1.8, chord[(bar + 1) % CHORD] + 12, 0.7),
        ]
    return [(0.0, 3.8, pitch, 0.6) for pitch in chord]
