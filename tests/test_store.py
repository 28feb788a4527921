"""Revisions, undo, stale edits, and what survives a crash."""

from __future__ import annotations

import io
import json
import signal
import subprocess
import sys
import textwrap
import threading

import numpy as np
import pytest
import soundfile
from conftest import RATE, session_of, sine, unfinished

from pondel.core.document import Session
from pondel.core.errors import BadAudio, BadDocument, NotFound, StaleEdit
from pondel.core.operations.chain import AddMove
from pondel.core.operations.parts import BringIn, SetPart
from pondel.core.reading import to_json
from pondel.jobs.tasks import Jobs
from pondel.store.arrivals import Arrivals, plain_name
from pondel.store.library import Library


@pytest.fixture
def library(tmp_path):
    library = Library(tmp_path)
    yield library
    library.close()


def fader(library, session_id, value, **options):
    head = library.head(session_id)
    edit = SetPart(part="a", field="fader_db", value=value).apply
    return library.edit(session_id, head.id, edit, **options)


def test_edits_undo_and_redo_move_along_the_branch(library):
    session_id = library.create(session_of({"id": "a"}))
    for value in (-1, -2, -3):
        fader(library, session_id, value)
    assert library.history.undo(session_id).document.part("a").fader_db == -2
    assert library.history.undo(session_id).document.part("a").fader_db == -1
    assert library.history.redo(session_id).document.part("a").fader_db == -2
    fader(library, session_id, -9)
    with pytest.raises(NotFound):
        library.history.redo(session_id)
    assert library.history.neighbours(library.head(session_id)).undo == "A: fader"
    assert library.history.undo(session_id).document.part("a").fader_db == -2


def test_a_drag_is_one_step_of_undo(library):
    session_id = library.create(session_of({"id": "a"}))
    fader(library, session_id, -1)
    for value in (-2, -3, -4, -5):
        fader(library, session_id, value, gesture="drag-1")
    assert library.head(session_id).document.part("a").fader_db == -5
    assert library.history.undo(session_id).document.part("a").fader_db == -1
    assert library.history.redo(session_id).document.part("a").fader_db == -5


def test_a_stale_window_overwrites_nothing(library):
    session_id = library.create(session_of({"id": "a"}))
    old = library.head(session_id)
    fader(library, session_id, -4)
    with pytest.raises(StaleEdit, match="another window"):
        library.edit(session_id, old.id, SetPart(part="a", field="pan", value=0.5).apply)
    assert library.head(session_id).document.part("a").pan == 0
    assert library.head(session_id).document.part("a").fader_db == -4


def test_many_threads_lose_no_edit(library):
    session_id = library.create(session_of({"id": "a"}))

    def add(n):
        document = library.head(session_id).document
        part = document.part("a").model_copy(update={"id": f"p{n}", "name": f"P{n}"})
        library.edit(session_id, None, BringIn(part=part).apply)

    threads = [threading.Thread(target=add, args=(n,)) for n in range(12)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert len(library.head(session_id).document.parts) == 13


def test_a_circle_is_not_stored(library):
    keyed = [{"id": "m", "kind": "compressor", "key": {"source": "b", "tap": "after fader"}}]
    session_id = library.create(session_of({"id": "a", "moves": keyed}, {"id": "b"}))
    head = library.head(session_id)
    back = AddMove(part="b", kind="compressor", values={"key": {"source": "a", "tap": "before fader"}})
    with pytest.raises(BadDocument, match="circle"):
        library.edit(session_id, head.id, back.apply)
    assert library.head(session_id).id == head.id


def test_names_and_ids(library):
    first = library.create(Session(name="Night Bus!"))
    second = library.create(Session(name="Night bus"))
    assert first == "night-bus" and second.startswith("night-bus-")
    assert library.find("Night Bus!") == first
    with pytest.raises(NotFound, match="no session"):
        library.find("Day bus")


@pytest.mark.parametrize(
    ("given", "plain"),
    [("a.wav", "a.wav"), ("x/y/a.wav", "a.wav"), ("C:\\x\\a.wav", "a.wav"), ("", "unnamed")],
)
def test_plain_names(given, plain):
    assert plain_name(given) == plain


def test_a_name_that_leads_out_of_its_folder_is_refused(library):
    session_id = library.create(Session(name="x"))
    with pytest.raises(BadAudio, match="leads out"):
        Arrivals(library).receive(session_id, "../../evil.wav", io.BytesIO(b"x"))
    assert not unfinished(library)


def wav(samples: np.ndarray, rate: int = RATE, subtype: str = "PCM_24") -> io.BytesIO:
    out = io.BytesIO()
    soundfile.write(out, samples, rate, subtype, format="WAV")
    out.seek(0)
    return out


def test_an_arrival_becomes_a_part_once(tmp_path):
    library = Library(tmp_path)
    jobs = Jobs(library, immediate=True)
    session_id = library.create(Session(name="x"))
    arrival = jobs.arrivals.receive(session_id, "03_Kick drum.wav", wav(sine(60, 1), 44100))
    jobs.intake.take_in(arrival.id)
    jobs.intake.take_in(arrival.id)
    document = library.head(session_id).document
    assert [(p.id, p.name, p.role) for p in document.parts] == [("kick-drum", "Kick drum", "kick")]
    assert document.rate == 44100
    assert jobs.arrivals.of_session(session_id) == []
    assert not unfinished(library)


def test_an_unforeseen_failure_is_told_and_kills_no_worker(tmp_path, monkeypatch):
    library = Library(tmp_path)
    jobs = Jobs(library, immediate=True)
    session_id = library.create(Session(name="x"))
    arrival = jobs.arrivals.receive(session_id, "a.wav", wav(sine(60, 1)))
    monkeypatch.setattr(jobs.desk.recordings, "take", lambda file: 1 / 0)
    jobs.intake.take_in(arrival.id)
    assert jobs.arrivals.get(arrival.id).state == "failed"
    assert library.head(session_id).document.parts == []


def test_a_dismissed_arrival_leaves_nothing(tmp_path):
    library = Library(tmp_path)
    jobs = Jobs(library, immediate=True)
    session_id = library.create(Session(name="x"))
    arrival = jobs.arrivals.receive(session_id, "a.wav", wav(sine(60, 1)))
    jobs.arrivals.dismiss(arrival.id)
    jobs.intake.take_in(arrival.id)
    assert library.head(session_id).document.parts == []
    assert not unfinished(library)


CRASH = textwrap.dedent(
    """
    import io, os, signal, sys
    from pathlib import Path
    from pondel.core.operations.parts import SetPart
    from pondel.core.audio import files
    from pondel.jobs.tasks import Jobs
    from pondel.store.library import Library

    library = Library(Path(sys.argv[1]))
    jobs = Jobs(library, immediate=True)
    arrival = jobs.arrivals.receive("x", "b.wav", open(sys.argv[2], "rb"))
    for value in range(5):
        head = library.head("x")
        library.edit("x", head.id, SetPart(part="a", field="fader_db", value=-value - 1).apply)
    print("answered", flush=True)

    def die(share):
        os.kill(os.getpid(), signal.SIGKILL)

    jobs.arrivals.report = lambda *_: die(0)
    import pondel.jobs.progress as progress
    progress.REPORT_EVERY_S = -1
    jobs.intake.take_in(arrival.id)
    """
)


def test_killed_in_the_middle_of_an_import_it_loses_nothing_and_goes_on(tmp_path):
    library = Library(tmp_path / "data")
    document = session_of({"id": "a"}).model_copy(update={"name": "x"})
    assert library.create(document, rate_known=True) == "x"
    library.close()
    file = tmp_path / "b.wav"
    file.write_bytes(wav(sine(60, 3), 44100).read())
    command = [sys.executable, "-c", CRASH, str(tmp_path / "data"), str(file)]
    run = subprocess.run(command, capture_output=True, text=True, timeout=120, check=False)
    assert run.returncode == -signal.SIGKILL, run.stderr
    assert "answered" in run.stdout

    library = Library(tmp_path / "data")
    assert library.head("x").document.part("a").fader_db == -5
    assert [part.id for part in library.head("x").document.parts] == ["a"]
    jobs = Jobs(library, immediate=True)
    waiting = jobs.arrivals.recover()
    assert [arrival.name for arrival in waiting] == ["b.wav"]
    assert {p.suffix for p in library.media.incoming.iterdir()} == {".upload"}
    jobs.intake.take_in(waiting[0].id)
    assert [part.id for part in library.head("x").document.parts] == ["a", "b"]
    assert not unfinished(library)
    assert len(list(library.media.folder.iterdir())) == 1


def test_a_database_of_the_first_form_is_opened_and_told_of_once(tmp_path):
    library = Library(tmp_path)
    session_id = library.create(session_of({"id": "a"}))
    old = to_json(library.head(session_id).document)
    trim = {"id": "t", "kind": "tail trim", "hits_s": [], "end_ms": 100}
    old["parts"][0]["moves"] = [trim]
    text = json.dumps({**old, "pondel": 1})
    table = library.tables.Revision
    table.update(document=text, hash="of the first form").execute()
    again = Library(tmp_path)
    move = again.head(session_id).document.part("a").moves[0]
    assert not move.on and move.end_ms == 100
    (note,) = again.bring_up(session_id)
    assert "had no hits" in note
    assert again.bring_up(session_id) == []
    assert json.loads(table.get().document)["pondel"] == 3
    assert again.head(session_id).document.part("a").moves[0] == move


def test_a_change_is_worked_out_anew_where_another_came_first(tmp_path):
    library, other = Library(tmp_path), Library(tmp_path)
    session_id = library.create(session_of({"id": "a"}))
    seen = []

    def slowly(document):
        seen.append(len(document.parts))
        if len(seen) == 1:
            part = document.part("a").model_copy(update={"id": "b"})
            other.edit(session_id, None, BringIn(part=part).apply, arrival=True)
        return SetPart(part="a", field="fader_db", value=-4).apply(document)

    base = library.head(session_id).id
    told = []
    library.edit(session_id, base, slowly, worked_out=lambda document: told.append(len(document.parts)))
    assert seen == told == [1, 2]
    assert [part.fader_db for part in library.head(session_id).document.parts] == [-4, 0]


def test_what_is_begun_of_a_state_begins_before_it_is_kept_and_never_of_one_that_cannot_stand(library):
    keyed = [{"id": "m", "kind": "compressor", "key": {"source": "b", "tap": "after fader"}}]
    session_id = library.create(session_of({"id": "a", "moves": keyed}, {"id": "b"}))
    kept = library.head(session_id)
    begun = []

    def begin(document):
        begun.append((document.part("a").fader_db, library.head(session_id).id))

    fader(library, session_id, -4, worked_out=begin)
    assert begun == [(-4, kept.id)]
    back = AddMove(part="b", kind="compressor", values={"key": {"source": "a", "tap": "before fader"}})
    with pytest.raises(BadDocument, match="circle"):
        library.edit(session_id, None, back.apply, worked_out=begin)
    assert len(begun) == 1

    def fails(document):
        raise BadDocument("nobody can hear this")

    head = library.head(session_id)
    with pytest.raises(BadDocument, match="nobody"):
        fader(library, session_id, -9, worked_out=fails)
    assert library.head(session_id).id == head.id
