"""Analysis takes turns: one at a time, the newest of its kind."""

from __future__ import annotations

import os
import threading
import time
from concurrent.futures import ThreadPoolExecutor
from contextvars import copy_context

import numpy as np
import pytest
from web_tools import until

from pondel.core.engine.cache import ChunkCache
from pondel.core.errors import NotFound
from pondel.core.side_by_side import side_by_side
from pondel.jobs.ahead import Ahead
from pondel.jobs.ear_first import EarFirst
from pondel.jobs.niceness import be_nice
from pondel.jobs.turns import MOST_PAGES, Superseded, Turns


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


def test_nothing_waits_for_what_will_be_asked_for_in_its_own_time(ear, monkeypatch):
    """After an edit its sound is about to be asked for; after a chunk of sound the next one is not."""

    def stood_still() -> bool:
        waits: list[float] = []
        monkeypatch.setattr(ear._changed, "wait", waits.append)
        monkeypatch.setattr("pondel.jobs.ear_first.LONGEST_STOP_S", 0.01)
        ear.step()
        return bool(waits)

    with ear.hurry(linger_s=0.0):
        pass
    assert not stood_still()
    with ear.hurry(linger_s=3600.0), ear.hurry(linger_s=0.0):
        pass
    with ear.hurry(linger_s=0.0):
        pass
    assert stood_still()


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


def asked(turns, kind, page, work, answers):
    def ask():
        try:
            answers[page, kind] = turns.take(kind, page, work)
        except Superseded as error:
            answers[page, kind] = error

    thread = threading.Thread(target=ask)
    thread.start()
    return thread


def test_a_page_with_long_work_lets_another_pages_question_go_between(turns, monkeypatch):
    """The long work ends only after the short one was answered: it waits for that, in steps."""
    monkeypatch.setattr("pondel.jobs.turns.SLICE_S", 0.0)
    begun, answers = threading.Event(), {}
    ends = time.monotonic() + 20

    def long():
        begun.set()
        while ("b", "short") not in answers:
            assert time.monotonic() < ends, "the other page never had its turn"
            turns.step()
        return "long"

    threads = [asked(turns, "long", "a", long, answers)]
    assert begun.wait(10)
    threads.append(asked(turns, "short", "b", lambda: "short", answers))
    for thread in threads:
        thread.join(20)
    assert answers == {("a", "long"): "long", ("b", "short"): "short"}


def test_only_one_question_is_worked_at_between_two_steps(turns, monkeypatch):
    monkeypatch.setattr("pondel.jobs.turns.SLICE_S", 0.0)
    at_work, most, lock = [0], [0], threading.Lock()

    def work():
        for _ in range(30):
            with lock:
                at_work[0] += 1
                most[0] = max(most[0], at_work[0])
            with lock:
                at_work[0] -= 1
            turns.step()
        return True

    answers: dict = {}
    threads = [asked(turns, "x", f"page {n}", work, answers) for n in range(4)]
    for thread in threads:
        thread.join(20)
    assert list(answers.values()) == [True] * 4 and most[0] == 1


def test_of_more_pages_than_a_few_the_oldest_is_given_up(turns):
    release, begun, answers = threading.Event(), threading.Event(), {}

    def slow():
        begun.set()
        release.wait(20)
        turns.step()
        return "slow"

    threads = [asked(turns, "x", "first", slow, answers)]
    assert begun.wait(10)
    for n in range(MOST_PAGES + 1):
        threads.append(asked(turns, "x", f"page {n}", lambda: "quick", answers))
        while len(turns._newest) < n + 2:
            time.sleep(0.002)
    release.set()
    for thread in threads:
        thread.join(20)
    given_up = {page for (page, _), answer in answers.items() if isinstance(answer, Superseded)}
    assert given_up == {"first", "page 0"}


def test_an_asker_who_has_gone_costs_nothing(turns):
    worked = []
    with pytest.raises(Superseded, match="nobody"):
        turns.take("x", "page", lambda: worked.append(1), lambda: True)
    assert not worked
    assert turns.take("x", "page", lambda: "next") == "next"


@pytest.mark.parametrize("works_in_threads", [False, True])
def test_two_pages_that_want_the_same_analysis_do_not_wait_for_each_other_for_ever(
    turns, monkeypatch, works_in_threads
):
    """One makes it, in steps; the other waits for it, and gives its turn back meanwhile."""
    monkeypatch.setattr("pondel.jobs.turns.SLICE_S", 0.0)
    cache, begun, answers = ChunkCache(), threading.Event(), {}

    def make():
        begun.set()
        until(lambda: turns._waiting)
        for _ in range(5):
            turns.step()
        return np.ones(3)

    def ears(_=None):
        return cache.get("ears", make, turns.step).sum()

    def in_threads():
        with ThreadPoolExecutor(2) as pool:
            return list(side_by_side(pool, ears, range(2), turns.step, 2))[1]

    threads = [asked(turns, "x", "a", ears, answers)]
    assert begun.wait(10)
    threads.append(asked(turns, "x", "b", in_threads if works_in_threads else ears, answers))
    for thread in threads:
        thread.join(20)
    assert answers == {("a", "x"): 3, ("b", "x"): 3}


def test_all_threads_of_a_question_that_is_not_wanted_any_more_end(turns):
    cache, begun, answers = ChunkCache(), threading.Event(), {}
    is_answered = threading.Event()
    making = _in_thread(lambda: cache.get("ears", lambda: is_answered.wait(20) and np.ones(3)))
    until(lambda: cache._making)

    def wait_for_ears(_):
        begun.set()
        return cache.get("ears", lambda: np.ones(3), turns.step)

    def in_threads():
        with ThreadPoolExecutor(2) as pool:
            return list(side_by_side(pool, wait_for_ears, range(2)))

    threads = [asked(turns, "x", "a", in_threads, answers)]
    assert begun.wait(10)
    threads.append(asked(turns, "x", "a", lambda: "newer", {}))
    threads[0].join(10)
    assert isinstance(answers["a", "x"], Superseded)
    is_answered.set()
    for thread in (making, *threads):
        thread.join(10)
        assert not thread.is_alive()


def test_what_is_for_the_ear_lets_go_on_what_it_waits_for(ear, monkeypatch):
    """Else an edit and the analysis of a page that it needs would stand still for each other."""
    monkeypatch.setattr("pondel.jobs.ear_first.LONGEST_STOP_S", 3600.0)
    cache, begun, is_hurried = ChunkCache(), threading.Event(), threading.Event()
    order: list[str] = []

    def make():
        begun.set()
        assert is_hurried.wait(10)
        for _ in range(5):
            ear.step()
        order.append("made")
        return np.ones(3)

    def hurried():
        with ear.hurry(), ear.hurry():
            is_hurried.set()
            cache.get("ears", lambda: np.zeros(3), ear.step)
            other.append(_in_thread(lambda: (ear.step(), order.append("let go"))))
            other[0].join(0.1)
            order.append("edited")

    other: list[threading.Thread] = []
    threads = [_in_thread(lambda: cache.get("ears", make, ear.step))]
    assert begun.wait(10)
    threads.append(_in_thread(hurried))
    for thread in threads:
        thread.join(10)
    other[0].join(10)
    assert order == ["made", "edited", "let go"]


def test_what_hurried_work_has_done_in_other_threads_is_as_urgent(ear, monkeypatch):
    monkeypatch.setattr("pondel.jobs.ear_first.LONGEST_STOP_S", 60.0)
    with ThreadPoolExecutor(2) as pool:
        with ear.hurry():
            pool.submit(copy_context().run, ear.step).result(10)
            other = pool.submit(ear.step)
            with pytest.raises(TimeoutError):
                other.result(0.3)
        other.result(10)


@pytest.mark.skipif(not hasattr(os, "getpriority"), reason="only where threads have priorities")
def test_beside_a_busy_program_a_question_keeps_its_share_and_work_behind_a_good_part(turns):
    """A step of niceness takes a factor of 1.25 of a thread's share, as Linux weighs them."""

    def share() -> float:
        weight = 1.25 ** -os.getpriority(os.PRIO_PROCESS, threading.get_native_id())
        return weight / (1.0 + weight)

    assert 0.4 < turns.take("niceness", "page", share) < 0.5
    with ThreadPoolExecutor(1, initializer=be_nice) as pool:
        assert 0.25 < pool.submit(share).result() < 0.4


def test_work_behind_stands_still_while_a_page_waits_and_only_then(turns):
    asked, answer, stepped = threading.Event(), threading.Event(), []

    def question():
        asked.set()
        assert answer.wait(10)

    def work():
        turns.step()
        stepped.append(answer.is_set())

    behind = turns.behind(work)
    with ThreadPoolExecutor(2) as pool:
        pool.submit(behind).result(10)
        waiting = pool.submit(turns.take, "a", "page", question)
        assert asked.wait(10)
        stands = pool.submit(behind)
        with pytest.raises(TimeoutError):
            stands.result(0.3)
        answer.set()
        stands.result(10)
        waiting.result(10)
    assert stepped == [False, True]


def test_what_a_page_itself_waits_for_does_not_stand_still_for_it(turns, monkeypatch):
    monkeypatch.setattr("pondel.jobs.turns.LONGEST_STOP_S", 60.0)

    def question():
        with ThreadPoolExecutor(1) as pool:
            return pool.submit(turns.behind(turns.step)).result()

    with ThreadPoolExecutor(1) as pool:
        pool.submit(turns.take, "a", "page", question).result(10)


def test_work_behind_ends_where_it_stands_when_the_server_stops(turns, monkeypatch):
    monkeypatch.setattr("pondel.jobs.turns.LONGEST_STOP_S", 60.0)
    asked, answer = threading.Event(), threading.Event()

    def question():
        asked.set()
        assert answer.wait(10)

    with ThreadPoolExecutor(2) as pool:
        waiting = pool.submit(turns.take, "a", "page", question)
        assert asked.wait(10)
        stands = pool.submit(turns.behind(turns.step))
        with pytest.raises(TimeoutError):
            stands.result(0.3)
        turns.end()
        with pytest.raises(Superseded):
            stands.result(10)
        answer.set()
        waiting.result(10)
    turns.begin()
    turns.behind(turns.step)()
