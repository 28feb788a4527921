"""A fight is opened as a fight, whatever moves the part has already."""

from __future__ import annotations

import re

import numpy as np
import pytest
from conftest import hits, sine
from web_tools import audio

STEMS = {
    "kick.wav": audio(hits(4.0)),
    "snare.wav": audio(hits(4.0, hz=180.0)),
    "tuba.wav": audio(np.hstack([sine(62, 4) + 0.3 * sine(700, 4), sine(110, 4)])),
}


@pytest.fixture
def song(filled):
    return filled[1]


def page(caller, song, query):
    return caller.client.get(f"/sessions/{song}/moves?{query}").get_data(as_text=True)


def test_treating_a_fight_opens_that_fight_also_where_the_part_has_moves(app, caller, song):
    caller.edit(song, op="give way", part="tuba", leader="kick", kind="compressor")
    caller.edit(song, op="add move", part="tuba", kind="eq")
    of_kick = page(caller, song, "part=tuba&leader=kick")
    assert "Tuba gives way to Kick" in of_kick and 'aria-label="How far it goes for Kick"' in of_kick
    of_snare = page(caller, song, "part=tuba&leader=snare")
    assert "Nothing on Tuba makes way for Snare yet" in of_snare
    assert "Make way for Snare" in of_snare
    caller.edit(song, op="give way", part="tuba", leader="snare", kind="eq")
    assert 'aria-label="How far it goes for Snare"' in page(caller, song, "part=tuba&leader=snare")


def test_the_leader_is_chosen_in_sight_and_a_move_by_its_name_is_shown(app, caller, song):
    caller.edit(song, op="add move", part="tuba", kind="eq")
    shown = page(caller, song, "part=tuba&move=m1&leader=snare")
    assert '<option value="snare" selected>Snare</option>' in shown and "Tuba, EQ" in shown
    assert "Tuba, EQ" in page(caller, song, "part=tuba")


def test_how_far_is_switched_at_the_move(app, caller, song):
    caller.edit(song, op="give way", part="tuba", leader="kick", kind="compressor")
    usual = page(caller, song, "part=tuba&move=m1")
    answer = caller.edit(song, op="go as far", part="tuba", move="m1", how_far="strong")
    assert answer.status_code == 200
    strong = page(caller, song, "part=tuba&move=m1")

    def pressed(text) -> list[str]:
        group = text.partition('aria-label="How far it goes')[2].partition("</div>")[0]
        return re.findall(r'aria-pressed="true"[^>]*>(\w+)</button>', group)

    assert pressed(usual) == ["usual", "body"] and pressed(strong) == ["strong", "body"]
    caller.edit(song, op="set move", part="tuba", move="m1", field="attack_ms", value="9 ms")
    assert "1 set by hand" in page(caller, song, "part=tuba&move=m1")
