"""What two do at once: variants and drags, arrivals and edits, sessions set aside."""

from __future__ import annotations

import io
import threading

import pytest
from conftest import session_of, sine
from web_tools import Caller, audio, jobs_of, until

from pondel.core.document import Session
from pondel.core.errors import NotFound, StaleEdit
from pondel.core.operations.parts import SetPart
from pondel.jobs.tasks import Jobs
from pondel.jobs.tidy import tidy_up
from pondel.store.library import Library
from pondel.store.prints import Order
from pondel.store.variants import Variants
from pondel.web import create_app


@pytest.fixture
def library(tmp_path):
    library = Library(tmp_path / "data")
    yield library
    library.close()


def drag(library, song, *values, gesture="drag"):
    for value in values:
        head = library.head(song)
        edit = SetPart(part="a", field="fader_db", value=value).apply
        library.edit(song, head.id, edit, gesture=gesture)


def level(library, song) -> float:
    return library.head(song).document.part("a").fader_db


def test_a_drag_that_goes_on_after_a_variant_was_kept_leaves_the_variant(library):
    variants = Variants(library)
    song = library.create(session_of({"id": "a"}))
    drag(library, song, -1, gesture="first")
    drag(library, song, -2, -3)
    variants.keep(song)
    drag(library, song, -4, -5)
    assert level(library, song) == -5
    assert library.history.undo(song).document.part("a").fader_db == -1
    assert library.history.redo(song).document.part("a").fader_db == -5
    assert variants.open(song, "A").document.part("a").fader_db == -3
    assert library.history.undo(song).document.part("a").fader_db == -1
    states = [library.revision(song, one.id).document for one in library.history.steps(song)]
    assert [one.part("a").fader_db for one in states] == [-1, 0]
    assert variants.open(song, "B").document.part("a").fader_db == -5


def test_a_drag_leaves_what_a_print_was_ordered_of(library, tmp_path):
    song = library.create(session_of({"id": "a"}))
    drag(library, song, -1, -2)
    order = Jobs(library, immediate=True).prints.order(
        song, library.head(song).id, Order("mix", "wav", "24")
    )
    drag(library, song, -3)
    assert library.revision(song, order.revision).document.part("a").fader_db == -2


def test_a_drag_after_an_undo_leaves_what_was_undone(library):
    song = library.create(session_of({"id": "a"}))
    drag(library, song, -1, gesture="one")
    drag(library, song, -2, gesture="two")
    library.history.undo(song)
    drag(library, song, -3, gesture="one")
    for row in library.tables.Revision.select():
        assert row.parent is None or library.revision(song, row.parent)
    assert level(library, song) == -3


def test_every_revision_that_is_named_exists_after_many_turns(library):
    variants = Variants(library)
    song = library.create(session_of({"id": "a"}))
    for n in range(60):
        drag(library, song, -(n % 30), gesture=f"g{n // 7}")
        if n % 9 == 4:
            library.history.undo(song)
        if n in (10, 30):
            variants.keep(song)
        if n % 11 == 5:
            variants.open(song, ("A", "B", "C")[n % 3] if n > 30 else "A")
        named = {one.head for one in variants.of(song)}
        named |= {r.parent for r in library.tables.Revision.select() if r.parent is not None}
        assert all(library.revision(song, one) for one in named)


def test_what_is_typed_while_files_come_in_is_kept(tmp_path):
    app = create_app(tmp_path, immediate=True, testing=True)
    caller, library = Caller(app.test_client()), jobs_of(app).library
    song = library.create(Session(name="Song"))
    caller.upload(song, ("one.wav", audio(sine(99, 0.5), rate=44100)))
    seen = caller.client.get(f"/sessions/{song}/facts").json["revision"]
    caller.upload(song, ("two.wav", audio(sine(70, 0.5))), ("three.wav", audio(sine(50, 0.5))))
    typed = {"op": "set part", "part": "one", "field": "name", "value": "Drum", "base": seen}
    answer = caller.edit(song, **typed)
    assert answer.status_code == 200
    assert {part["name"] for part in answer.json["session"]["parts"]} == {"Drum", "Two", "Three"}
    assert caller.edit(song, **{**typed, "value": "Late"}).status_code == 409
    trimmed = caller.edit(song, op="trim to", by="peak", target="-6 dB", base=seen)
    assert trimmed.status_code == 409


def test_an_arrival_comes_in_while_a_page_edits(library):
    jobs = Jobs(library, immediate=True)
    song = library.create(session_of({"id": "a"}, rate=48000))
    seen = library.head(song)
    arrival = jobs.arrivals.receive(song, "b.wav", io.BytesIO(audio(sine(60, 0.5))))
    jobs.intake.take_in(arrival.id)
    library.edit(song, seen.id, SetPart(part="a", field="fader_db", value=-7).apply)
    document = library.head(song).document
    assert document.part("a").fader_db == -7 and document.has_part("b")
    with pytest.raises(StaleEdit):
        library.edit(song, seen.id, SetPart(part="a", field="fader_db", value=-8).apply)


def test_an_edit_that_looks_at_recordings_does_not_wait_for_one_that_comes_in(library, tmp_path):
    """The edit holds the database, the arrival is about to note its seal: neither waits for ever."""
    song = library.create(session_of({"id": "a", "file": "media/x.wav"}))
    recording = tmp_path / f"{'0' * 32}.wav"
    recording.write_bytes(b"x")
    sealing = threading.Thread(target=library.media._seals.put, args=(recording,))
    looked = []

    def look(revision, _):
        sealing.start()
        until(lambda: library.media._seals._known)
        looked.append(library.media.faults(revision.document))

    library.edit(song, None, SetPart(part="a", field="pan", value=0.5).apply, prepare=look)
    sealing.join(10)
    assert not sealing.is_alive() and list(looked[0]) == ["a"]


def test_a_removed_session_can_be_brought_back_until_the_folder_is_tidied(tmp_path):
    app = create_app(tmp_path, immediate=True, testing=True)
    caller, jobs = Caller(app.test_client()), jobs_of(app)
    library = jobs.library
    kept, gone = (library.create(Session(name=name)) for name in ("Kept", "Gone"))
    shared, own = audio(sine(99, 0.5)), audio(sine(70, 0.5))
    caller.upload(kept, ("a.wav", shared))
    caller.upload(gone, ("a.wav", shared), ("b.wav", own))
    caller.post(f"/sessions/{gone}/prints", data={"what": "mix"})
    files = {part.file for part in library.head(gone).document.parts}
    assert caller.post(f"/sessions/{gone}/remove").status_code == 302
    assert caller.client.get(f"/sessions/{gone}/lanes").status_code == 404
    assert caller.post(f"/sessions/{gone}/remove").status_code == 404
    assert "Bring back" in caller.client.get("/sessions").text
    list(tidy_dry(library))
    assert caller.post(f"/sessions/{gone}/bring-back").status_code == 302
    assert caller.client.get(f"/sessions/{gone}/lanes").status_code == 200
    assert caller.post(f"/sessions/{gone}/bring-back").status_code == 404
    caller.post(f"/sessions/{gone}/remove")
    said = list(tidy_up(library))
    assert "emptied 1 sessions that were set aside: Gone" in said
    assert library.removed() == [] and not list((tmp_path / "prints").iterdir())
    left = {f"media/{path.name}" for path in (tmp_path / "media").iterdir()}
    (kept_file,) = (part.file for part in library.head(kept).document.parts)
    assert left == {kept_file} and kept_file in files
    with pytest.raises(NotFound):
        library.bring_back(gone)


def test_a_file_that_came_for_a_session_set_aside_comes_in_when_it_is_back(tmp_path):
    app = create_app(tmp_path, immediate=True, testing=True)
    caller, jobs = Caller(app.test_client()), jobs_of(app)
    song = jobs.library.create(Session(name="Song"))
    arrival = jobs.arrivals.receive(song, "a.wav", io.BytesIO(audio(sine(60, 0.5))))
    caller.post(f"/sessions/{song}/remove")
    jobs.intake.take_in(arrival.id)
    assert jobs.arrivals.get(arrival.id).state == "waiting"
    caller.post(f"/sessions/{song}/bring-back")
    assert [part.name for part in jobs.library.head(song).document.parts] == ["A"]


def tidy_dry(library):
    """What is left of files that nobody has named for less than a day stays."""
    stray = library.media.folder / f"{'0' * 32}.wav"
    stray.write_bytes(b"just came in")
    yield stray
    assert stray.exists()
    stray.unlink()
