"""Work behind pages, renewed by whoever asks for it."""

from __future__ import annotations

import threading
from pathlib import Path

import pytest
from conftest import RATE, hits, session_of, sine
from web_tools import until

from pondel.core.engine.listen import without_moves
from pondel.core.errors import BadDocument, Busy
from pondel.core.operations import parse_operation
from pondel.jobs import leases
from pondel.jobs.desk import Desk
from pondel.jobs.leases import LeasedWork, Leases, checkpoint
from pondel.jobs.sessions import take_file
from pondel.jobs.sides import Where
from pondel.store.library import Library


@pytest.fixture
def works():
    found = Leases[LeasedWork]("tests", most_kept=3)
    yield found
    found.stop()


def open_files() -> int:
    return sum(1 for _ in Path("/proc/self/fd").iterdir())


def going(gate: threading.Event):
    """Work that goes on until its gate opens."""

    def work(_: LeasedWork) -> None:
        while not gate.wait(0.01):
            checkpoint()

    return work


def test_what_is_asked_for_goes_on_however_many_ask(works):
    gate = threading.Event()
    both = [works.take(key, LeasedWork, going(gate)) for key in "ab"]
    for _ in range(50):
        assert [works.take(key, LeasedWork, going(gate)) for key in "ab"] == both
    gate.set()
    assert all(one.finished.wait(10) and one.is_complete for one in both)


def test_what_nobody_renews_ends_for_other_work_and_is_begun_again(works, monkeypatch):
    monkeypatch.setattr(leases, "LEASE_S", 0.0)
    gate = threading.Event()
    left = works.take("left", LeasedWork, going(gate))
    works.take("other", LeasedWork, going(gate))
    assert left.finished.wait(10) and not left.is_complete
    gate.set()
    again = works.take("left", LeasedWork, going(gate))
    assert again is not left and again.finished.wait(10) and again.is_complete


def test_trouble_stays_while_its_page_asks_and_is_tried_again_later(works, monkeypatch):
    begun = []

    def fails(_: LeasedWork) -> None:
        begun.append(1)
        raise BadDocument("the kick does not sound")

    first = works.take("a", LeasedWork, fails)
    assert first.finished.wait(10)
    for _ in range(20):
        assert works.take("a", LeasedWork, fails).trouble.message == "the kick does not sound"
    assert len(begun) == 1
    monkeypatch.setattr(leases, "LEASE_S", 0.0)
    works.take("a", LeasedWork, fails).finished.wait(10)
    assert len(begun) == 2


def test_as_many_as_are_held_are_all_that_go_on(works):
    gate = threading.Event()
    before = threading.active_count()
    for key in "abc":
        works.take(key, LeasedWork, going(gate))
    with pytest.raises(Busy, match="tests: 3 are under way"):
        works.take("d", LeasedWork, going(gate))
    assert threading.active_count() <= before + 3
    gate.set()
    until(lambda: all(one.finished.is_set() for one in works.held()))
    assert works.take("d", LeasedWork, going(gate)).finished.wait(10)


@pytest.fixture(scope="module")
def songs(tmp_path_factory):
    """A desk, and two states of a session with a kick over a tuba, both with a fight decided."""
    import soundfile

    folder: Path = tmp_path_factory.mktemp("songs")
    library = Library(folder / "data")
    parts = []
    for name, role, sound in (("kick", "kick", hits(5.0)), ("tuba", "bass", sine(62, 5) * 0.4)):
        soundfile.write(folder / f"{name}.wav", sound, RATE, "FLOAT")
        file = take_file(library, folder / f"{name}.wav", RATE)
        parts.append({"id": name, "role": role, "file": file})
    zone = {"low_hz": 40, "high_hz": 120}
    decide = parse_operation({"op": "decide", "leads": "kick", "gives_way": "tuba", **zone})
    desk = Desk(library)
    bare = decide.apply(session_of(*parts), desk).document
    fader = parse_operation({"op": "set part", "part": "tuba", "field": "fader_db", "value": -2})
    yield desk, bare, fader.apply(bare, desk).document
    desk.tryouts.stop()
    desk.plans.stop()
    desk.sides.stop()
    library.close()


def asked_in_turn(*begin) -> list[LeasedWork]:
    """What several pages get that ask again and again, as they do until all are done."""
    first = [one() for one in begin]

    def done() -> bool:
        return all(one().finished.is_set() for one in begin)

    until(done, 240)
    assert [one() for one in begin] == first
    return first


def test_two_plans_and_two_sets_of_ways_finish_side_by_side(songs):
    desk, *documents = songs
    plans = asked_in_turn(*(lambda one=one: desk.plans.begin(one) for one in documents))
    assert all(one.is_complete and one.lines for one in plans)
    ways = asked_in_turn(
        *(lambda one=one: desk.tryouts.begin(one, "kick", "tuba", 0, 2 * RATE) for one in documents)
    )
    assert all(one.is_complete and len(one.points()) > 10 for one in ways)


def test_two_hundred_polls_leave_threads_and_files_as_they_were(songs):
    desk, document, _ = songs
    planned = desk.plans.begin(document)
    assert planned.finished.wait(120) and planned.is_complete

    def asked() -> None:
        plan = desk.plans.begin(document)
        desk.plans.weighing(plan, frozenset({0}))

    asked()
    until(lambda: desk.plans.weighing(planned, frozenset({0})).finished.is_set(), 60)
    threads, files = threading.active_count(), open_files()
    for _ in range(200):
        asked()
    assert threading.active_count() <= threads
    assert open_files() <= files + 1


def test_one_weighing_that_fails_leaves_the_plan_and_the_others(songs, monkeypatch):
    desk, document, _ = songs
    planned = desk.plans.begin(document)
    assert planned.finished.wait(120) and planned.whole is not None
    count = len(planned.lines)

    def broken(*_: object) -> None:
        raise BadDocument("not today")

    with monkeypatch.context() as patch:
        patch.setattr("pondel.jobs.planner.weighed", broken)
        failed = desk.plans.weighing(planned, frozenset({count}))
        assert failed.finished.wait(60) and failed.trouble.message == "not today"
    assert desk.plans.begin(document) is planned and planned.trouble is None
    assert desk.plans.weighing(planned, frozenset()).whole is planned.whole


def test_threads_close_their_database_when_they_end(songs):
    desk = songs[0]
    before = open_files()
    for _ in range(3):
        threads = [threading.Thread(target=desk.library.sessions) for _ in range(30)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
    until(lambda: open_files() <= before + 6)


def test_a_comparison_ends_where_a_part_sounds_in_one_variant_only(songs):
    desk, document, _ = songs
    mute = parse_operation({"op": "set part", "part": "tuba", "field": "mute", "value": True})
    for zones in (document.zones, []):
        state = document.model_copy(update={"zones": zones})
        muted = mute.apply(state, desk).document
        asked = [("untreated", without_moves(state)), ("A", state), ("B", muted)]
        compared = desk.sides.begin(asked, state, Where(0, 2 * RATE))
        assert compared.finished.wait(60) and compared.trouble is None
        for one, contest in enumerate(compared.contests):
            assert {contest.leader, contest.yielder} == {"kick", "tuba"}
            assert [side.stands[one] is None for side in compared.sides] == [False, False, True]
        assert len(compared.contests) == len(zones)


def test_where_nothing_is_heard_comparison_and_plan_say_what_to_do(songs):
    desk, document, _ = songs
    parts = [part.model_copy(update={"mute": True}) for part in document.parts]
    muted = document.model_copy(update={"parts": parts})
    compared = desk.sides.begin([("untreated", muted), ("A", muted)], muted, Where(0, 2 * RATE))
    planned = desk.plans.begin(muted)
    for one in (compared, planned):
        assert one.finished.wait(60) and "unmute one" in one.trouble.message
    with pytest.raises(BadDocument, match="unmute one"):
        desk.loops.table(muted, 0, RATE)
