"""Workers in processes of their own, on a real Redis server where one is installed."""

from __future__ import annotations

import logging
import os
import pickle
import shutil
import signal
import socket
import subprocess
import sys
import threading
from contextlib import closing
from http.client import HTTPConnection

import pytest
import redis
import soundfile
import waitress
from click.testing import CliRunner
from conftest import RATE, hits, session_of
from moves_tools import noise
from web_tools import jobs_of, until

from pondel.cli import main
from pondel.core.errors import PondelError
from pondel.jobs.queue import OncePerTrouble
from pondel.jobs.tasks import Jobs
from pondel.store.arrivals import READING, WAITING
from pondel.store.folder import DataFolder
from pondel.store.library import Library
from pondel.store.prints import Order
from pondel.web import create_app
from pondel.web.serve import proxy, trusting

needs_redis = pytest.mark.skipif(shutil.which("redis-server") is None, reason="no redis-server here")


def answers(port: int) -> bool:
    with socket.socket() as probe:
        return probe.connect_ex(("127.0.0.1", port)) == 0


@pytest.fixture
def redis_url(tmp_path, monkeypatch):
    """The address of a Redis server of this test."""
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    command = ["redis-server", "--port", str(port), "--save", "", "--dir", str(tmp_path)]
    with subprocess.Popen(command, stdout=subprocess.DEVNULL) as server:
        until(lambda: answers(port))
        monkeypatch.setenv("PONDEL_REDIS_URL", f"redis://127.0.0.1:{port}")
        yield
        server.terminate()


@pytest.fixture
def serving(redis_url, tmp_path):
    """The jobs of a server that leaves files and prints to others, and its session."""
    library = Library(tmp_path / "data")
    song = library.create(session_of(), rate_known=True)
    jobs = Jobs(library, workers=0)
    jobs.start()
    yield jobs, song
    jobs.stop()
    library.close()


def working(data_dir) -> subprocess.Popen:
    """A worker in a process of its own."""
    return subprocess.Popen([sys.executable, "-m", "pondel", "work", "--data", str(data_dir)])


def handed_in(jobs, song, path):
    with path.open("rb") as file:
        arrival = jobs.arrivals.receive(song, path.name, file)
    jobs.intake.take_in(arrival.id)
    return arrival


def parts(jobs, song):
    return jobs.library.head(song).document.parts


@needs_redis
def test_a_worker_takes_files_in_and_prints_and_ends_when_it_is_told(serving, tmp_path):
    jobs, song = serving
    soundfile.write(tmp_path / "drum.wav", hits(4.0), RATE)
    arrival = handed_in(jobs, song, tmp_path / "drum.wav")
    assert jobs.arrivals.get(arrival.id).state == WAITING
    worker = working(jobs.library.data_dir)
    until(lambda: len(parts(jobs, song)) == 1)
    order = jobs.prints.order(song, jobs.library.head(song).id, Order("mix", "wav", "24"))
    jobs.orders.print(order.id)
    until(lambda: jobs.prints.get(order.id).state == "done")
    assert jobs.prints.get(order.id).files
    worker.send_signal(signal.SIGTERM)
    assert worker.wait(30) == 0


@needs_redis
def test_what_others_put_into_the_queue_is_never_unpacked(serving, tmp_path):
    jobs, song = serving

    class Hostile:
        def __reduce__(self):
            return os.mkdir, (str(tmp_path / "owned"),)

    jobs.queue.storage.enqueue(pickle.dumps(Hostile()))
    jobs.queue.storage.enqueue(pickle.dumps(Hostile()) + b":" + b"0" * 40)
    worker = working(jobs.library.data_dir)
    soundfile.write(tmp_path / "drum.wav", hits(2.0), RATE)
    handed_in(jobs, song, tmp_path / "drum.wav")
    until(lambda: len(parts(jobs, song)) == 1)
    assert not (tmp_path / "owned").exists()
    worker.terminate()
    assert worker.wait(30) == 0


@needs_redis
def test_what_was_noted_while_the_queue_was_emptied_or_away_is_taken_up_again(
    serving, tmp_path, monkeypatch
):
    jobs, song = serving
    assert not jobs.has_workers()
    monkeypatch.setattr("pondel.jobs.tasks.QUEUE_AGAIN_S", 0.2)
    sound = tmp_path / "drum.wav"
    soundfile.write(sound, hits(2.0), RATE)
    arrival = handed_in(jobs, song, sound)
    jobs.queue.storage.conn.flushall()
    with monkeypatch.context() as away:
        away.setattr(jobs.queue.storage, "conn", redis.Redis(port=1))
        away.setattr(jobs.queue.storage, "enqueue", lambda *_, **__: jobs.queue.storage.conn.ping())
        order = jobs.prints.order(song, jobs.library.head(song).id, Order("mix", "wav", "24"))
        jobs.orders.print(order.id)
    assert jobs.arrivals.get(arrival.id).state == jobs.prints.get(order.id).state == WAITING
    worker = working(jobs.library.data_dir)
    until(jobs.has_workers)
    until(lambda: len(parts(jobs, song)) == 1, seconds=60)
    until(lambda: jobs.prints.get(order.id).state not in (WAITING, READING), seconds=60)
    worker.terminate()
    assert worker.wait(30) == 0 and not jobs.has_workers()


def test_the_same_trouble_with_the_queue_is_told_once():
    told = OncePerTrouble()

    def record(error: Exception | None) -> bool:
        info = (type(error), error, None) if error else None
        return told.filter(logging.LogRecord("huey", 40, "", 0, "Error reading", (), info))

    away = redis.ConnectionError("refused")
    assert [record(one) for one in (away, away, ValueError("sig"), away, None)] == [
        True,
        False,
        True,
        True,
        True,
    ]


def test_files_become_parts_in_the_order_in_which_they_were_handed_in(tmp_path):
    library = Library(tmp_path / "data")
    jobs = Jobs(library, workers=0)
    song = library.create(session_of(), rate_known=True)
    arrivals = []
    for n, name in enumerate(("b kick", "a tuba", "c horn")):
        soundfile.write(tmp_path / f"{name}.wav", hits(1.0 + n), RATE)
        with (tmp_path / f"{name}.wav").open("rb") as file:
            arrivals.append(jobs.arrivals.receive(song, f"{name}.wav", file).id)
    for at in (2, 0, 1):
        jobs.intake.take_in.now(arrivals[at])
    assert [part.name for part in parts(jobs, song)] == ["B kick", "A tuba", "C horn"]
    library.close()


@needs_redis
def test_what_a_worker_held_that_was_killed_is_done_by_another_and_once(serving, tmp_path):
    jobs, song = serving
    soundfile.write(tmp_path / "long.wav", noise(240.0, 0.1, rate=96_000), 96_000, "FLOAT")
    first = working(jobs.library.data_dir)
    arrival = handed_in(jobs, song, tmp_path / "long.wav")
    until(lambda: jobs.arrivals.get(arrival.id).state == READING)
    os.kill(first.pid, signal.SIGKILL)
    first.wait(30)
    assert parts(jobs, song) == []
    second = working(jobs.library.data_dir)
    until(lambda: len(parts(jobs, song)) == 1, seconds=90)
    until(lambda: jobs.arrivals.of_session(song) == [])
    second.terminate()
    assert second.wait(30) == 0 and len(parts(jobs, song)) == 1


@needs_redis
def test_a_server_that_starts_leaves_a_worker_what_it_holds(serving):
    jobs, song = serving
    order = jobs.prints.order(song, jobs.library.head(song).id, Order("mix", "wav", "24"))
    folder = jobs.library.folder.place("prints") / f"{order.id}.part"
    folder.mkdir()
    with jobs.library.folder.claimed(f"print-{order.id}"):
        assert jobs.prints.claim(order.id)
        assert jobs.prints.recover() == [] and jobs.prints.lost() == [] and folder.exists()
    assert [one.id for one in jobs.prints.lost()] == [order.id]
    assert [one.id for one in jobs.prints.recover()] == [order.id] and not folder.exists()


def test_claims_that_nobody_held_for_a_day_are_forgotten(tmp_path):
    folder = DataFolder(tmp_path)
    names = ("old", "held", "new")
    for name in names:
        with folder.claimed(name):
            pass
    for name in ("old", "held"):
        os.utime(folder.place("claims") / name, (0, 0))
    with folder.claimed("held"):
        folder.sweep_claims()
    assert {path.name for path in folder.place("claims").iterdir()} == {"held", "new"}


def test_without_a_redis_server_the_server_works_itself_and_says_so(tmp_path, monkeypatch):
    monkeypatch.delenv("PONDEL_REDIS_URL", raising=False)
    for command in (["work"], ["serve", "--workers", "0"]):
        told = CliRunner().invoke(main, [*command, "--data", str(tmp_path / "data")])
        assert told.exit_code == 2 and "Redis" in told.stderr
    monkeypatch.setenv("PONDEL_REDIS_URL", "redis://127.0.0.1:1")
    library = Library(tmp_path / "other")
    with pytest.raises(PondelError, match="no Redis server answers"):
        Jobs(library)
    library.close()


def test_behind_a_proxy_only_that_one_is_believed_and_a_password_is_needed(tmp_path, monkeypatch):
    monkeypatch.setenv("PONDEL_PROXY", "127.0.0.1")
    monkeypatch.delenv("PONDEL_PASSWORD", raising=False)
    with pytest.raises(PondelError, match="PONDEL_PASSWORD"):
        proxy()
    monkeypatch.setenv("PONDEL_PASSWORD", "lantern")
    assert proxy() == "127.0.0.1"
    app = create_app(tmp_path / "data", password="lantern", behind_proxy=True, immediate=True)
    jobs = jobs_of(app)
    server = waitress.create_server(app, host="127.0.0.1", port=0, **trusting(proxy()))
    thread = threading.Thread(target=server.run, daemon=True)
    thread.start()
    address = f"127.0.0.1:{server.effective_port}"
    forwarded = {"X-Forwarded-For": "10.0.0.7", "X-Forwarded-Proto": "https", "Host": "studio.example"}
    with closing(HTTPConnection(address)) as connection:
        connection.request("GET", "/login", headers=forwarded)
        answer = connection.getresponse()
        assert answer.status == 200
        cookie = answer.headers["Set-Cookie"]
    assert "Secure" in cookie and "SameSite=Strict" in cookie
    server.close()
    thread.join(timeout=10)
    jobs.stop()
