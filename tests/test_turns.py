"""Analysis takes turns: one at a time, the newest of its kind."""

from __future__ import annotations

import threading
import time

import pytest

from pondel.jobs.turns import Superseded, Turns


def test_a_waiting_question_gives_way_to_a_newer_one_of_its_kind():
    turns = Turns()
    started, release = threading.Event(), threading.Event()
    answers: dict[str, object] = {}

    def ask(name, key, work):
        try:
            answers[name] = turns.take(key, work)
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


def test_an_error_comes_back_to_the_one_who_asked():
    turns = Turns()
    with pytest.raises(ZeroDivisionError):
        turns.take("a", lambda: 1 / 0)
    assert turns.take("a", lambda: 7) == 7
