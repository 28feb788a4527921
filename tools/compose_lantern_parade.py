"""Writes the score of the demo session, `pondel/demo/lantern-parade.mid`.

Thirty bars at 104 bpm: Gathering (bars 1-8), Procession (9-20), Parade (21-30).
Run it with `make score` after changing a note.
"""

from __future__ import annotations

from pathlib import Path

import mido

TICKS = 480
BAR = 4 * TICKS
CHORDS = ("Am Am Dm E Am Am Dm E " + "Am F C G " * 3 + "F G Am Am F G C E Am Am").split()
TONES = {
    "Am": (9, 0, 4),
    "Dm": (2, 5, 9),
    "E": (4, 8, 11),
    "F": (5, 9, 0),
    "C": (0, 4, 7),
    "G": (7, 11, 2),
}
BASS = {"Am": (33, 40), "Dm": (38, 33), "E": (28, 35), "F": (29, 36), "C": (36, 31), "G": (31, 38)}
PROCESSION, PARADE, BARS = 8, 20, 30
SECTIONS = (("Gathering", 0), ("Procession", PROCESSION), ("Parade", PARADE))

# Bar, beat, MIDI note, beats: the wordless tune.
TUNE_A = "69:2 72:1 74:1 | 76:3 74:1 | 72:2 71:1 72:1 | 69:3 r:1"
TUNE_B = "76:2 79:1 77:1 | 76:2 74:2 | 72:1 74:1 76:1 72:1 | 71:3 r:1"
TUNE_C = "77:2 76:1 74:1 | 79:2 77:1 74:1 | 76:2 81:2 | 79:1 77:1 76:2"
TUNE_D = "77:1 79:1 81:2 | 83:2 79:2 | 84:2 79:1 76:1 | 80:2 76:2"
TUNE_E = "81:3 79:1 | 81:4"


def voiced(chord: str, low: int, count: int) -> list[int]:
    """The lowest `count` notes of a chord from MIDI note `low` up."""
    return [n for n in range(low, low + 36) if n % 12 in TONES[chord]][:count]


def drum(bar: int) -> list[tuple[float, int, float, int]]:
    notes = [(0, 33, 2, 112), (2, 33, 2, 104)]
    if bar >= PARADE:
        notes.append((3.5, 33, 0.5, 70))
    if bar % 8 == 7:
        notes.append((3, 33, 1, 92))
    return notes


def tuba(bar: int) -> list[tuple[float, int, float, int]]:
    root, fifth = BASS[CHORDS[bar]]
    if bar < PROCESSION:
        return [(0, root, 1.9, 88), (2, fifth, 1.8, 82)]
    if bar < PARADE:
        return [(0, root, 1.4, 92), (1.5, root, 0.5, 74), (2, fifth, 1.8, 88)]
    return [(0, root, 0.9, 98), (1, root, 0.9, 84), (2, fifth, 0.9, 94), (3, root, 0.9, 86)]


def side_drum(bar: int) -> list[tuple[float, int, float, int]]:
    if bar < 4:
        return []
    notes = [(1, 38, 0.25, 92), (3, 38, 0.25, 96)]
    if bar >= PROCESSION:
        notes += [(b, 38, 0.25, v) for b, v in ((0.5, 42), (1.75, 50), (2.5, 44), (3.5, 58))]
    if bar >= PARADE:
        notes += [(b, 38, 0.25, v) for b, v in ((0.25, 36), (2.25, 38), (3.75, 66))]
    if bar % 8 == 7:
        notes += [(2 + i / 8, 38, 0.12, 40 + 6 * i) for i in range(8) if i % 4]
    return notes


def shaker(bar: int) -> list[tuple[float, int, float, int]]:
    if bar < PROCESSION - 2:
        return []
    step = 0.25 if bar >= PARADE else 0.5
    return [(i * step, 82, step / 2, 84 if i % 2 == 0 else 56) for i in range(round(4 / step))]


def accordion(bar: int) -> list[tuple[float, int, float, int]]:
    length = 3.9 if bar < PARADE else 1.9
    starts = (0,) if bar < PARADE else (0, 2)
    return [(s, n, length, 80) for s in starts for n in voiced(CHORDS[bar], 57, 4)]


def marimba(bar: int) -> list[tuple[float, int, float, int]]:
    if bar < 2:
        return []
    up = voiced(CHORDS[bar], 64, 5)
    order = (0, 2, 1, 3, 2, 4, 3, 1) if bar % 2 else (0, 1, 2, 3, 4, 3, 2, 1)
    return [(i / 2, up[k], 0.45, 92 if i % 2 == 0 else 76) for i, k in enumerate(order)]


def brass(bar: int) -> list[tuple[float, int, float, int]]:
    if bar < PROCESSION + 4:
        return []
    chord = voiced(CHORDS[bar], 60, 4)
    starts = ((0, 1.4), (1.5, 0.4), (2, 1.8)) if bar >= PARADE else ((0, 0.9), (2.5, 1.3))
    return [(s, n, d, 86) for s, d in starts for n in chord]


def street_loop(bar: int) -> list[tuple[float, int, float, int]]:
    """A drummer at the roadside, one bar again and again: low drum 36, rattle 38, tin 42."""
    if bar < PROCESSION:
        return []
    low = [(b, 36, 0.25, v) for b, v in ((0, 104), (1.5, 84), (2.5, 92))]
    rattle = [(1, 38, 0.25, 100), (3, 38, 0.25, 104), (3.75, 38, 0.12, 52)]
    tin = [(i / 2, 42, 0.2, 78 if i % 2 else 58) for i in range(8)]
    return low + rattle + tin


def voice() -> list[tuple[float, int, float, int]]:
    tune = [TUNE_A, TUNE_B, TUNE_A, TUNE_C, TUNE_D, TUNE_E]
    notes, bar = [], PROCESSION
    for phrase in tune:
        for measure in phrase.split("|"):
            beat = 0.0
            for token in measure.split():
                pitch, beats = token.split(":")
                if pitch != "r":
                    notes.append((bar * 4 + beat, int(pitch), float(beats) * 0.96, 96))
                beat += float(beats)
            bar += 1
    return notes


def by_bars(player) -> list[tuple[float, int, float, int]]:
    return [(bar * 4 + b, n, d, v) for bar in range(BARS) for b, n, d, v in player(bar)]


def track(name: str, notes: list[tuple[float, int, float, int]], channel: int) -> mido.MidiTrack:
    events = []
    for beat, note, beats, velocity in notes:
        events.append((round(beat * TICKS), 1, note, velocity))
        events.append((round((beat + beats) * TICKS), 0, note, 0))
    out = mido.MidiTrack([mido.MetaMessage("track_name", name=name)])
    now = 0
    for at, on, note, velocity in sorted(events):
        kind = "note_on" if on else "note_off"
        out.append(mido.Message(kind, note=note, velocity=velocity, channel=channel, time=at - now))
        now = at
    return out


def main() -> None:
    score = mido.MidiFile(ticks_per_beat=TICKS)
    head = mido.MidiTrack([mido.MetaMessage("track_name", name="Lantern Parade")])
    head.append(mido.MetaMessage("set_tempo", tempo=mido.bpm2tempo(104)))
    head.append(mido.MetaMessage("time_signature", numerator=4, denominator=4))
    now = 0
    for name, bar in SECTIONS:
        head.append(mido.MetaMessage("marker", text=name, time=bar * BAR - now))
        now = bar * BAR
    head.append(mido.MetaMessage("marker", text="End", time=BARS * BAR - now))
    score.tracks.append(head)
    players = {
        "Bass drum": by_bars(drum),
        "Tuba": by_bars(tuba),
        "Side drum": by_bars(side_drum),
        "Shaker": by_bars(shaker),
        "Accordion": by_bars(accordion),
        "Marimba": by_bars(marimba),
        "Brass chords": by_bars(brass),
        "Voice": voice(),
        "Street loop": by_bars(street_loop),
    }
    for channel, (name, notes) in enumerate(players.items()):
        score.tracks.append(track(name, notes, channel))
    score.save(Path(__file__).parents[1] / "pondel" / "demo" / "lantern-parade.mid")


if __name__ == "__main__":
    main()
