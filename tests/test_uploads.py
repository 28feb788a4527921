"""Three hundred damaged or hostile uploads: no failure, no stray file, no dead worker."""

from __future__ import annotations

import random
import time

import numpy as np
import pytest
from conftest import sine, unfinished
from web_tools import Caller, audio, jobs_of

from pondel.core.document import Session
from pondel.web import create_app

NAMES = ["a.wav", "../../a.wav", "..\\b.wav", "ü ☃.flac", "x" * 300 + ".wav", ".wav", "c.mp3", "d"]


def nan_samples() -> np.ndarray:
    samples = sine(100, 0.2)
    samples[500] = np.nan
    return samples


def special_cases() -> list[tuple[str, bytes, str]]:
    """Name, bytes, and a word of the message each must get."""
    good = audio(sine(100, 0.2))
    return [
        ("notes.wav", b"dear diary", "not an audio file"),
        ("empty.wav", b"", "empty"),
        ("zero.wav", audio(np.zeros((0, 1), np.float32)), "zero length"),
        ("cut.wav", good[: len(good) // 2], "cut short"),
        ("nan.wav", audio(nan_samples(), subtype="FLOAT"), "not numbers"),
        ("loud.wav", audio(sine(100, 0.2) * 1e9, subtype="FLOAT"), "+60 dBFS"),
        ("eight.wav", audio(np.zeros((4800, 8), np.float32)), "8 channels"),
        ("cut.flac", audio(sine(100, 3), format="FLAC")[:9000], "cut short"),
        ("../../evil.wav", good, "leads out"),
    ]


@pytest.fixture
def place(tmp_path):
    app = create_app(tmp_path, testing=True, max_upload_mb=8)
    jobs = jobs_of(app)
    jobs.start()
    session_id = jobs.library.create(Session(name="Song"))
    yield app, Caller(app.test_client()), session_id
    jobs.stop()


def wait_until_read(jobs) -> None:
    ends = time.monotonic() + 120
    while jobs.arrivals.unfinished():
        assert time.monotonic() < ends, "the queue does not get on"
        time.sleep(0.05)


def test_each_bad_file_gets_its_message_and_the_good_one_comes_in(place):
    app, caller, session_id = place
    refused = {}
    for name, body, _ in special_cases():
        answer = caller.upload(session_id, (name, body))
        if answer.status_code != 202:
            refused[name] = answer.json["message"]
    assert caller.upload(session_id, ("good.wav", audio(sine(100, 0.2)))).status_code == 202
    wait_until_read(jobs_of(app))
    told = {a.name: a.message for a in jobs_of(app).arrivals.of_session(session_id)} | refused
    for name, _, words in special_cases():
        assert words in told[name], (name, told[name])
    parts = jobs_of(app).library.head(session_id).document.parts
    assert [part.name for part in parts] == ["Good"]
    page = caller.client.get(f"/sessions/{session_id}/intake").text
    assert "8 channels" in page and "cut short" in page


def damaged(rng: random.Random, goods: list[bytes]) -> bytes:
    body = bytearray(rng.choice(goods))
    for _ in range(rng.choice([0, 1, 4, 60])):
        body[rng.randrange(min(len(body), rng.choice([60, 4000])))] = rng.randrange(256)
    if rng.random() < 0.4:
        del body[rng.randrange(len(body)) :]
    if rng.random() < 0.1:
        body += bytes(rng.randrange(256) for _ in range(200))
    return bytes(body)


def test_three_hundred_damaged_uploads(place):
    app, caller, session_id = place
    jobs = jobs_of(app)
    rng = random.Random(300)
    tone = sine(200, 0.1)
    goods = [
        audio(tone),
        audio(tone, subtype="FLOAT"),
        audio(tone, format="FLAC"),
        audio(tone, format="AIFF"),
        audio(np.repeat(tone, 2, axis=1), format="OGG", subtype="VORBIS"),
        audio(tone, format="MP3", subtype="MPEG_LAYER_III"),
        rng.randbytes(3000),
    ]
    for _ in range(300):
        answer = caller.upload(session_id, (rng.choice(NAMES), damaged(rng, goods)))
        assert answer.status_code in (202, 400), answer.data
        assert answer.status_code == 202 or answer.json["message"]
    wait_until_read(jobs)
    left = jobs.arrivals.of_session(session_id)
    assert all(arrival.state == "failed" and arrival.message for arrival in left)
    assert not any("inside Pondel" in arrival.message for arrival in left)
    assert not unfinished(jobs.library)
    parts = jobs.library.head(session_id).document.parts
    kept = {part.file for part in parts}
    assert {f"media/{p.name}" for p in jobs.library.media.folder.iterdir()} >= kept
    caller.upload(session_id, ("last.wav", audio(sine(201, 0.1))))
    wait_until_read(jobs)
    assert jobs.library.head(session_id).document.parts[-1].name == "Last"
