"""Hits from a MIDI file: the moment of every note."""

from __future__ import annotations

import io

import mido

from pondel.core.errors import BadAudio

UNREADABLE = (
    OSError,
    EOFError,
    ValueError,
    KeyError,
    IndexError,
    TypeError,
    ArithmeticError,
    AttributeError,
)
LONGEST_S = 36_000.0
MOST_HITS = 100_000
MOST_BYTES = 4 << 20
MOST_EVENTS = 400_000
MOST_TRACKS = 1000


def hit_times_s(data: bytes, name: str) -> list[float]:
    """Seconds at which notes begin, rising, each moment once, after the file's own tempo.

    Raises BadAudio naming the file when it is not MIDI, too large, or holds no note. Its events are
    counted before it is parsed.
    """
    if len(data) > MOST_BYTES:
        raise BadAudio("more than 4 MB are too much for a MIDI file", where=name)
    try:
        _check_events(data, name)
        file = mido.MidiFile(file=io.BytesIO(data))
        now, times = 0.0, set()
        for message in file:
            now += message.time
            if message.type == "note_on" and message.velocity > 0:
                times.add(round(now, 4))
            if len(times) > MOST_HITS:
                raise BadAudio("more than 100 000 notes are too many to be hits", where=name)
    except UNREADABLE as error:
        raise BadAudio("not a readable MIDI file", where=name) from error
    if not times:
        raise BadAudio("the MIDI file holds no note", where=name)
    if not max(times) <= LONGEST_S:
        raise BadAudio("notes after more than ten hours are no hits of a song", where=name)
    return sorted(times)


def _check_events(data: bytes, name: str) -> None:
    """BadAudio when there are more events than a song has, IndexError when the file is cut short.

    Standard MIDI Files 1.0: chunks of a name, a length and events, each a delta time and a status.
    """
    if data[:4] != b"MThd":
        raise BadAudio("not a readable MIDI file", where=name)
    at, events, tracks = 8 + int.from_bytes(data[4:8], "big"), 0, 0
    while at + 8 <= len(data):
        end = at + 8 + int.from_bytes(data[at + 4 : at + 8], "big")
        is_track = data[at : at + 4] == b"MTrk"
        at += 8
        if end > len(data):
            raise BadAudio("the MIDI file is cut short", where=name)
        if not is_track:
            at = end
            continue
        tracks += 1
        status = 0
        while at < end:
            at = _after_number(data, at)
            if data[at] & 0x80:
                status, at = data[at], at + 1
            if status == 0xFF:
                length, at = _number(data, at + 1)
                at += length
            elif status in (0xF0, 0xF7):
                length, at = _number(data, at)
                at += length
            else:
                at += 1 if status & 0xE0 == 0xC0 else 2
            events += 1
            if events > MOST_EVENTS or tracks > MOST_TRACKS:
                raise BadAudio("more than 400 000 events are too many for a song", where=name)
        at = end


def _after_number(data: bytes, at: int) -> int:
    while data[at] & 0x80:
        at += 1
    return at + 1


def _number(data: bytes, at: int) -> tuple[int, int]:
    """A number of variable length, at most four bytes, and where it ends."""
    value = 0
    for _ in range(4):
        value = value << 7 | data[at] & 0x7F
        at += 1
        if not data[at - 1] & 0x80:
            return value, at
    raise IndexError
