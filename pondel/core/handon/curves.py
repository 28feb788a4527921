"""Gain curves for other rooms: at 200 points a second, by their corners, and as MIDI controllers.

corners(times_s, gain_db)             # the few points between which the curve is straight
controllers(times_s, gain_db, beats)  # a MIDI file of 14-bit controllers, 0 to -24 dB
"""

from __future__ import annotations

import io
from collections.abc import Iterator, Sequence

import mido
import numpy as np

from pondel.core.beats import Beats

TICKS_A_BEAT = 960
LOWEST_DB = -24.0
HIGHEST_14_BIT = 16_383
CONTROLLER, FINE = 11, 43
"""Expression, and its fine half 32 further on (MIDI 1.0 detailed specification, table III)."""
HIT_NOTE, HIT_S = 36, 0.03
Event = tuple[int, str, dict[str, int]]
"""A tick, what happens, and its values."""
STRAIGHT_DB = 0.1
AHEAD_S, RISE_S, FALL_S = 0.005, 0.002, 0.01
"""How a key that is gated opens ahead of a hit, and shuts."""


def corners(times_s: np.ndarray, gain_db: np.ndarray, within_db: float = STRAIGHT_DB) -> np.ndarray:
    """Indices of the points that tell a curve within so many dB, straight lines between them.

    After Douglas and Peucker, "Algorithms for the reduction of the number of points required to
    represent a digitized line" (1973), with the error taken upwards and downwards.
    """
    if times_s.size < 3:
        return np.arange(times_s.size)
    kept = np.zeros(times_s.size, bool)
    kept[[0, -1]] = True
    waiting = [(0, times_s.size - 1)]
    while waiting:
        first, last = waiting.pop()
        if last - first < 2:
            continue
        inside = slice(first + 1, last)
        line = np.interp(times_s[inside], times_s[[first, last]], gain_db[[first, last]])
        off = np.abs(gain_db[inside] - line)
        at = int(off.argmax())
        if off[at] > within_db:
            kept[first + 1 + at] = True
            waiting += [(first, first + 1 + at), (first + 1 + at, last)]
    return np.flatnonzero(kept)


def as_csv(times_s: np.ndarray, columns: dict[str, np.ndarray]) -> str:
    """A table with a line of names: seconds, and gains in dB."""
    rows = np.column_stack([times_s, *columns.values()]).tolist()
    form = ",".join(["%.4f"] + ["%.3f"] * len(columns))
    return "\n".join([",".join(["time_s", *columns]), *(form % tuple(row) for row in rows), ""])


def fourteen_bits(gain_db: np.ndarray) -> np.ndarray:
    """Gains as whole numbers from 0, -24 dB or less, to 16 383, 0 dB; linear in dB."""
    share = 1.0 - np.clip(gain_db, LOWEST_DB, 0.0) / LOWEST_DB
    return np.round(share * HIGHEST_14_BIT).astype(int)


def controllers(times_s: np.ndarray, gain_db: np.ndarray, beats: Beats) -> bytes:
    """A MIDI file of a gain curve: a coarse and a fine controller wherever its value changes."""
    values = fourteen_bits(gain_db)
    changes = np.flatnonzero(np.diff(values, prepend=-1))
    ticks = _ticks(times_s[changes], beats)
    events: list[Event] = []
    for tick, value in zip(ticks.tolist(), values[changes].tolist(), strict=True):
        for control, half in ((CONTROLLER, value >> 7), (FINE, value & 127)):
            events.append((tick, "control_change", {"control": control, "value": half}))
    return _file(events, beats)


def hit_notes(times_s: np.ndarray, beats: Beats) -> bytes:
    """A MIDI file with a note for every hit."""
    begins = _ticks(times_s, beats)
    following = np.append(times_s[1:], np.inf)
    ends = np.maximum(_ticks(np.minimum(times_s + HIT_S, following), beats), begins + 1)
    events: list[Event] = []
    for begin, end in zip(begins.tolist(), ends.tolist(), strict=True):
        events.append((begin, "note_on", {"note": HIT_NOTE, "velocity": 100}))
        events.append((end, "note_off", {"note": HIT_NOTE, "velocity": 0}))
    # Where a note ends as the next begins, it ends first.
    events.sort(key=lambda one: (one[0], one[1] != "note_off"))
    return _file(events, beats)


def clicks(times_s: np.ndarray, frames: int, rate: int) -> np.ndarray:
    """A trigger track, float32 (frames,): 5 ms of 1 kHz that dies away, from each hit on."""
    t = np.arange(round(0.005 * rate)) / rate
    click = (0.9 * np.sin(2 * np.pi * 1000.0 * t + np.pi / 2) * np.exp(-t / 0.001)).astype(np.float32)
    out = np.zeros(frames, np.float32)
    for at in np.round(times_s * rate).astype(int):
        room = out[at : at + click.size]
        room[:] = click[: room.size]
    return out


def gated(sound: np.ndarray, times_s: np.ndarray, open_s: float, rate: int) -> np.ndarray:
    """A key that sounds on its hits alone, float32 (frames, channels).

    It opens within 2 ms, 5 ms ahead of a hit, stays open for `open_s` or until the next one, and shuts
    within 10 ms.
    """
    ahead, rise, fall = (round(seconds * rate) for seconds in (AHEAD_S, RISE_S, FALL_S))
    gate = np.zeros(sound.shape[0], np.float32)
    shape = np.concatenate(
        [
            np.linspace(0.0, 1.0, rise, endpoint=False),
            np.ones(ahead - rise + round(open_s * rate)),
            np.linspace(1.0, 0.0, fall, endpoint=False),
        ]
    ).astype(np.float32)
    for at in np.round(times_s * rate).astype(int) - ahead:
        room = gate[max(at, 0) : at + shape.size]
        np.maximum(room, shape[max(-at, 0) :][: room.size], out=room)
    return sound * gate[:, np.newaxis]


def _ticks(times_s: np.ndarray, beats: Beats) -> np.ndarray:
    return np.round(beats.quarters(times_s) * TICKS_A_BEAT).astype(int)


def _file(events: Sequence[Event], beats: Beats) -> bytes:
    file = mido.MidiFile(type=1, ticks_per_beat=TICKS_A_BEAT)
    tempi, notes = mido.MidiTrack(), mido.MidiTrack()
    for wait, (_, _, fields) in _timed(list(_tempi(beats))):
        tempi.append(mido.MetaMessage("set_tempo", time=wait, **fields))
    for wait, (_, what, fields) in _timed(events):
        notes.append(mido.Message(what, time=wait, **fields))
    file.tracks += [tempi, notes]
    out = io.BytesIO()
    file.save(file=out)
    return out.getvalue()


def _tempi(beats: Beats) -> Iterator[Event]:
    for change in beats.facts():
        tick = int(_ticks(np.array([change["at_s"]]), beats)[0])
        bpm = 60.0 / (change["beat_s"] * change["beat_note"] / 4.0)
        yield tick, "set_tempo", {"tempo": mido.bpm2tempo(bpm)}


def _timed(events: Sequence[Event]) -> Iterator[tuple[int, Event]]:
    """Events with the ticks since the one before."""
    before = 0
    for event in events:
        yield max(0, event[0] - before), event
        before = max(before, event[0])
