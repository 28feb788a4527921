"""Analysis takes turns: one at a time, the newest of its kind."""

from __future__ import annotations

import threading
import time

import pytest

from pondel.core.errors import NotFound
from pondel.jobs.ahead import Ahead
from pondel.jobs.ear_first import EarFirst
from pondel.jobs.turns import Superseded, Turns


@pytest.fixture
def ear() -> EarFirst:
    return EarFirst()


@pytest.fixture
def turns(ear: EarFirst) -> Turns:
    return Turns(ear)


def test_a_waiting_question_gives_way_to_a_newer_one_of_its_kind(turns):
    started, release = threading.Event(), threading.Event()
    answers: dict[str, object] = {}

    def ask(name, key, work):
        try:
            answers[name] = turns.take(key, "page", work)
        except Superseded as error:
            answers[name] = error

    def slow():
        started.set()
        release.wait(10)
        return "slow"

    threads = [threading.Thread(target=ask, args=("first", "a", slow))]
    threads[0].start()
    assert started.wait(10)
    for name, key in [("old", "b"), ("other", "c"), ("new", "b")]:
        threads.append(threading.Thread(target=ask, args=(name, key, lambda name=name: name)))
        threads[-1].start()
        while len(turns._newest) < 2 or turns._count < len(threads):
            time.sleep(0.005)
    release.set()
    for thread in threads:
        thread.join(10)
    assert answers["first"] == "slow"
    assert isinstance(answers["old"], Superseded)
    assert (answers["other"], answers["new"]) == ("other", "new")


def test_an_error_comes_back_to_the_one_who_asked(turns):
    with pytest.raises(ZeroDivisionError):
        turns.take("a", None, lambda: 1 / 0)
    assert turns.take("a", None, lambda: 7) == 7


def test_a_question_of_a_page_that_changed_the_session_ends_at_its_next_step(turns):
    steps: list[str] = []

    def work(page: str) -> str:
        steps.append(page)
        turns.drop("one")
        turns.step()
        steps.append("not given up")
        return page

    with pytest.raises(Superseded):
        turns.take("map", "one", lambda: work("one"))
    assert steps == ["one"]
    assert turns.take("map", "two", lambda: work("two")) == "two"
    assert turns.take("map", "one", lambda: "asked again") == "asked again"


def test_a_step_outside_of_a_question_is_never_given_up(turns):
    turns.drop("one")
    turns.step()


def _in_thread(work) -> threading.Thread:
    thread = threading.Thread(target=work, daemon=True)
    thread.start()
    return thread


def test_analysis_stands_still_while_sound_is_made_and_goes_on_after_it(ear, monkeypatch):
    monkeypatch.setattr("pondel.jobs.ear_first.LONGEST_STOP_S", 3600.0)
    order: list[str] = []
    sound_begun, sound_may_end = threading.Event(), threading.Event()

    def sound():
        with ear.hurry():
            sound_begun.set()
            sound_may_end.wait(10)
            order.append("sound")

    def analysis():
        ear.step()
        order.append("analysis")

    threads = [_in_thread(sound)]
    assert sound_begun.wait(10)
    threads.append(_in_thread(analysis))
    time.sleep(0.05)
    assert order == []
    sound_may_end.set()
    for thread in threads:
        thread.join(10)
    assert order == ["sound", "analysis"]


def test_sound_never_waits_for_itself(ear, monkeypatch):
    monkeypatch.setattr("pondel.jobs.ear_first.LONGEST_STOP_S", 3600.0)

    def sound():
        with ear.hurry():
            with ear.hurry():
                ear.step()
            ear.step()

    thread = _in_thread(sound)
    thread.join(10)
    assert not thread.is_alive()
    with ear.hurry():
        pass
    done = _in_thread(ear.step)
    done.join(10)
    assert not done.is_alive()


def test_a_long_drag_does_not_starve_the_pictures(ear):
    sound_begun, sound_may_end = threading.Event(), threading.Event()

    def sound():
        with ear.hurry():
            sound_begun.set()
            sound_may_end.wait(20)

    thread = _in_thread(sound)
    assert sound_begun.wait(10)
    step = _in_thread(ear.step)
    step.join(10)
    assert not step.is_alive()
    assert thread.is_alive()
    sound_may_end.set()
    thread.join(10)


class SlowDesk:
    """Renders chunks when told to, and knows no other sound than "known"."""

    def __init__(self) -> None:
        self.rendered: list[int] = []
        self.begun, self.may_end = threading.Event(), threading.Event()

    def sound(self, name: str, index: int) -> int:
        if name != "known":
            raise NotFound("forgotten")
        self.rendered.append(index)
        self.begun.set()
        assert self.may_end.wait(10)
        return index


def test_of_the_sounds_begun_ahead_only_the_newest_waits(ear):
    desk = SlowDesk()
    ahead = Ahead(desk, ear)
    first = ahead.begin("known", 7)
    assert desk.begun.wait(10)
    later = [ahead.begin("known", index) for index in (1, 2, 3)]
    desk.may_end.set()
    assert first.result(10) == 7
    assert [chunk.result(10) for chunk in later] == [None, None, 3]
    assert desk.rendered == [7, 3]
    assert ahead.begin("forgotten", 4).result(10) is None
