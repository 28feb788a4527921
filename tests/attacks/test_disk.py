"""A disk that runs full: it is said, reading goes on, and work goes on by itself when there is room."""

from __future__ import annotations

import io
import json
import os
from itertools import pairwise
from pathlib import Path

import peewee
import pytest
from conftest import session_of, sine
from web_tools import audio, until

from attacks.servers import Server
from pondel.core.document import Session
from pondel.core.errors import DiskFull
from pondel.core.operations.parts import SetPart
from pondel.jobs.starved import Starved
from pondel.jobs.tasks import Jobs
from pondel.store.library import Library
from pondel.store.prints import Order
from pondel.store.room import is_full, written_in


def fill(folder: Path, leave_bytes: int = 0) -> Path:
    """Write a file until the disk is full but for some bytes."""
    ballast = folder / "ballast"
    with ballast.open("wb", buffering=0) as file:
        try:
            while True:
                file.write(bytes(1 << 16))
        except OSError:
            pass
        if leave_bytes:
            file.truncate(max(0, file.tell() - leave_bytes))
    return ballast


def test_arrivals_prints_and_edits_on_a_full_disk(tmp_path):
    server = Server(tmp_path / "small", disk_mb=48)
    try:
        answer = server.upload("/sessions/import", "x.zip", b"")
        assert answer[0] == 400
        disk = server.inside(server.data_dir)
        status, _ = server._ask(
            server._request("/sessions", b"name=Song", "application/x-www-form-urlencoded")
        )
        assert status == 200
        song = "/sessions/song"
        assert server.upload(f"{song}/arrivals", "one.wav", audio(sine(99, 2.0)))[0] == 202
        facts = lambda: json.loads(server.get(f"{song}/facts")[1])  # noqa: E731
        until(lambda: len(facts()["parts"]) == 1)
        assert (
            server.upload(f"{song}/arrivals", "two.wav", audio(sine(70, 40.0), subtype="PCM_16"))[0]
            == 202
        )
        ballast = fill(disk, leave_bytes=1 << 18)
        until(
            lambda: b"the disk is full" in server.get(f"{song}/intake")[1] or len(facts()["parts"]) == 2
        )
        ballast = fill(disk)
        for page in ("intake", "lanes", "moves", "hand-off", "session.json"):
            assert server.get(f"{song}/{page}")[0] == 200, page
        edit = {"op": "set part", "part": "one", "field": "fader_db", "value": -3}
        answers = [
            server.post(f"{song}/edit", {"do": {**edit, "value": -n / 10}, "base": facts()["revision"]})
            for n in range(1, 40)
        ]
        refused = [body for status, body in answers if status != 200]
        assert refused and all(b"disk is full" in body for body in refused)
        status, body = server.upload(f"{song}/arrivals", "three.wav", audio(sine(70, 60.0)))
        assert (status, b"disk is full" in body) == (507, True)
        ballast.unlink()
        until(lambda: len(facts()["parts"]) == 2, 60)
        status, _ = server.post(f"{song}/edit", {"do": edit, "base": facts()["revision"]})
        assert status == 200
        assert facts()["undo"]
    finally:
        assert server.stop() == 0


@pytest.fixture
def place(tmp_path):
    library = Library(tmp_path)
    yield library, Jobs(library, immediate=True)
    library.close()


def no_more_pages(library: Library):
    """Let SQLite itself say that the disk is full."""
    used = library.database.execute_sql("pragma page_count").fetchone()[0]
    library.database.execute_sql(f"pragma max_page_count = {used}")


def test_what_cannot_be_written_is_told_as_a_full_disk(place):
    library, _ = place
    song = library.create(session_of({"id": "a"}))
    no_more_pages(library)
    with pytest.raises(peewee.OperationalError) as told:
        for n in range(200):
            head = library.head(song)
            library.edit(song, head.id, SetPart(part="a", field="name", value=f"N{n}" * 20).apply)
    assert is_full(told.value)
    library.touch(song)
    library.measures.keep("x", "y" * 100_000)
    assert library.head(song).document.part("a")


def test_a_write_that_fails_for_want_of_room_is_a_full_disk(tmp_path):
    with (
        pytest.raises(DiskFull),
        written_in(tmp_path),
        Path("/dev/full").open("wb", buffering=0) as file,
    ):
        file.write(b"x")
    with pytest.raises(OSError) as told, written_in(tmp_path):
        (tmp_path / "no" / "such").write_bytes(b"x")
    assert not isinstance(told.value, DiskFull)


def test_an_arrival_waits_for_room_and_becomes_a_part(place, monkeypatch):
    library, jobs = place
    song = library.create(Session(name="x"))
    arrival = jobs.arrivals.receive(song, "a.wav", io.BytesIO(audio(sine(60, 1))))
    monkeypatch.setattr("pondel.core.audio.files.convert", lambda *_, **__: os.write(full, b"x"))
    full = os.open("/dev/full", os.O_WRONLY)
    jobs.intake.take_in(arrival.id)
    os.close(full)
    assert jobs.starved.names() == {f"arrival {arrival.id}"}
    assert jobs.arrivals.get(arrival.id).state in ("reading", "waiting")
    assert jobs.arrivals.upload(arrival.id).exists()
    monkeypatch.undo()
    until(lambda: jobs.starved.look() or not jobs.starved.names())
    assert [part.name for part in library.head(song).document.parts] == ["A"]


def test_a_print_waits_for_the_room_it_takes(place, monkeypatch):
    library, jobs = place
    song = library.create(Session(name="x"))
    jobs.intake.take_in(jobs.arrivals.receive(song, "a.wav", io.BytesIO(audio(sine(60, 1)))).id)
    order = jobs.prints.order(song, library.head(song).id, Order("both", "wav", "32f"))
    wanted = 2 * 48000 * 2 * 4
    assert jobs.desk.printing.print_bytes(library.head(song).document, order.order) == wanted
    full = os.open("/dev/full", os.O_WRONLY)
    monkeypatch.setattr(jobs.desk.printing, "print_to", lambda *_, **__: os.write(full, b"x"))
    jobs.orders.print(order.id)
    os.close(full)
    assert jobs.starved.names() == {f"print {order.id}"}
    monkeypatch.undo()
    until(lambda: jobs.starved.look() or not jobs.starved.names())
    assert jobs.prints.get(order.id).files == ["A.wav", "mix.wav"]


def test_what_fails_again_waits_longer(tmp_path):
    now, runs = [0.0], []
    starved = Starved(tmp_path, lambda: now[0])

    def again() -> None:
        runs.append(now[0])
        starved.add("work", 0, again)

    starved.add("work", 0, again)
    for _ in range(200):
        now[0] += 1.0
        starved.look()
    pauses = [after - before for before, after in pairwise(runs)]
    assert pauses == [2, 4, 8, 16, 32, 60, 60]
    starved.forget("work")
    assert not starved.names()
    starved.add("large", 1 << 60, again)
    now[0] += 1000
    starved.look()
    assert starved.names() == {"large"}, "there is no room for it"
