"""Mending a fault says what it will change, and what would be wrong then."""

from __future__ import annotations

import numpy as np
import pytest
from conftest import hits, sine
from doing import do
from web_tools import audio, jobs_of

from pondel.jobs.checks import found_wrong
from pondel.jobs.desk import Desk

RATE = 48000
LOOP = 0, 4 * RATE
STEMS = {
    "kick.wav": audio(hits(5.0)),
    "tuba.wav": audio(0.5 * (sine(62, 5) + sine(124, 5) + 0.3 * sine(400, 5))),
}


@pytest.fixture
def desk(app) -> Desk:
    return jobs_of(app).desk


@pytest.fixture
def wrong(desk, filled):
    """What is wrong with a move that is laid on the tuba."""
    document = desk.library.head(filled[1]).document

    def found(kind="compressor", **values):
        laid = do(document, "add move", part="tuba", kind=kind, values=values).document
        return laid, found_wrong(desk, laid, "tuba", "m1", *LOOP, "kick")

    return found


def test_what_a_mending_says_is_what_it_does(desk, wrong):
    values = {"key": {"source": "kick"}, "threshold_db": -1, "ratio": 4, "range_db": 24}
    laid, (advice,) = wrong(**values)
    assert "never crosses the threshold" in advice.text
    fix = {key: value for key, value in advice.fix.items() if key != "op"}
    mended = do(laid, advice.fix["op"], **fix).document
    trace = desk.now(mended).reductions("tuba", *LOOP)["m1"]
    assert advice.then.startswith(f"Then up to {trace.high.max():.1f} dB, ")
    found = desk.fights.evidence(mended, "kick", "tuba", LOOP, "m1")
    assert f"−{100 * found.cost_share:.0f} % of its own loudness" in advice.then


def test_a_mending_that_makes_another_fault_says_so(wrong):
    """Without its cuts the key of this duck takes a third of the part."""
    key = {"source": "kick", "low_cut_hz": 900}
    _, found = wrong(key=key, threshold_db=-20, ratio=20, range_db=40, release_ms=400)
    first = found[0]
    assert "cuts" in first.text and first.action == "Take the low cut away"
    assert "But: It costs Tuba" in first.then


def test_a_dear_duck_is_never_called_well(app, caller, song):
    caller.edit(
        song,
        op="add move",
        part="tuba",
        kind="compressor",
        values={
            "key": {"source": "kick"},
            "threshold_db": -40,
            "ratio": 8,
            "range_db": 30,
            "release_ms": 200,
        },
    )
    query = "part=tuba&move=m1&leader=kick&start_s=0&end_s=4"
    shown = caller.client.get(f"/sessions/{song}/moves/checks?{query}").get_data(as_text=True)
    assert "% of its own loudness" in shown and "Nothing is wrong" not in shown


def test_its_cost_is_that_of_the_fight_in_view(desk, wrong):
    laid, found = wrong(key={"source": "kick"}, threshold_db=-40, ratio=8, range_db=30, release_ms=200)
    cost = desk.fights.evidence(laid, "kick", "tuba", LOOP, "m1").cost_share
    assert any(f"costs Tuba {100 * cost:.0f} %" in one.text for one in found)
    assert np.isfinite(cost)
