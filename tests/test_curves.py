"""Curves for other rooms, each applied by means of its own and compared with the sound."""

from __future__ import annotations

import itertools

import mido
import numpy as np
import pytest
import soundfile
from conftest import hits, sine
from scipy.signal import fftconvolve
from web_tools import audio, jobs_of

from pondel.core.audio.midi import read_score
from pondel.core.beats import BeatChange, Beats, steady
from pondel.core.engine.render import region
from pondel.core.handon import curves
from pondel.jobs.printing import CURVES
from pondel.store.prints import Order

RATE = 48000
rng = np.random.default_rng(8)
STEMS = {
    "kick.wav": audio(hits(4.0)),
    "tuba.wav": audio(
        np.repeat(sine(62, 4, -14), 2, axis=1) + 0.02 * rng.standard_normal((4 * RATE, 2))
    ),
}


@pytest.fixture
def song(filled):
    return filled[1]


@pytest.fixture
def handed_on(app, song, caller, tmp_path):
    """Writes the curves of the session with some moves on the tuba: their folder, and the document."""

    def work(*moves):
        for move in moves:
            assert caller.edit(song, part="tuba", **move).status_code == 200
        document = jobs_of(app).library.head(song).document
        jobs_of(app).desk.printing.print_to(document, tmp_path, Order(CURVES, "wav", "24"))
        return tmp_path, document

    return work


def tuba(app, document, moves=None):
    """The tuba before its fader; with `moves` of its own."""
    data = [] if moves is None else moves
    part = document.part("tuba").model_copy(update={"moves": data})
    parts = [part if one.id == "tuba" else one for one in document.parts]
    alone = document.model_copy(update={"parts": parts})
    return region(alone, jobs_of(app).desk.media, ("tuba", "before fader"), 0, 4 * RATE)


DUCK = {"op": "add move", "kind": "compressor"}
VALUES = {
    "key": {"source": "kick"},
    "threshold_db": -30,
    "makeup_db": 1.5,
    "mix": 0.8,
    "look_ahead_ms": 2,
}


def test_the_gain_makes_of_the_source_what_the_duck_makes_of_it(app, handed_on):
    folder, document = handed_on({**DUCK, "values": VALUES})
    gain, rate = soundfile.read(folder / "Tuba 1 Compressor gain.wav")
    assert rate == RATE and gain.min() < 0.7
    source, ducked = tuba(app, document), tuba(app, document, document.part("tuba").moves)
    off = source * gain[:, np.newaxis] - ducked
    assert 20 * np.log10(np.abs(off).max() + 1e-12) < -80


def test_the_table_and_its_corners_tell_the_same_curve(handed_on):
    folder, _ = handed_on({**DUCK, "values": VALUES})
    gain_db = 20 * np.log10(soundfile.read(folder / "Tuba 1 Compressor gain.wav")[0])
    table = np.genfromtxt(folder / "Tuba 1 Compressor gain.csv", delimiter=",", names=True)
    assert np.allclose(np.diff(table["time_s"]), 0.005, atol=1e-4)
    assert np.allclose(table["gain_db"], gain_db[::240], atol=1e-3)
    few = np.genfromtxt(folder / "Tuba 1 Compressor corners.csv", delimiter=",", names=True)
    line = np.interp(table["time_s"], few["time_s"], few["gain_db"])
    assert few.size < table.size / 4 and np.abs(line - table["gain_db"]).max() < 0.11


def test_controllers_give_the_curve_back_within_their_steps(handed_on):
    folder, _ = handed_on({**DUCK, "values": VALUES})
    table = np.genfromtxt(folder / "Tuba 1 Compressor gain.csv", delimiter=",", names=True)
    file = mido.MidiFile(folder / "Tuba 1 Compressor gain.mid")
    assert file.ticks_per_beat == 960
    now, halves, told = 0.0, {11: 0, 43: 0}, []
    for message in file:
        now += message.time
        if message.type == "control_change":
            halves[message.control] = message.value
            told.append((now, -24 + 24 * (halves[11] * 128 + halves[43]) / 16383))
    times, values = np.array(told)[1::2].T
    heard = values[np.searchsorted(times, table["time_s"] + 1e-3, side="right") - 1]
    assert np.abs(heard - np.clip(table["gain_db"], -24, 0)).max() < 0.002 + 0.02


def test_an_impulse_response_makes_of_the_source_what_the_eq_makes_of_it(app, handed_on):
    values = {
        "bands": [{"hz": 90, "gain_db": -6, "q": 2}, {"shape": "high shelf", "hz": 3000, "gain_db": 4}]
    }
    folder, document = handed_on(
        {"op": "add move", "kind": "eq", "values": {**values, "level_match": True}},
        {
            "op": "add move",
            "kind": "eq",
            "values": {"bands": [{"hz": 500, "gain_db": 3, "placement": "middle"}]},
        },
    )
    response, _ = soundfile.read(folder / "Tuba 1 EQ impulse.wav")
    source = tuba(app, document)
    treated = tuba(app, document, document.part("tuba").moves[:1])
    convolved = np.stack(
        [fftconvolve(source[:, c], response[:, c])[: 4 * RATE] for c in (0, 1)], axis=1
    )
    assert 20 * np.log10(np.abs(convolved - treated).max() + 1e-12) < -80
    # The middle alone is no matter for one response a channel.
    assert not (folder / "Tuba 2 EQ impulse.wav").exists()


def test_hits_come_back_from_midi_and_from_clicks(app, handed_on):
    folder, document = handed_on({**DUCK, "values": VALUES})
    true = jobs_of(app).desk.hits_s(document.part("kick"))
    score = read_score((folder / "Kick hits.mid").read_bytes(), "hits")
    assert np.abs(np.array(score.times_s) - true).max() < 0.001
    track = soundfile.read(folder / "Kick clicks.wav")[0]
    begins = np.flatnonzero((np.abs(track[1:]) > 0.5) & (np.abs(track[:-1]) < 1e-6)) + 1
    assert np.abs(begins / RATE - true[true > 0]).max() < 0.001


def test_a_gated_key_is_the_leader_where_it_is_struck_and_silence_elsewhere(app, handed_on):
    folder, document = handed_on({**DUCK, "values": VALUES})
    true = jobs_of(app).desk.hits_s(document.part("kick"))
    key, _ = soundfile.read(folder / "Kick gated key.wav", always_2d=True)
    kick = region(document, jobs_of(app).desk.media, ("kick", "source"), 0, key.shape[0])
    for at_s, after_s in itertools.pairwise(true):
        at = round(at_s * RATE)
        assert np.allclose(key[at : at + RATE // 20], kick[at : at + RATE // 20], atol=1e-6)
        assert not np.abs(
            key[round(after_s * RATE) - RATE // 50 : round(after_s * RATE) - RATE // 100]
        ).any()
    # No step at its edges: nothing moves further in a frame than the sound itself does.
    assert np.abs(np.diff(key, axis=0)).max() <= np.abs(np.diff(kick, axis=0)).max() + 0.01


def test_a_key_that_is_struck_again_while_open_stays_open():
    sound = np.ones((RATE, 1), np.float32)
    gated = curves.gated(sound, np.array([0.0, 0.2, 0.25]), 0.1, RATE)[:, 0]
    assert gated[0] == 1.0 and not gated[round(0.12 * RATE) : round(0.19 * RATE)].any()
    assert np.all(gated[round(0.2 * RATE) : round(0.345 * RATE)] == 1.0)
    assert not gated[round(0.36 * RATE) :].any()


CHANGING = Beats([BeatChange(0, 104), BeatChange(2.3, 81.5, 3), BeatChange(5, 140)])


@pytest.mark.parametrize("beats", [steady(120), steady(97.3), CHANGING])
def test_hits_are_right_at_every_tempo(beats):
    true = np.sort(rng.uniform(0.1, 9.0, 40))
    true = true[np.diff(true, prepend=-1) > 0.01]
    found = read_score(curves.hit_notes(true, beats), "hits").times_s
    assert np.abs(np.array(found) - true).max() < 0.001


def test_fourteen_bits_are_linear_in_decibels():
    assert curves.fourteen_bits(np.array([0.0, -12.0, -24.0, -60.0, 3.0])).tolist() == [
        16383,
        8192,
        0,
        0,
        16383,
    ]


def test_a_straight_line_has_two_corners():
    times = np.arange(100) / 200
    assert curves.corners(times, -3.0 * times).tolist() == [0, 99]
    bent = np.where(times < 0.25, -12 * times, -3.0)
    assert curves.corners(times, bent).tolist() == [0, 50, 99]
