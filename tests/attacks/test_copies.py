"""Dated copies of the database: made by themselves, seven kept, put back with one command."""

from __future__ import annotations

import os
import shutil
import sqlite3
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from click.testing import CliRunner
from conftest import session_of
from web_tools import jobs_of

from pondel.cli import main
from pondel.core.errors import PondelError
from pondel.core.operations.parts import SetPart
from pondel.jobs.tasks import Jobs
from pondel.jobs.tidy import tidy_up
from pondel.store.copies import Copies, fault_of
from pondel.store.folder import DataFolder
from pondel.store.library import Library
from pondel.store.tables import MIGRATIONS
from pondel.web import create_app


@pytest.fixture
def folder(tmp_path):
    library = Library(tmp_path)
    library.create(session_of({"id": "a"}, name="Song"))
    library.close()
    return tmp_path


def fader(data: Path, value: float | None = None) -> float:
    library = Library(data)
    head = library.head("song")
    if value is not None:
        library.edit("song", head.id, SetPart(part="a", field="fader_db", value=value).apply)
    found = library.head("song").document.part("a").fader_db
    library.close()
    return found


def test_one_copy_a_day_and_seven_of_them(folder, monkeypatch):
    copies = Copies(DataFolder(folder))
    day = datetime(2030, 1, 1, tzinfo=UTC)

    class Clock(datetime):
        @classmethod
        def now(cls, tz=None):
            return day

    monkeypatch.setattr("pondel.store.copies.datetime", Clock)
    for n in range(12):
        day = datetime(2030, 1, 1, tzinfo=UTC) + timedelta(days=n)
        copies.keep()
        copies.keep()
    names = sorted(path.stem for path in copies.all())
    assert names == [f"day-2030-01-{n:02d}" for n in range(6, 13)]
    assert all(fault_of(path) is None and path.stat().st_mode & 0o077 == 0 for path in copies.all())


def test_the_days_copy_follows_within_the_hour_and_at_the_stop(folder, monkeypatch):
    library = Library(folder)
    jobs = Jobs(library, workers=0)
    jobs.start()
    library.copies.keep()
    (copy,) = library.copies.all()

    def revisions() -> int:
        with sqlite3.connect(copy) as opened:
            return opened.execute("select count(*) from revision").fetchone()[0]

    library.create(session_of(name="Second"))
    library.copies.keep()
    assert revisions() == 1
    os.utime(copy, (copy.stat().st_mtime - 3601,) * 2)
    library.copies.keep()
    assert revisions() == 2
    library.create(session_of(name="Third"))
    jobs.stop()
    assert revisions() == 3
    library.close()


@pytest.mark.parametrize("harm", [Path.unlink, lambda path: path.write_bytes(b"")])
def test_a_database_that_is_gone_is_told_and_not_begun_again(folder, harm):
    library = Library(folder)
    library.copies.keep()
    library.close()
    for suffix in ("-wal", "-shm"):
        (folder / f"pondel.db{suffix}").unlink(missing_ok=True)
    harm(folder / "pondel.db")
    run = CliRunner().invoke
    told = run(main, ["list", "--data", str(folder)])
    assert told.exit_code == 2 and "pondel restore" in told.stderr and told.stderr.count("\n") == 1
    assert run(main, ["restore", "--data", str(folder)]).exit_code == 0
    assert fader(folder) == 0


def test_what_only_a_copy_names_survives_tidying(folder):
    library = Library(folder)
    (kept, gone) = (f"media/{n * 32}.wav" for n in "ab")
    for file in (kept, gone):
        (folder / file).write_bytes(b"sound")
        os.utime(folder / file, (0, 0))
    other = library.create(session_of({"id": "a", "file": kept}, name="Other"))
    library.copies.keep()
    library.remove(other)
    list(tidy_up(library))
    assert (folder / kept).exists() and not (folder / gone).exists()
    library.close()


def test_a_damage_that_is_met_while_reading_names_the_way_back(folder, monkeypatch):
    app = create_app(folder, immediate=True)

    def damaged():
        raise sqlite3.DatabaseError("database disk image is malformed")

    monkeypatch.setattr(jobs_of(app).library, "sessions", damaged)
    answer = app.test_client().get("/sessions")
    assert answer.status_code == 500 and "pondel restore" in answer.get_data(as_text=True)


def test_a_copy_is_made_while_the_database_is_written(folder):
    library = Library(folder)
    with library.database.atomic("immediate"):
        library.tables.Measure.insert(key="half", body="1").execute()
        library.copies.keep()
    (copy,) = library.copies.all()
    with sqlite3.connect(copy) as opened:
        assert opened.execute("select count(*) from measure").fetchone() == (0,)
        assert opened.execute("select count(*) from revision").fetchone() == (1,)
    library.close()


def test_what_was_damaged_is_put_back_with_one_command(folder):
    run = CliRunner().invoke
    assert run(main, ["list", "--data", str(folder)]).exit_code == 0
    fader(folder, -5)
    (folder / "pondel.db").write_bytes(b"gone wrong")
    broken = run(main, ["list", "--data", str(folder)])
    assert broken.exit_code == 2 and "pondel restore" in broken.stderr
    listed = run(main, ["restore", "--list", "--data", str(folder)])
    assert listed.stdout.startswith("day-")
    done = run(main, ["restore", "--data", str(folder)])
    assert done.exit_code == 0 and "is the database now" in done.stdout
    assert fader(folder) == 0
    missing = run(main, ["restore", "day-1999-01-01", "--data", str(folder)])
    assert missing.exit_code == 2 and "no sound copy" in missing.stderr


def test_a_damaged_copy_is_passed_over(folder):
    library = Library(folder)
    library.copies.keep()
    library.close()
    copies = Copies(DataFolder(folder))
    bad = folder / "copies" / "day-2999-01-01.db"
    bad.write_bytes(b"no database")
    assert copies.put_back().stem.startswith("day-2") and copies.put_back().name != bad.name
    assert fault_of(folder / "pondel.db") is None


def test_nothing_is_put_back_while_somebody_works_with_the_folder(folder):
    library = Library(folder)
    library.copies.keep()
    with pytest.raises(PondelError, match="stop the Pondel"):
        library.copies.put_back()
    library.close()


def older(folder: Path, tmp: Path, monkeypatch) -> None:
    """A database as it was before the newest migration."""
    before = tmp / "migrations"
    before.mkdir()
    for path in sorted(MIGRATIONS.glob("0*.py"))[:2]:
        shutil.copy(path, before)
    with sqlite3.connect(folder / "pondel.db") as opened:
        opened.executescript(
            "drop table login; drop table seal; alter table arrival drop column replaces;"
            "delete from schema_migration where name >= '0003';"
            "drop index revision_parent; alter table revision drop column arrival;"
            "alter table session drop column removed; alter table session drop column to_tell;"
            "alter table arrival drop column title;"
        )


def test_an_older_database_is_copied_before_it_is_changed(folder, tmp_path_factory, monkeypatch):
    older(folder, tmp_path_factory.mktemp("older"), monkeypatch)
    assert fader(folder) == 0
    (copy,) = (path for path in (folder / "copies").iterdir() if path.name.startswith("before-0003"))
    with sqlite3.connect(copy) as opened:
        columns = {row[1] for row in opened.execute("pragma table_info(revision)")}
        assert "arrival" not in columns
        assert opened.execute("select count(*) from revision").fetchone() == (1,)


def test_without_its_copy_an_older_database_is_left_alone(folder, tmp_path_factory, monkeypatch):
    older(folder, tmp_path_factory.mktemp("older"), monkeypatch)

    def refuse(*_):
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(Copies, "_keep", refuse)
    with pytest.raises(PondelError, match="the disk is full"):
        Library(folder)
    with sqlite3.connect(folder / "pondel.db") as opened:
        assert not opened.execute("select 1 from sqlite_master where name = 'login'").fetchone()


def test_a_full_disk_does_not_keep_the_days_copy_from_being_missed(folder, monkeypatch):
    def refuse(*_):
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(Copies, "_keep", refuse)
    library = Library(folder)
    library.copies.keep()
    assert library.copies.all() == []
    library.close()
