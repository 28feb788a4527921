"""Recordings that are long, cut, zeroed or gone: never cut without a word, never played as silence."""

from __future__ import annotations

import os

import numpy as np
import pytest
import soundfile
from conftest import RATE, hits, sine
from web_tools import Caller, audio, jobs_of, until

from pondel.core.audio import files
from pondel.core.audio.media import FileReader
from pondel.core.document import Session
from pondel.core.errors import BadAudio, BadRecording, PondelError
from pondel.jobs import archives
from pondel.store.prints import Order
from pondel.web import create_app


@pytest.fixture
def place(tmp_path):
    app = create_app(tmp_path / "data", immediate=True, testing=True)
    caller = Caller(app.test_client())
    song = jobs_of(app).library.create(Session(name="Song"))
    caller.upload(song, ("kick.wav", audio(hits(2.0))), ("tuba.wav", audio(sine(70, 2.0))))
    return app, caller, song


def recording(app, song, part: str):
    library = jobs_of(app).library
    return library.data_dir / library.head(song).document.part(part).file


def zeroed(path):
    path.write_bytes(bytes(path.stat().st_size))


def cut(path):
    os.truncate(path, path.stat().st_size // 2)


def silenced(path):
    body = bytearray(path.read_bytes())
    body[200:] = bytes(len(body) - 200)
    path.write_bytes(body)


HARMS = {"zeroed": zeroed, "cut": cut, "silenced": silenced, "deleted": os.unlink}


@pytest.mark.parametrize("harm", HARMS)
def test_a_harmed_recording_is_named_and_never_played_as_silence(place, harm):
    app, caller, song = place
    HARMS[harm](recording(app, song, "tuba"))
    for page in ("intake", "lanes", "moves", "hand-off"):
        text = caller.client.get(f"/sessions/{song}/{page}").text
        assert "Tuba</strong>: the recording" in text, page
    heard = caller.client.get(f"/sessions/{song}/listen?hear=mix").json
    sound = caller.client.get(f"/sound/{heard['hash']}/0")
    assert sound.status_code == 400
    assert sound.json["where"] == "Tuba" and "the recording" in sound.json["message"]
    jobs = jobs_of(app)
    sides = f"/sessions/{song}/proof/sides?start_s=0&end_s=2"
    until(lambda: "data-poll" not in caller.client.get(sides).text)
    assert "the recording" in caller.client.get(sides).text
    caller.post(f"/sessions/{song}/prints", data={"what": "mix"})
    (printed,) = jobs.prints.of_session(song)
    assert printed.state == "failed" and printed.message.startswith("Tuba: the recording")
    with pytest.raises(BadRecording):
        archives.stream_archive(jobs.library, jobs.library.head(song).document)
    caller.edit(song, op="set part", part="tuba", field="mute", value=True)
    heard = caller.client.get(f"/sessions/{song}/listen?hear=mix").json
    assert caller.client.get(f"/sound/{heard['hash']}/0").status_code == 200
    assert not caller.client.get(f"/sessions/{song}/facts").json["faults"].get("kick")


def test_a_harmed_recording_that_was_never_measured_does_not_shut_the_session(tmp_path):
    app = create_app(tmp_path, immediate=True)
    caller = Caller(app.test_client())
    library = jobs_of(app).library
    song = library.create(
        Session.model_validate(
            {
                "name": "x",
                "parts": [
                    {"id": "a", "name": "A", "file": "media/00000000000000000000000000000000.wav"}
                ],
            }
        )
    )
    for page in ("intake", "lanes", "moves", "hand-off", "facts"):
        answer = caller.client.get(f"/sessions/{song}/{page}")
        assert answer.status_code == 200, page
    assert caller.edit(song, op="remove part", part="a").status_code == 200
    assert caller.client.get(f"/sessions/{song}/facts").json["faults"] == {}


def test_a_recording_put_back_is_believed_again(place):
    app, caller, song = place
    path = recording(app, song, "tuba")
    body = path.read_bytes()
    zeroed(path)
    assert "tuba" in caller.client.get(f"/sessions/{song}/facts").json["faults"]
    path.write_bytes(body)
    assert caller.client.get(f"/sessions/{song}/facts").json["faults"] == {}


def test_a_recording_cut_while_it_is_open_is_an_error(tmp_path):
    path = tmp_path / "x.wav"
    soundfile.write(path, sine(99, 4.0), RATE, "FLOAT")
    reader = FileReader(path)
    reader.read(0, 100)
    cut(path)
    with pytest.raises(BadRecording, match="cut short"):
        reader.read(3 * RATE, RATE)


def test_what_is_too_long_for_a_wav_is_written_as_rf64(tmp_path, monkeypatch):
    monkeypatch.setattr(files, "WAV_MOST_BYTES", 100_000)
    sound = np.random.default_rng(1).normal(0, 0.1, (RATE, 2)).astype("f4")
    soundfile.write(tmp_path / "a.flac", sound, RATE, "PCM_24")
    files.convert(tmp_path / "a.flac", tmp_path / "b.wav", RATE)
    info = soundfile.info(tmp_path / "b.wav")
    assert (info.format, info.frames) == ("RF64", RATE)
    for bits in files.BIT_DEPTHS:
        path = tmp_path / f"{bits}.wav"
        with files.Writer(path, RATE, 2, "wav", bits, frames=RATE) as writer:
            writer.write(sound)
        assert (soundfile.info(path).format, files.probe(path).frames) == ("RF64", RATE)
        assert np.abs(files.read(path)[0] - sound).max() < 1e-4
    with pytest.raises(BadAudio, match="AIFF holds at most 4 GiB"):
        files.Writer(tmp_path / "c.aiff", RATE, 2, "aiff", "24", frames=RATE)


@pytest.mark.parametrize(
    ("minutes", "rate", "channels", "format"),
    [(200, 48000, 2, "RF64"), (46, 192000, 2, "WAV"), (47, 192000, 2, "RF64"), (180, 48000, 2, "WAV")],
)
def test_which_lengths_need_it(minutes, rate, channels, format):
    assert files.wav_format(files.wav_bytes(minutes * 60 * rate, channels)) == format


def test_frames_that_cannot_be_read_back_are_told(tmp_path, monkeypatch):
    path = tmp_path / "x.wav"
    soundfile.write(path, sine(99, 1.0), RATE, "FLOAT")
    files.check_written(path, RATE)
    with pytest.raises(BadAudio, match="48001 frames were written and 48000 can be read back"):
        files.check_written(path, RATE + 1)
    writer = files.Writer(tmp_path / "y.wav", RATE, 1, "wav", "24")
    writer.write(sine(99, 1.0))
    monkeypatch.setattr(files.soundfile, "info", lambda _: type("Info", (), {"frames": 7}))
    with pytest.raises(BadAudio, match="7 can be read back"):
        writer.close()


def test_equal_sound_makes_equal_files(tmp_path, monkeypatch):
    sound = sine(99, 0.5)
    bodies = []
    for clock in ("2020-01-01", "2030-06-01"):
        monkeypatch.setenv("SOURCE_DATE", clock)
        path = tmp_path / f"{clock}.wav"
        with files.Writer(path, RATE, 1, "wav", "32f") as writer:
            writer.write(sound)
        body = path.read_bytes()
        at = body.find(b"PEAK")
        bodies.append(body)
        assert body[at + 12 : at + 16] == bytes(4)
    assert bodies[0] == bodies[1]


@pytest.mark.parametrize(
    ("start_s", "end_s", "words"),
    [
        (-1.0, None, "not a place"),
        (float("nan"), None, "not a place"),
        (float("inf"), None, "not a place"),
        (0.0, float("nan"), "not a place"),
        (0.0, float("inf"), "not a place"),
        (1.0, 0.5, "ends before"),
        (99.0, None, "the song ends"),
        (99.0, 120.0, "the song ends"),
    ],
)
def test_a_stretch_that_is_none_is_refused(place, tmp_path, start_s, end_s, words):
    app, _, song = place
    jobs = jobs_of(app)
    document = jobs.library.head(song).document
    with pytest.raises(PondelError, match=words):
        jobs.desk.printing.print_to(document, tmp_path, Order("mix", "wav", "24", start_s, end_s))


def test_a_print_never_goes_beyond_the_song(place, tmp_path):
    app, _, song = place
    jobs = jobs_of(app)
    document = jobs.library.head(song).document
    order = Order("mix", "wav", "24", start_s=1.0, end_s=1e9)
    (path,) = jobs.desk.printing.print_to(document, tmp_path, order)
    assert soundfile.info(path).frames == RATE
