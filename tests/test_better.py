"""Looking for better: bounded, the same each time, and never at more cost."""

from __future__ import annotations

from types import SimpleNamespace

import numpy as np
import pytest

from pondel.core.judgement.better import Search, turned

BAND = {
    "kind": "multiband",
    "key": {"source": "drum", "level_db": 3},
    "crossovers_hz": [100.0],
    "bands": [
        {"on": True, "threshold_db": -20.0, "hold_ms": 100.0, "release_ms": 200.0, "ratio": 4.0},
        {"on": False, "hold_ms": 50.0},
    ],
}


def verdict(relief_db, cost=0.05, unsteady=1.0):
    fight = SimpleNamespace(cost_share=cost)
    return SimpleNamespace(relief_db=relief_db, fight=fight, unsteady_db=unsteady)


def test_what_is_turned_and_how_far():
    search = Search(BAND)
    assert [name for _, name in turned(BAND)] == [
        "crossovers_hz",
        "threshold_db",
        "hold_ms",
        "release_ms",
    ]
    assert search.at(np.zeros(4)) == BAND
    most = search.at(np.full(4, 9.0))
    assert most["crossovers_hz"] == [140.0] and most["bands"][0]["threshold_db"] == -14.0
    assert most["bands"][0]["hold_ms"] == 250.0 and most["bands"][1] == BAND["bands"][1]
    least = search.at(np.full(4, -9.0))
    assert least["bands"][0]["release_ms"] == 80.0 and least["key"] == BAND["key"]


def relief_of(settings) -> float:
    """Best at a hold of 180 ms and a crossover at 120 Hz."""
    hold, cut = settings["bands"][0]["hold_ms"], settings["crossovers_hz"][0]
    return 3.0 - np.log(hold / 180.0) ** 2 - 20.0 * np.log(cut / 120.0) ** 2


def test_the_summit_is_found_and_found_again():
    first = verdict(relief_of(BAND))
    found = [Search(BAND).run(lambda one: verdict(relief_of(one)), first, 120) for _ in range(2)]
    assert found[0].judgement.relief_db > 2.95
    assert found[0].settings == found[1].settings


def test_more_relief_at_more_cost_or_more_unsteadiness_is_not_better():
    first = verdict(1.0)

    def dear(settings):
        more = settings["bands"][0]["hold_ms"] / 100.0
        return verdict(more, cost=0.05 * more)

    def shaky(settings):
        more = settings["bands"][0]["hold_ms"] / 100.0
        return verdict(more, unsteady=1.0 + 2.0 * (more - 1.0))

    assert Search(BAND).run(dear, first, 60) is None
    found = Search(BAND).run(shaky, first, 60)
    assert found is None or found.judgement.unsteady_db <= 1.3


@pytest.mark.parametrize("answer", [None, verdict(float("nan"))])
def test_what_cannot_be_judged_is_no_answer(answer):
    assert Search(BAND).run(lambda one: answer, verdict(1.0), 30) is None


def test_it_is_bounded_and_can_be_stopped():
    asked = []

    def judge(settings):
        asked.append(settings)
        return verdict(relief_of(settings))

    Search(BAND).run(judge, verdict(0.0), 25)
    assert len(asked) <= 30
    asked.clear()
    found = Search(BAND).run(judge, verdict(0.0), 25, lambda: len(asked) < 5)
    assert len(asked) == 5
    # What was found until then stands.
    assert found.judgement.relief_db == max(relief_of(one) for one in asked)


def test_settings_without_numbers_have_nothing_to_turn():
    assert Search({"kind": "alignment", "inverted": True}).run(verdict, verdict(1.0), 9) is None
