"""Archives and MIDI files that were made to hurt: refused in words, within bounds, leaving nothing."""

from __future__ import annotations

import io
import json
import struct
import time
import zipfile

import numpy as np
import pytest
import soundfile
from conftest import sine, unfinished
from web_tools import Caller, audio, jobs_of

from pondel.core.audio import files, midi
from pondel.core.document import Session
from pondel.core.errors import BadAudio, PondelError
from pondel.jobs import archives, sessions
from pondel.store.library import Library
from pondel.web import create_app

DOCUMENT = {"name": "x", "parts": [{"id": "a", "name": "A", "file": "audio/a.wav"}]}


@pytest.fixture
def library(tmp_path):
    library = Library(tmp_path / "data")
    yield library
    library.close()


def packed(*entries: tuple[str, bytes], compress: int = zipfile.ZIP_DEFLATED) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", compress) as archive:
        for name, body in entries:
            archive.writestr(zipfile.ZipInfo(name), body, compress)
    return out.getvalue()


def good() -> bytes:
    return packed(
        ("session.json", json.dumps(DOCUMENT).encode()), ("audio/a.wav", audio(sine(99, 0.2)))
    )


def encrypted() -> bytes:
    body = bytearray(good())
    for mark, at in ((b"PK\x03\x04", 6), (b"PK\x01\x02", 8)):
        place = -1
        while (place := body.find(mark, place + 1)) >= 0:
            body[place + at] |= 1
    return bytes(body)


def corrupt() -> bytes:
    body = bytearray(good())
    at = body.find(b"audio/a.wav") + 400
    body[at : at + 40] = bytes(40)
    return bytes(body)


def bomb() -> bytes:
    head = audio(sine(99, 0.1))
    return packed(
        ("session.json", json.dumps(DOCUMENT).encode()), ("audio/a.wav", head + bytes(450 << 20))
    )


def document(**fields) -> bytes:
    return json.dumps({**DOCUMENT, **fields}).encode()


CASES = {
    "not a zip": (lambda: b"PK\x03\x04 no", "not a readable zip"),
    "cut": (lambda: good()[:-30], "not a readable zip"),
    "encrypted": (encrypted, "encrypted"),
    "corrupt": (corrupt, "not a readable zip"),
    "bomb": (bomb, "more than a recording can hold"),
    "out": (lambda: packed(("../session.json", document())), "leads out"),
    "absolute": (lambda: packed(("/etc/session.json", document())), "leads out"),
    "backslashes": (lambda: packed(("..\\..\\session.json", document())), "leads out"),
    "twice": (
        lambda: packed(("session.json", document()), ("Session.JSON", document())),
        "twice",
    ),
    "crowd": (lambda: packed(*((f"{n}.txt", b"") for n in range(5001))), "entries"),
    "long name": (lambda: packed(("x" * 500, b"")), "too long a name"),
    "no document": (lambda: packed(("audio/a.wav", b"x")), "no session.json"),
    "large document": (
        lambda: packed(("session.json", b" " * (33 << 20))),
        "its session.json is too large",
    ),
    "missing audio": (lambda: packed(("session.json", document())), "missing in the archive"),
    "audio outside": (
        lambda: packed(
            ("session.json", document(parts=[{"id": "a", "name": "A", "file": "../../a.wav"}]))
        ),
        "leads out",
    ),
    "deep document": (lambda: packed(("session.json", b"[" * 90_000)), "nested"),
    "not audio": (
        lambda: packed(("session.json", document()), ("audio/a.wav", b"dear diary")),
        "not an audio file",
    ),
}


@pytest.mark.parametrize("case", CASES)
def test_a_hostile_archive_is_refused_in_words_and_leaves_nothing(library, tmp_path, case):
    make, words = CASES[case]
    path = tmp_path / "x.zip"
    path.write_bytes(make())
    with pytest.raises(PondelError) as told:
        sessions.import_archive(library, path)
    assert words in told.value.message
    assert library.sessions() == []
    assert not unfinished(library)


def test_the_good_one_comes_in_and_the_page_refuses_the_others(tmp_path):
    caller = Caller((app := create_app(tmp_path, immediate=True)).test_client())
    for body, status in ((good(), 302), (encrypted(), 400), (corrupt(), 400)):
        data = {"file": [(io.BytesIO(body), "x.zip")]}
        assert caller.post("/sessions/import", data=data).status_code == status
    assert [card.parts for card in jobs_of(app).library.sessions()] == [1]
    assert not unfinished(jobs_of(app).library)


def test_a_download_leaves_no_copy_however_it_ends(tmp_path):
    app = create_app(tmp_path / "data", immediate=True)
    caller = Caller(app.test_client())
    library = jobs_of(app).library
    song = library.create(Session(name="鼓 \u201cGröße\u201d"))
    caller.upload(
        song, ("a.wav", audio(sine(99, 3.0), subtype="FLOAT")), ("b.wav", audio(sine(70, 3.0)))
    )
    whole = caller.client.get(f"/sessions/{song}/archive.zip")
    assert "filename*=UTF-8''%E9%BC%93%20" in whole.headers["Content-Disposition"]
    whole.headers["Content-Disposition"].encode("latin-1")
    with zipfile.ZipFile(io.BytesIO(whole.data)) as archive:
        assert archive.testzip() is None
        assert sorted(archive.namelist()) == ["audio/a.wav", "audio/b.flac", "session.json"]
    assert not unfinished(library)
    stopped = archives.stream_archive(library, library.head(song).document)
    next(stopped)
    assert next(block for block in stopped if len(block) > 1000)
    assert unfinished(library)
    stopped.close()
    assert not unfinished(library)


FORMATS = [
    ("WAV", "PCM_24"),
    ("RF64", "FLOAT"),
    ("AIFF", "PCM_16"),
    ("FLAC", "PCM_24"),
    ("OGG", "VORBIS"),
    ("OGG", "OPUS"),
    ("MP3", "MPEG_LAYER_III"),
]


@pytest.mark.parametrize(("format", "subtype"), FORMATS)
def test_a_file_cut_anywhere_is_told_in_every_format_the_page_promises(tmp_path, format, subtype):
    sound = np.random.default_rng(3).normal(0, 0.1, (48000, 2)).astype("f4")
    whole, cut = tmp_path / "whole", tmp_path / "cut"
    soundfile.write(whole, sound, 48000, subtype, format=format)
    files.convert(whole, tmp_path / "out.wav", 48000)
    body = whole.read_bytes()
    for n in range(1, 30):
        cut.write_bytes(body[: len(body) - 1 - len(body) * n // 31])
        with pytest.raises(BadAudio):
            files.convert(cut, tmp_path / "out.wav", 48000)


@pytest.mark.parametrize(
    ("format", "subtype"), [("AU", "PCM_16"), ("W64", "PCM_16"), ("CAF", "PCM_16")]
)
def test_only_the_formats_the_page_promises_come_in(tmp_path, format, subtype):
    path = tmp_path / "x.wav"
    soundfile.write(path, sine(99, 0.2), 48000, subtype, format=format)
    with pytest.raises(BadAudio, match="not an audio file Pondel can read"):
        files.probe(path)


def song_of(*events: bytes, tracks: int = 1) -> bytes:
    body = b"".join(events)
    track = b"MTrk" + struct.pack(">I", len(body)) + body
    return b"MThd" + struct.pack(">IHHH", 6, 1, tracks, 96) + track * tracks


NOTE = b"\x01\x90\x40\x40"
END = b"\x00\xff\x2f\x00"


def test_midi_is_bounded_before_it_is_parsed(monkeypatch):
    assert midi.read_score(song_of(NOTE, NOTE, END), "x").times_s == pytest.approx(
        [0.0052, 0.0104], abs=1e-3
    )
    monkeypatch.setattr(midi.mido, "MidiFile", lambda **_: pytest.fail("it was parsed"))
    for body in (
        song_of(NOTE * 500_000),
        song_of(b"\x01\x40\x40" * 600_000),
        b"MThd" + bytes(5 << 20),
        song_of(END, tracks=1200),
        b"RIFF nothing",
        song_of(NOTE, END)[:-3],
    ):
        began = time.process_time()
        with pytest.raises(BadAudio):
            midi.hit_times_s(midi.read_score(body, "x"), "x")
        assert time.process_time() - began < 5


@pytest.mark.parametrize(("sharps", "minor"), [(12, 0), (0, 7), (250, 1), (128, 200)])
def test_midi_in_a_key_that_nobody_knows_comes_in_without_it(sharps, minor):
    events = bytes([0, 0xFF, 0x59, 2, sharps, minor, 0, 0x90, 36, 90, 0, 0xFF, 0x2F, 0])
    track = b"MTrk" + len(events).to_bytes(4, "big") + events
    data = b"MThd" + bytes([0, 0, 0, 6, 0, 0, 0, 1, 0, 96]) + track
    assert midi.read_score(data, "x.mid").times_s == [0.0]


def test_no_decoder_sees_what_does_not_begin_as_a_promised_format(tmp_path, monkeypatch):
    monkeypatch.setattr("soundfile.info", lambda *_: pytest.fail("a decoder saw it"))
    for head in (
        b".snd" + bytes(60),
        b"RIFF\0\0\0\0AVI ",
        b"FORM\0\0\0\08SVX",
        b"riff" + bytes(60),
        b"\xff",
    ):
        (tmp_path / "x.wav").write_bytes(head)
        with pytest.raises(BadAudio, match="not an audio file"):
            files.probe(tmp_path / "x.wav")


def test_midi_with_strange_numbers_is_refused_not_a_failure():
    for body in (
        b"MThd" + struct.pack(">IHHH", 6, 0, 1, 0) + song_of(NOTE, END)[14:],
        song_of(b"\x00\xff\x51\x03\x00\x00\x00", b"\xff\xff\xff\x7f\x90\x40\x40", END),
        song_of(*[b"\xff\xff\xff\x7f\x90\x40\x40"] * 400, END),
        song_of(b"\x00\xff\x51\xff\xff\xff\xff\x7f"),
    ):
        try:
            assert all(0 <= t < 36_000 for t in midi.read_score(body, "x").times_s)
        except BadAudio as error:
            assert error.message
