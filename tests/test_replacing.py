"""A new bounce takes the place of a recording: measured anew, with moves, zones and history kept."""

from __future__ import annotations

import io

import numpy as np
import pytest
from conftest import hits, sine
from web_tools import RATE, Caller, audio, jobs_of

from pondel.core.document import Session
from pondel.web import create_app


@pytest.fixture
def place(tmp_path):
    app = create_app(tmp_path, immediate=True, testing=True)
    caller, jobs = Caller(app.test_client()), jobs_of(app)
    song = jobs.library.create(Session(name="Song"))
    caller.upload(song, ("kick.wav", audio(hits(2.0))), ("tuba.wav", audio(sine(70, 2.0))))
    caller.edit(song, op="decide", leads="kick", gives_way="tuba", low_hz=40, high_hz=90)
    caller.edit(song, op="give way", part="tuba", leader="kick", kind="drawn duck")
    return caller, jobs, song


def replace(caller, song, part: str, *files: tuple[str, bytes]):
    data = {"file": [(io.BytesIO(body), name) for name, body in files]}
    return caller.post(f"/sessions/{song}/arrivals?replaces={part}", data=data)


def test_a_new_bounce_keeps_all_but_the_sound(place):
    caller, jobs, song = place
    before = jobs.library.head(song).document
    heard = jobs.desk.now(before).region(("tuba", "before fader"), 0, 2 * RATE)
    assert replace(caller, song, "kick", ("kick 2.wav", audio(hits(3.0, 0.25)))).status_code == 202
    now = jobs.library.head(song)
    assert now.label == "New recording of Kick: 1.00 s longer"
    assert now.document.part("kick").file != before.part("kick").file
    same = now.document.model_copy(update={"parts": before.parts})
    assert same == before and len(now.document.parts) == 2
    # Hits are those of the new bounce, and what follows them follows at once.
    assert len(jobs.desk.hits_s(now.document.part("kick"))) == 12
    fresh = jobs.desk.now(now.document).region(("tuba", "before fader"), 0, 2 * RATE)
    assert np.abs(fresh - heard).max() > 0.01
    caller.post(f"/sessions/{song}/undo")
    assert jobs.library.head(song).document == before


def test_rate_and_channels_are_looked_at_and_told(place):
    caller, jobs, song = place
    wide = np.repeat(sine(70, 2.0, rate=44100), 2, axis=1)
    replace(caller, song, "tuba", ("tuba.wav", audio(wide, rate=44100)))
    label = jobs.library.head(song).label
    assert label == "New recording of Tuba: stereo now, brought from 44.1 to 48 kHz"


def test_what_cannot_take_the_place_is_refused_in_words(place):
    caller, jobs, song = place
    before = jobs.library.head(song).document
    caller.edit(song, op="add return", name="Hall")
    sound = ("a.wav", audio(sine(70, 1.0)))
    for part, files, status, words in (
        ("hall", [sound], 400, "no recording"),
        ("nobody", [sound], 404, "no part"),
        ("kick", [sound, sound], 400, "one file"),
        ("kick", [("notes.wav", b"not audio")], 202, ""),
    ):
        answer = replace(caller, song, part, *files)
        assert answer.status_code == status and words in answer.text
    assert "not an audio file" in caller.client.get(f"/sessions/{song}/intake").text
    assert jobs.library.head(song).document.part("kick") == before.part("kick")


def test_a_bounce_for_a_part_that_is_gone_says_so(place):
    caller, jobs, song = place
    arrival = jobs.arrivals.receive(song, "late.wav", io.BytesIO(audio(sine(70, 1.0))), replaces="kick")
    caller.edit(song, op="remove part", part="kick")
    jobs.intake.take_in(arrival.id)
    assert "taken out meanwhile" in jobs.arrivals.get(arrival.id).message
