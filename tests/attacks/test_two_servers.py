"""One server a folder; folders and files that cannot be used; each told in one line with a way out."""

from __future__ import annotations

import json
import os
import sqlite3
import subprocess
import sys

import pytest
from click.testing import CliRunner
from conftest import session_of, sine
from peewee import DatabaseError
from web_tools import Caller, audio, jobs_of

from attacks.servers import Server, unshare
from pondel.cli import main
from pondel.core.errors import PondelError
from pondel.core.operations.parts import SetPart
from pondel.jobs.tasks import Jobs
from pondel.store.library import Library
from pondel.web import create_app


def run(*words: str) -> tuple[int, str]:
    """What `pondel WORDS` in a process of its own answers and says."""
    command = [sys.executable, "-m", "pondel", *words]
    done = subprocess.run(command, capture_output=True, text=True, timeout=120, check=False)
    return done.returncode, done.stderr + done.stdout


def is_one_line(said: str, *words: str) -> None:
    assert said.count("\n") == 1 and said.startswith("pondel: "), said
    assert all(word in said for word in words), said


def test_a_second_server_is_refused_and_the_command_line_shares_the_folder(tmp_path):
    data = tmp_path / "data"
    library = Library(data)
    song = library.create(session_of({"id": "a"}))
    server = Server(data)
    try:
        status, said = run("serve", "--port", "0", "--data", str(data))
        assert status == 2
        is_one_line(said, "another Pondel serves this folder")
        head = library.head(song)
        library.edit(song, head.id, SetPart(part="a", field="fader_db", value=-4).apply)
        facts = json.loads(server.get(f"/sessions/{song}/facts")[1])
        assert facts["undo"] == "A: fader"
        assert run("list", "--data", str(data))[0] == 0
        assert run("tidy", "--data", str(data))[0] == 2
    finally:
        server.stop()
        library.close()
    again = Server(data)
    assert again.address
    again.kill()
    again = Jobs(Library(data))
    again.start()
    again.stop()


def test_a_second_start_in_one_process_is_refused_too(tmp_path):
    first, second = Jobs(Library(tmp_path)), Jobs(Library(tmp_path))
    first.start()
    with pytest.raises(PondelError, match="another Pondel"):
        second.start()
    first.stop()
    second.start()
    second.stop()


def test_a_read_only_folder_is_told(tmp_path):
    data = tmp_path / "data"
    Library(data).close()
    mount = 'mount --bind "$0" "$0" && mount -o remount,bind,ro "$0" && exec "$@"'
    for words in (["serve", "--port", "0"], ["import", str(tmp_path), "--name", "x"]):
        command = [sys.executable, "-m", "pondel", *words, "--data", str(data)]
        done = subprocess.run(
            [unshare(), "-rm", "sh", "-c", mount, str(data), *command],
            capture_output=True,
            text=True,
            timeout=120,
            check=False,
        )
        assert done.returncode == 2
        is_one_line(done.stderr, "cannot be written to", "--data")


@pytest.mark.parametrize("body", [b"garbage " * 400, b"SQLite format 3\0" + b"\xff" * 5000])
def test_a_garbage_database_is_told_with_the_way_back(tmp_path, body):
    library = Library(tmp_path)
    song = library.create(session_of({"id": "a"}))
    library.copies.keep()
    library.close()
    for suffix in ("-wal", "-shm"):
        (tmp_path / f"pondel.db{suffix}").unlink(missing_ok=True)
    (tmp_path / "pondel.db").write_bytes(body)
    status, said = run("serve", "--port", "0", "--data", str(tmp_path))
    assert status == 2
    is_one_line(said, "damaged", f"pondel restore --data {tmp_path}")
    put_back = CliRunner().invoke(main, ["restore", "--data", str(tmp_path)])
    assert put_back.exit_code == 0, put_back.output
    assert [path.read_bytes() for path in (tmp_path / "aside").glob("*pondel.db")] == [body]
    again = Library(tmp_path)
    assert again.head(song).document.has_part("a")
    again.close()


def test_garbage_in_the_queue_is_rebuilt(tmp_path):
    library = Library(tmp_path)
    library.create(session_of({"id": "a"}))
    (tmp_path / "queue.db").write_bytes(b"garbage " * 400)
    jobs = Jobs(library)
    jobs.start()
    jobs.stop()
    assert any(path.name.endswith("queue.db") for path in (tmp_path / "aside").iterdir())
    with sqlite3.connect(tmp_path / "queue.db") as queue:
        queue.execute("insert into task (queue, data, priority) values ('pondel', 'no pickle', 0)")
    jobs = Jobs(library)
    jobs.start()
    jobs.stop()
    library.close()


@pytest.mark.parametrize("body", [b"", b"short"])
def test_a_damaged_key_is_made_anew(tmp_path, body):
    (tmp_path / "secret.key").write_bytes(body)
    app = create_app(tmp_path, testing=True)
    assert Caller(app.test_client()).token
    assert len((tmp_path / "secret.key").read_bytes()) == 32
    assert (tmp_path / "secret.key").stat().st_mode & 0o777 == 0o600
    assert create_app(tmp_path, testing=True).secret_key == app.secret_key


def test_what_pondel_keeps_is_private(tmp_path):
    data, out = tmp_path / "data", tmp_path / "out"
    before = os.umask(0o022)
    try:
        stem = tmp_path / "a.wav"
        stem.write_bytes(audio(sine(99, 0.5)))
        assert run("import", str(stem), "--name", "x", "--data", str(data))[0] == 0
        assert run("render", "x", "--out", str(out), "--data", str(data))[0] == 0
        server = Server(data)
        server.upload("/sessions/x/arrivals", "b.wav", stem.read_bytes())
        server.get("/sessions/x/lanes")
        server.stop()
    finally:
        os.umask(before)
    for path in [data, *data.rglob("*")]:
        assert path.stat().st_mode & 0o077 == 0, path
    assert (out / "mix.wav").stat().st_mode & 0o777 == 0o644


def test_an_older_folder_becomes_private_when_it_is_opened(tmp_path):
    data = tmp_path / "data"
    Library(data).close()
    data.chmod(0o755)
    (data / "pondel.db").chmod(0o644)
    Library(data).close()
    assert data.stat().st_mode & 0o777 == 0o700
    assert (data / "pondel.db").stat().st_mode & 0o777 == 0o600


def test_a_newer_database_is_not_touched(tmp_path):
    library = Library(tmp_path)
    library.database.execute_sql(
        "insert into schema_migration (name, applied) values ('9999_later', '2099-01-01')"
    )
    library.close()
    with pytest.raises(PondelError, match="newer Pondel"):
        Library(tmp_path)


def test_the_page_says_when_the_database_is_damaged(tmp_path, monkeypatch):
    app = create_app(tmp_path)
    app.config["PROPAGATE_EXCEPTIONS"] = False
    caller = Caller(app.test_client())

    def broken(*_):
        raise DatabaseError("database disk image is malformed")

    monkeypatch.setattr(jobs_of(app).library, "sessions", broken)
    answer = caller.client.get("/sessions")
    assert answer.status_code == 500 and "pondel restore" in answer.text
