"""A group as the one that gives way, as leader, in a contrast, and as a key: its parts count as one."""

from __future__ import annotations

import numpy as np
import pytest
from conftest import RATE, hits, sine
from web_tools import audio, jobs_of

from pondel.core.families import groups_among


def chord(low_hz: float) -> bytes:
    return audio(0.3 * sum(np.hstack([sine(low_hz * n, 6)] * 2) / n for n in range(1, 6)))


STEMS = {"kick.wav": audio(hits(6.0)), "low.wav": chord(55.0), "high.wav": chord(73.0)}


@pytest.fixture
def grouped(app, caller, filled):
    """Both chords in one group."""
    song = filled[1]
    caller.edit(song, op="add return", name="Chords")
    for part in ("low", "high"):
        assert caller.edit(song, op="set group", part=part, value="chords").status_code == 200
    return song


def head(app, song):
    return jobs_of(app).library.head(song).document


def test_everything_else_gives_way_as_one(app, caller, grouped):
    fights = jobs_of(app).desk.fights
    document, stretch = head(app, grouped), (0, 6 * RATE)
    fight = fights.measured(document, "kick", "chords", 0.0)
    assert fight.recovery_s is not None and (fight.low_hz, fight.high_hz) != (40.0, 160.0)
    one = fights.measured(document, "kick", "low", 0.0)
    assert fight.low_hz == pytest.approx(one.low_hz, rel=0.5)
    assert caller.edit(grouped, op="give way", leader="kick", part="chords").status_code == 200
    document = head(app, grouped)
    (move,) = document.part("chords").moves
    found = fights.evidence(document, "kick", "chords", stretch, move.id)
    assert found.zone.after.share < found.zone.before.share
    assert found.zone.after.clear_db > found.zone.before.clear_db
    # As one sound they hide no less than the worse of them.
    alone = [fights.evidence(document, "kick", part, stretch) for part in ("low", "high")]
    whole = fights.evidence(document, "kick", "chords", stretch)
    assert whole.zone.after.share >= max(one.zone.after.share for one in alone) - 0.01
    page = caller.client.get(f"/sessions/{grouped}/evidence?leader=kick&yielder=chords&end_s=6").json
    assert page["zone"] is not None and page["words"]["clear"] != "–"


def test_a_group_leads_with_the_hits_of_all_its_parts(app, caller, grouped):
    fights = jobs_of(app).desk.fights
    document = head(app, grouped)
    caller.edit(grouped, op="set group", part="kick", value="chords")
    both = fights.hits_s(head(app, grouped), head(app, grouped).part("chords"))
    assert set(fights.hits_s(document, document.part("kick"))) <= set(both)
    evidence = fights.evidence(document, "chords", "kick", (0, 6 * RATE))
    assert evidence is not None and 0 <= evidence.zone.after.share <= 1


def test_a_group_is_a_key_and_stands_in_a_contrast(app, caller, grouped):
    caller.edit(grouped, op="add move", part="kick", kind="compressor")
    key = {"op": "set move", "part": "kick", "move": "m1", "field": "key.source", "value": "chords"}
    assert caller.edit(grouped, **key).status_code == 200
    laid = caller.edit(grouped, op="contrast", part="chords", against="kick", start_s=0, end_s=5)
    assert laid.status_code == 200
    document = head(app, grouped)
    assert document.part("chords").moves[0].against == "Kick"
    assert len(document.part("chords").moves[0].own_db) == 240


def test_a_part_beside_its_own_group_is_no_part_of_it(app, grouped):
    document = head(app, grouped)
    assert groups_among(document, ("low", "chords")) == {"chords": ["high"]}
    assert groups_among(document, ("low", "kick")) == {}
    found = jobs_of(app).desk.fights.evidence(document, "low", "chords", (0, 6 * RATE))
    assert found is not None
