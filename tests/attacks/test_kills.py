"""Killed at any moment, Pondel comes up again and everything it answered is there."""

from __future__ import annotations

import io
import json
import multiprocessing
import random
import time
import zipfile
from collections import Counter
from pathlib import Path

import pytest
import soundfile
from conftest import hits, sine, unfinished
from web_tools import audio, until

from attacks.worked_to_death import work
from pondel.core.document import Session
from pondel.jobs.tasks import Jobs
from pondel.store.library import Library

KILLS = 44


def archive(seconds: float) -> bytes:
    document = {
        "name": "Packed",
        "parts": [{"id": f"p{n}", "name": f"P{n}", "file": f"audio/{n}.wav"} for n in range(3)],
    }
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as packed:
        packed.writestr("session.json", json.dumps(document))
        for n in range(3):
            packed.writestr(f"audio/{n}.wav", audio(sine(60 + n, seconds)))
    return out.getvalue()


@pytest.fixture(scope="module")
def given(tmp_path_factory):
    folder = tmp_path_factory.mktemp("given")
    (folder / "a.wav").write_bytes(audio(hits(20.0)))
    (folder / "session.zip").write_bytes(archive(20.0))
    return folder


def test_forty_kills_lose_nothing_that_was_answered(tmp_path, given, monkeypatch):
    # The server of forks imports Pondel once for all of them; it looks for it here.
    monkeypatch.setenv("PYTHONPATH", str(Path(__file__).parents[1]))
    kill_in_a_loop(tmp_path, given, seed=44)


def kill_in_a_loop(tmp_path: Path, given: Path, seed: int) -> None:
    """Start, work, kill, over and over; then look for everything that was answered."""
    data = tmp_path / "data"
    library = Library(data)
    library.create(Session(name="Song"))
    library.close()
    rng = random.Random(seed)
    processes = multiprocessing.get_context("forkserver")
    processes.set_forkserver_preload(["attacks.worked_to_death"])
    log = tmp_path / "told"
    for n in range(KILLS):
        worker = processes.Process(target=work, args=(data, given, n, log))
        worker.start()
        until(lambda n=n: log.exists() and log.read_text().count("up\n") == n + 1, 60)
        time.sleep(rng.uniform(0.0, 0.5))
        worker.kill()
        worker.join(30)
    told = Counter(line.split()[0] for line in log.read_text().splitlines())
    last = max(
        int(line.split()[1]) for line in log.read_text().splitlines() if line.startswith("edits ")
    )
    assert told["edits"] > KILLS, told
    library = Library(data)
    head = library.head("song")
    labels = [json.loads(row.document)["name"] for row in library.tables.Revision.select()]
    assert f"Edit {last}" in labels, "an edit that was answered is gone"
    jobs = Jobs(library)
    jobs.start()
    ends = time.monotonic() + 120
    while jobs.arrivals.unfinished() or any(
        one.state in ("waiting", "reading") for one in jobs.prints.of_session("song")
    ):
        assert time.monotonic() < ends, "work that was begun is not finished"
        time.sleep(0.05)
    jobs.stop()
    head = library.head("song")
    recordings = {part.file for part in head.document.parts}
    assert len(head.document.parts) >= told["received"]
    for file in recordings:
        assert soundfile.info(str(data / file)).frames == 20 * 48000
    assert not library.media.faults(head.document)
    prints = jobs.prints.of_session("song")
    assert len(prints) >= told["ordered"]
    assert all(one.state == "done" and one.files for one in prints if one.state != "failed")
    assert len([card for card in library.sessions() if card.name == "Packed"]) >= told["packed"]
    assert not unfinished(library)
    library.close()


def test_a_folder_left_by_an_import_does_not_keep_pondel_from_starting(tmp_path):
    library = Library(tmp_path)
    song = library.create(Session(name="Song"))
    arrival = Jobs(library).arrivals.receive(song, "a.wav", io.BytesIO(audio(sine(60, 0.5))))
    incoming = library.media.incoming
    (incoming / "tmpabcd").mkdir()
    (incoming / "tmpabcd" / "session.json").write_text("{}")
    (incoming / "work-dead").mkdir()
    (incoming / "work-dead" / "x.wav").write_bytes(b"half")
    (incoming / "work-dead.lock").touch()
    (incoming / "stray.part.wav").write_bytes(b"half")
    (incoming / "link").symlink_to(tmp_path)
    (library.data_dir / "prints" / "ab.part").mkdir()
    with library.media.scratch() as mine:
        mine.write_bytes(b"at work")
        jobs = Jobs(library)
        jobs.start()
        ends = time.monotonic() + 60
        while jobs.arrivals.unfinished() and time.monotonic() < ends:
            time.sleep(0.02)
        jobs.stop()
        assert mine.read_bytes() == b"at work", "what somebody is at work on was swept away"
    assert jobs.arrivals.get(arrival.id).state == "done"
    assert not unfinished(library)
    assert not (incoming / "tmpabcd").exists() and not (incoming / "work-dead").exists()
    assert (tmp_path / "pondel.db").exists()
    library.close()


def test_what_cannot_be_removed_is_set_aside_or_left(tmp_path, monkeypatch):
    library = Library(tmp_path)
    (library.media.incoming / "stuck").mkdir()
    remove = library.folder.remove

    def refuse(path):
        if path.name == "stuck":
            raise PermissionError(13, "not yours", str(path))
        remove(path)

    monkeypatch.setattr(library.folder, "remove", refuse)
    library.folder.sweep(set())
    assert [path.name.endswith("-stuck") for path in (tmp_path / "aside").iterdir()] == [True]
    (library.media.incoming / "stuck").mkdir()
    monkeypatch.setattr(library.folder, "set_aside", lambda *_: refuse(Path("stuck")))
    library.folder.sweep(set())
    assert (library.media.incoming / "stuck").exists()
    library.close()
