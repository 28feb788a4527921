"""Hits from a MIDI file: the moment of every note."""

from __future__ import annotations

import io

import mido

from pondel.core.errors import BadAudio

MOST_HITS = 100_000


def hit_times_s(data: bytes, name: str) -> list[float]:
    """Seconds at which notes begin, rising, each moment once, after the file's own tempo.

    Raises BadAudio naming the file when it is not MIDI or holds no note.
    """
    try:
        file = mido.MidiFile(file=io.BytesIO(data))
        now, times = 0.0, set()
        for message in file:
            now += message.time
            if message.type == "note_on" and message.velocity > 0:
                times.add(round(now, 4))
            if len(times) > MOST_HITS:
                raise BadAudio("more than 100 000 notes are too many to be hits", where=name)
    except (OSError, EOFError, ValueError, KeyError, IndexError, TypeError) as error:
        raise BadAudio("not a readable MIDI file", where=name) from error
    if not times:
        raise BadAudio("the MIDI file holds no note", where=name)
    return sorted(times)
