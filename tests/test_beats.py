"""Beats and bars over changes of tempo and signature, in closed form, and from a MIDI file."""

from __future__ import annotations

import io

import mido
import numpy as np
import pytest
from conftest import RATE, session_of

from pondel.core.audio import midi
from pondel.core.audio.media import ArrayMedia
from pondel.core.beats import BeatChange, Beats, steady, thinned
from pondel.core.engine import render
from pondel.core.errors import BadAudio, PondelError
from pondel.core.operations import parse_operation

WALTZ = BeatChange(8.0, 90.0, 3)
MAP = Beats([BeatChange(0.0, 120.0), WALTZ, BeatChange(12.0, 60.0, 3), BeatChange(20.0, 120.0, 7, 8)])


def test_quarters_and_seconds_over_changes_are_each_other_turned_round():
    # 8 s at 120, then 4 s at 90, then 8 s at 60, then 120 again.
    known = {0.0: 0.0, 8.0: 16.0, 12.0: 22.0, 20.0: 30.0, 21.0: 32.0}
    at_s, quarters = np.array(list(known)), np.array(list(known.values()))
    assert np.allclose(MAP.quarters(at_s), quarters)
    assert np.allclose(MAP.seconds(quarters), at_s)
    assert MAP.bpm_at(7.999) == 120 and MAP.bpm_at(8.0) == 90 and MAP.bpm_at(1e6) == 120


def test_bars_go_on_over_a_tempo_and_begin_anew_with_a_signature():
    assert MAP.bar_at(0.0) == 1 and MAP.bar_at(8.0) == 5
    assert MAP.bar_at(10.0) == pytest.approx(6)  # three quarters at 90
    assert MAP.bar_at(12.0) == pytest.approx(7) and MAP.bar_at(15.0) == pytest.approx(8)
    # 8 s at 60 are two bars and two thirds: the next bar begins with the signature.
    assert MAP.bar_at(20.0) == 10
    assert MAP.bar_s_at(20.0) == pytest.approx(7 * 0.25)
    for bar in (1, 4, 5, 6, 8, 10, 12):
        assert MAP.bar_at(MAP.second_of_bar(bar)) == pytest.approx(bar)


def test_changes_that_change_nothing_are_let_go_and_the_last_of_several_holds():
    rows = [BeatChange(0, 120), BeatChange(4, 120), BeatChange(8, 90), BeatChange(8, 100)]
    assert thinned(rows) == [BeatChange(0, 120), BeatChange(8, 100)]
    assert thinned([BeatChange(0, 120), BeatChange(8, 90), BeatChange(8, 120)]) == [BeatChange(0, 120)]


def test_one_tempo_is_the_plain_grid():
    plain = steady(104.0)
    assert plain.bar_at(8 * 4 * 60 / 104) == pytest.approx(9)
    whole = {"at_s": 0.0, "beat_s": 60 / 104, "beats_per_bar": 4, "beat_note": 4, "bar": 1.0}
    assert plain.facts() == [whole]


def file_of(*messages) -> bytes:
    """A MIDI file of 480 ticks a quarter with these messages, each (ticks, message)."""
    file, track = mido.MidiFile(), mido.MidiTrack()
    for ticks, message in messages:
        track.append(message.copy(time=ticks))
    file.tracks.append(track)
    body = io.BytesIO()
    file.save(file=body)
    return body.getvalue()


def tempo(bpm: float) -> mido.MetaMessage:
    return mido.MetaMessage("set_tempo", tempo=mido.bpm2tempo(bpm))


def bar(count: int, note: int) -> mido.MetaMessage:
    return mido.MetaMessage("time_signature", numerator=count, denominator=note)


NOTE = mido.Message("note_on", note=36, velocity=90)


def test_a_midi_file_brings_its_map_and_notes_follow_it():
    # Four quarters at 100, then 3/4 at 50.
    begins, goes_on = [(0, tempo(100)), (0, bar(4, 4))], [(0, tempo(50)), (0, bar(3, 4)), (480, NOTE)]
    score = midi.read_score(file_of(*begins, (1920, NOTE), *goes_on), "song.mid")
    assert score.times_s == pytest.approx([2.4, 3.6])
    first, second = midi.tempo_map(score, "song.mid")
    assert (first.at_s, first.bpm, first.signature) == (0.0, pytest.approx(100, abs=1e-3), (4, 4))
    assert (second.at_s, second.bpm, second.signature) == (2.4, pytest.approx(50, abs=1e-3), (3, 4))


def test_a_tempo_named_later_was_120_before():
    score = midi.read_score(file_of((1920, tempo(60)), (0, NOTE)), "x")
    assert [(one.at_s, one.bpm) for one in score.tempi] == [(0.0, 120.0), (2.0, pytest.approx(60))]


@pytest.mark.parametrize(
    ("body", "words"),
    [
        (file_of((0, NOTE)), "tells no tempo"),
        (file_of((0, tempo(10)), (0, NOTE)), "10 bpm"),
        (file_of((0, bar(64, 4)), (0, NOTE)), "64/4"),
    ],
)
def test_a_map_that_no_song_has_is_refused_in_words(body, words):
    with pytest.raises(BadAudio, match=words):
        midi.tempo_map(midi.read_score(body, "song.mid"), "song.mid")


def give(document, *rows):
    return parse_operation({"op": "give tempo", "tempo": list(rows)}).apply(document).document


def test_a_tempo_is_given_let_go_and_refused_when_it_does_not_rise():
    document = session_of({"id": "a"})
    told = give(document, {"at_s": 0, "tempo_bpm": 100}, {"at_s": 9.6, "tempo_bpm": 80})
    assert (told.tempo_bpm, told.tempo_from) == (100, "midi")
    assert told.beats().quarters(np.array([12.6]))[0] == pytest.approx(16 + 4)
    plain = parse_operation({"op": "one tempo"}).apply(told).document
    assert plain.tempo_changes == [] and plain.tempo_bpm == 100
    with pytest.raises(PondelError, match="follow one another"):
        give(document, {"at_s": 0, "tempo_bpm": 100}, {"at_s": 0, "tempo_bpm": 80})


@pytest.mark.parametrize("start_s", [0.0, 3.3])
def test_a_drawn_duck_on_the_beat_follows_the_map(start_s):
    move = {
        "id": "m",
        "kind": "drawn duck",
        "trigger": "beats",
        "every_beats": 1,
        "length_beats": 0.25,
        "depth_db": 12,
        "ramp_ms": 0.5,
        "points": [{"at": 0, "deep": 1}, {"at": 1, "deep": 1}],
    }
    session = session_of({"id": "part", "moves": [move]})
    session = give(session, {"at_s": 0, "tempo_bpm": 120}, {"at_s": 2.0, "tempo_bpm": 60})
    media = ArrayMedia({"part": np.ones((8 * RATE, 1), np.float32)})
    start = round(start_s * RATE)
    sound = render.region(session, media, ("part", "before fader"), start, 3 * RATE)[:, 0]
    at_s = (np.arange(sound.size) + start) / RATE
    into = np.where(at_s < 2.0, 2.0 * at_s, 4.0 + (at_s - 2.0)) % 1.0
    assert np.allclose(sound[(into > 0.01) & (into < 0.24)], 10 ** (-12 / 20), atol=1e-3)
    assert np.allclose(sound[(into > 0.26) & (into < 0.99)], 1.0, atol=1e-3)


def test_a_tail_trim_in_beats_is_as_long_as_the_beats_are_there():
    move = {"id": "m", "kind": "tail trim", "end_ms": None, "end_beats": 0.5, "fade_ms": 10}
    part = {"id": "part", "moves": [{**move, "hits_of": "part"}], "hits": {"midi_s": [0.0, 4.0]}}
    session = give(session_of(part), {"at_s": 0, "tempo_bpm": 120}, {"at_s": 2.0, "tempo_bpm": 60})
    media = ArrayMedia({"part": np.ones((6 * RATE, 1), np.float32)})
    sound = render.region(session, media, ("part", "before fader"), 0, 6 * RATE)[:, 0]
    at_s = np.array([0.2, 0.27, 4.45, 4.52])
    assert (sound[np.round(at_s * RATE).astype(int)] > 0.5).tolist() == [True, False, True, False]
