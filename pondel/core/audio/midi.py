"""Hits and tempo from a MIDI file: the moment of every note, and the map of tempi and signatures."""

from __future__ import annotations

import io
import re
from dataclasses import dataclass, replace
from typing import Any

import mido

from pondel.core.beats import MOST_CHANGES, BeatChange, thinned
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
KEY_SIGNATURE, MOST_SHARPS = b"\xff\x59\x02", 7
MOST_HITS = 100_000
MOST_BYTES = 4 << 20
MOST_EVENTS = 400_000
MOST_TRACKS = 1000
SLOWEST_BPM, FASTEST_BPM = 20.0, 400.0
MOST_BEATS = 32


@dataclass(frozen=True)
class Score:
    """What a MIDI file tells: when notes begin, rising, each moment once; tempi, if it names any."""

    times_s: list[float]
    tempi: list[BeatChange]


def read_score(data: bytes, name: str) -> Score:
    """The notes of a MIDI file after its own tempo, and its map of tempi and signatures.

    Raises BadAudio naming the file when it is not MIDI or too large. Its events are counted before it
    is parsed.
    """
    if len(data) > MOST_BYTES:
        raise BadAudio("more than 4 MB are too much for a MIDI file", where=name)
    try:
        _check_events(data, name)
        file = mido.MidiFile(file=io.BytesIO(_with_known_keys(data)))
        now, times = 0.0, set()
        tempi: list[BeatChange] = []
        for message in file:
            now += message.time
            if message.type == "note_on" and message.velocity > 0:
                times.add(round(now, 4))
            elif message.type in ("set_tempo", "time_signature"):
                tempi.append(_changed(tempi, now, message))
            if len(times) > MOST_HITS:
                raise BadAudio("more than 100 000 notes are too many to be hits", where=name)
    except UNREADABLE as error:
        raise BadAudio("not a readable MIDI file", where=name) from error
    if not now <= LONGEST_S:
        raise BadAudio("more than ten hours are no song", where=name)
    return Score(sorted(times), _from_the_start(tempi))


def _with_known_keys(data: bytes) -> bytes:
    """The file with key signatures that no song has as C major: the key is not what is read."""

    def known(found: re.Match[bytes]) -> bytes:
        sharps, minor = found[1][0], found[1][1]
        is_known = (sharps <= MOST_SHARPS or sharps >= 256 - MOST_SHARPS) and minor <= 1
        return found[0] if is_known else KEY_SIGNATURE + bytes(2)

    return re.sub(re.escape(KEY_SIGNATURE) + rb"(..)", known, data, flags=re.DOTALL)


def hit_times_s(score: Score, name: str) -> list[float]:
    """The notes as hits; BadAudio where there is none."""
    if not score.times_s:
        raise BadAudio("the MIDI file holds no note", where=name)
    return score.times_s


def fault_of_tempo(score: Score) -> str | None:
    """Why a song cannot take its tempo from the file; None where it can."""
    if not score.tempi:
        return "the MIDI file tells no tempo"
    if len(score.tempi) > MOST_CHANGES:
        return f"more than {MOST_CHANGES} changes of tempo are too many"
    for one in score.tempi:
        if not SLOWEST_BPM <= one.bpm <= FASTEST_BPM:
            return f"a tempo of {one.bpm:g} bpm is not between 20 and 400"
        if not (1 <= one.beats_per_bar <= MOST_BEATS and one.beat_note <= MOST_BEATS):
            return f"a bar of {one.beats_per_bar}/{one.beat_note} cannot be counted"
    return None


def tempo_map(score: Score, name: str) -> list[BeatChange]:
    """The tempi, the first at 0 s; BadAudio where none can be told, or one that no song has."""
    fault = fault_of_tempo(score)
    if fault:
        raise BadAudio(fault, where=name)
    return score.tempi


def _changed(tempi: list[BeatChange], now: float, message: Any) -> BeatChange:
    """What holds from now on (Standard MIDI Files 1.0: 120 bpm in 4/4 until told otherwise)."""
    last = tempi[-1] if tempi else BeatChange(0.0, 120.0)
    if message.type == "set_tempo":
        return replace(last, at_s=round(now, 6), bpm=round(mido.tempo2bpm(message.tempo), 4))
    return replace(
        last, at_s=round(now, 6), beats_per_bar=message.numerator, beat_note=message.denominator
    )


def _from_the_start(tempi: list[BeatChange]) -> list[BeatChange]:
    """In order, from 0 s on; a file that names its only tempo later had 120 bpm before."""
    if tempi and tempi[0].at_s > 0.0:
        tempi = [BeatChange(0.0, 120.0), *tempi]
    return thinned(tempi)


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
