"""Notes of equal temperament at A4 = 440 Hz, as the trade writes and types them."""

from __future__ import annotations

import math
import re
from typing import Literal, get_args

Note = Literal["C", "C♯", "D", "E♭", "E", "F", "F♯", "G", "A♭", "A", "B♭", "B"]
NOTES: tuple[Note, ...] = get_args(Note)
A4_HZ, A4_NUMBER = 440.0, 69
SEMITONES = {"C": 0, "D": 2, "E": 4, "F": 5, "G": 7, "A": 9, "B": 11}
_TYPED = re.compile(r"^([A-Ga-g])([#♯b♭]?)(-?\d)(?:\s*([+-]\d{1,2})\s*ct)?$")


def note_name(hz: float) -> str:
    """The nearest note, with its distance in cents from 5 on."""
    number = A4_NUMBER + 12.0 * math.log2(hz / A4_HZ)
    nearest = round(number)
    cents = round((number - nearest) * 100)
    away = "" if abs(cents) < 5 else f" {'+' if cents > 0 else '−'}{abs(cents)} ct"
    return f"{NOTES[nearest % 12]}{nearest // 12 - 1}{away}"


def note_hz(text: str) -> float | None:
    """The frequency of a note as it is typed, "A1", "F#1", "Bb0 +12 ct"; None when it is none."""
    found = _TYPED.match(text.strip().replace("−", "-"))
    if found is None:
        return None
    bent = {"#": 1, "♯": 1, "b": -1, "♭": -1}.get(found[2], 0)
    number = SEMITONES[found[1].upper()] + bent + 12 * (int(found[3]) + 1)
    return A4_HZ * 2.0 ** ((number - A4_NUMBER + int(found[4] or 0) / 100.0) / 12.0)


def in_octave_from(note: Note, low_hz: float) -> float:
    """The frequency of one of NOTES in the octave that begins at `low_hz`."""
    hz = A4_HZ * 2.0 ** ((NOTES.index(note) - 9) / 12.0)
    return hz * 2.0 ** math.ceil(math.log2(low_hz / hz))
