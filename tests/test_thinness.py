"""Thin: what moves took between 120 and 500 Hz, and which of them."""

from __future__ import annotations

import numpy as np
import pytest
from conftest import hits, sine
from web_tools import audio, jobs_of

SECONDS = 4
STEMS = {
    "kick.wav": audio(hits(SECONDS)),
    "tuba.wav": audio(sine(250, SECONDS, -12) + 0.3 * sine(2000, SECONDS, -12)),
    "horn.wav": audio(0.1 * sine(300, SECONDS, -12)),
}
LOOP = 0, SECONDS * 48_000


@pytest.fixture
def song(filled):
    return filled[1]


def found(app, song):
    jobs = jobs_of(app)
    return jobs.desk.thinness.thin(jobs.library.head(song).document, *LOOP)


def cut(caller, song, gain_db, part="tuba"):
    values = {"bands": [{"hz": 250, "gain_db": gain_db, "q": 0.7}]}
    caller.edit(song, op="add move", part=part, kind="eq", values=values)


def test_nothing_is_thin_without_moves_or_with_small_ones(app, caller, song):
    assert found(app, song) == []
    cut(caller, song, -0.8)
    assert found(app, song) == []


def test_the_moves_to_blame_come_with_what_each_took_and_a_way_back(app, caller, song):
    cut(caller, song, -2.0)
    caller.edit(song, op="add move", part="tuba", kind="level", values={"gain_db": -1})
    cut(caller, song, -4.0)
    mix, tuba = found(app, song)
    assert (mix.name, tuba.name) == ("The mix", "Tuba")
    assert tuba.change_db == pytest.approx(-7.0, abs=0.1)
    assert [round(one.change_db) for one in tuba.blamed] == [-4, -2, -1]
    assert tuba.words().startswith("Tuba lost 7.0 dB between 120 and 500 Hz, −")
    assert tuba.words().endswith(" % of its loudness there: EQ 4.0 dB, EQ 2.0 dB, Level 1.0 dB.")
    # Half of the loudness goes with about ten decibels.
    assert 0.3 < tuba.lost_share < 0.5
    page = caller.client.get(f"/sessions/{song}/proof/figures?start_s=0&end_s=4").text
    assert "Tuba lost 7.0 dB" in page and "Switch it off" in page
    for move in ("m1", "m3"):
        caller.edit(song, op="set move", part="tuba", move=move, field="on", value=False)
    assert found(app, song) == []


def test_a_small_part_is_thin_by_itself_and_a_muted_one_leaves_the_mix(app, caller, song):
    caller.edit(song, op="set part", part="tuba", field="mute", value=True)
    cut(caller, song, -9, part="horn")
    assert [one.name for one in found(app, song)] == ["The mix", "Horn"]
    assert np.isfinite([one.change_db for one in found(app, song)]).all()


def test_a_low_cut_that_takes_a_part_s_own_lowest_octave_is_told(app, caller, song):
    band = {"shape": "low cut", "hz": 80, "slope_db_oct": 12}
    caller.edit(song, op="add move", part="kick", kind="eq", values={"bands": [band]})
    (lowest,) = [one for one in found(app, song) if one.name == "Kick"]
    # A second-order Butterworth cut at 80 Hz takes 10 log10(1 + (80 / 60)^4) dB of a 60 Hz tone.
    assert lowest.change_db == pytest.approx(-6.2, abs=0.8)
    assert [one.name for one in lowest.blamed] == ["EQ"]
    assert " of its own lowest octave, " in lowest.words()
