"""The demo session, Lantern Parade: a score, a small synthesiser, and a mix to start from."""

from __future__ import annotations

from collections.abc import Callable
from importlib.resources import files
from itertools import pairwise
from pathlib import Path

import mido

from pondel.demo.synth import PLAYERS, Note, perform, write_24_bit

NAME = "Lantern Parade"
TAIL_S = 0.97
MIX: dict[str, tuple[str, float, float]] = {
    "Bass drum": ("kick", -1.0, 0.0),
    "Tuba": ("bass", -2.5, 0.0),
    "Side drum": ("snare", -2.0, 0.15),
    "Shaker": ("percussion", -2.0, -0.35),
    "Accordion": ("pad", 2.0, 0.0),
    "Marimba": ("keys", -9.0, 0.0),
    "Brass chords": ("brass", -4.0, 0.0),
    "Voice": ("lead", -9.5, 0.0),
    "Street loop": ("percussion", -13.0, 0.25),
}
"""Role, fader in dB and pan of each part in the rough mix."""
SPACES = {
    "Hall": {
        "kind": "reverb",
        "space": "hall",
        "decay_s": 1.8,
        "low_cut_hz": 250,
        "high_cut_hz": 6000,
    },
    "Echo": {
        "kind": "delay",
        "time_beats": 0.75,
        "feedback": 0.3,
        "low_cut_hz": 300,
        "high_cut_hz": 4000,
    },
}
"""What each return does, fully wet."""
SENT_DB = {"Voice": {"Hall": -16.0, "Echo": -18.0}, "Side drum": {"Hall": -18.0, "Echo": -24.0}}
"""How much of a part goes to each return, after its fader."""


def score() -> tuple[dict[str, list[Note]], list[dict], float, float]:
    """The notes of each part, the sections, the tempo in bpm and the length in seconds."""
    with files("pondel.demo").joinpath("lantern-parade.mid").open("rb") as file:
        midi = mido.MidiFile(file=file)
    tempo = next(m.tempo for m in midi.tracks[0] if m.type == "set_tempo")
    second = 1e-6 * tempo / midi.ticks_per_beat
    markers: list[tuple[float, str]] = []
    now = 0
    for message in midi.tracks[0]:
        now += message.time
        if message.type == "marker":
            markers.append((now * second, message.text))
    sections = [
        {"id": f"s{i + 1}", "name": name, "start_s": round(start, 4), "end_s": round(end, 4)}
        for i, ((start, name), (end, _)) in enumerate(pairwise(markers))
    ]
    notes = {track.name: _notes(track, second) for track in midi.tracks[1:]}
    return notes, sections, round(mido.tempo2bpm(tempo), 3), markers[-1][0] + TAIL_S


def _notes(track: mido.MidiTrack, second: float) -> list[Note]:
    open_notes: dict[int, tuple[int, int]] = {}
    notes: list[Note] = []
    now = 0
    for message in track:
        now += message.time
        if message.type == "note_on" and message.velocity:
            open_notes[message.note] = (now, message.velocity)
        elif message.type in ("note_on", "note_off") and message.note in open_notes:
            start, velocity = open_notes.pop(message.note)
            seconds = (now - start) * second
            notes.append(Note(start * second, seconds, message.note, velocity / 127))
    return sorted(notes, key=lambda note: (note.start_s, note.pitch))


def play_stems(folder: Path, say: Callable[[str], None] = lambda text: None) -> list[Path]:
    """Play the score into 24-bit WAV files, one for each part, unless they are there already."""
    folder.mkdir(parents=True, exist_ok=True)
    notes, _, _, seconds = score()
    paths = []
    for name in PLAYERS:
        path = folder / f"{name}.wav"
        paths.append(path)
        say(f"playing {name}")
        if path.exists():
            continue
        write_24_bit(path, perform(name, notes[name], seconds))
    return paths
