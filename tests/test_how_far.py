"""Gentle, usual, strong: worked out anew at the move, without losing what was set by hand."""

from __future__ import annotations

import numpy as np
import pytest
from conftest import RATE, hits, session_of
from doing import KnownHits

from pondel.core.errors import BadDocument
from pondel.core.moves.fight import Fight
from pondel.core.operations import parse_operation
from pondel.core.reading import parse_session, to_json
from pondel.core.recipes.recipe import recipe_of


class Measured(KnownHits):
    """A drum twice a second; which document was measured is remembered."""

    def __init__(self):
        super().__init__()
        self.measured = []

    def fight(self, document, leader_id, yielder_id, start_s, zone_hz):
        self.measured.append(document)
        parts = document.part(leader_id), document.part(yielder_id)
        times = np.arange(0.1, 6.0, 0.5)
        known = {"recovery_s": 0.2, "hit_s": 0.18, "hidden_on_hits": 0.5}
        return Fight(*parts, *(zone_hz or (40.0, 120.0)), hits(6.0), times, times, RATE, 120.0, **known)


@pytest.fixture
def facts():
    return Measured()


BAND = session_of({"id": "drum", "role": "kick"}, {"id": "tuba", "role": "bass"}, {"id": "horn"})


def done(document, facts, **operation):
    return parse_operation(operation).apply(document, facts)


def laid(facts, **more):
    asked = {"op": "give way", "part": "tuba", "leader": "drum", "kind": "multiband", **more}
    return done(BAND, facts, **asked).document


def move(document, part="tuba"):
    return document.part(part).moves[-1]


def test_a_move_remembers_the_fight_it_was_worked_out_from(facts):
    began = move(laid(facts, start_s=3.5, low_hz=50, high_hz=90, how_far="gentle")).began
    assert (began.leader, began.start_s, began.far) == ("drum", 3.5, 0.0)
    assert (began.low_hz, began.high_hz, began.by_hand) == (50, 90, [])


@pytest.mark.parametrize(("how_far", "amount_db"), [("gentle", 3), ("usual", 5), ("strong", 9)])
def test_it_goes_as_far_as_asked_in_the_same_zone(facts, how_far, amount_db):
    left = laid(facts, low_hz=50, high_hz=90)
    left = done(left, facts, op="go as far", part="tuba", move="m1", how_far=how_far).document
    # Half as much again for louder hits, and what the zone does not have of the band's slope.
    assert 1.5 * amount_db < move(left).bands[0].range_db < 1.5 * amount_db / 0.85
    assert move(left).crossovers_hz[0] == pytest.approx(90 + 1.25 * 34, abs=4)


def test_what_was_set_by_hand_stays(facts):
    left = laid(facts)
    first = move(left)
    for field, value in (("bands.0.attack_ms", "7 ms"), ("key.level_db", 3), ("crossovers_hz.0", 99)):
        asked = {"op": "set move", "part": "tuba", "move": "m1", "field": field, "value": value}
        left = done(left, facts, **asked).document
    assert set(move(left).began.by_hand) == {"bands.0.attack_ms", "key.level_db", "crossovers_hz.0"}
    strong = done(left, facts, op="go as far", part="tuba", move="m1", how_far="strong").document
    now = move(strong)
    assert now.bands[0].range_db > first.bands[0].range_db
    assert now.bands[0].attack_ms == 7 and now.key.level_db == 3 and now.crossovers_hz == [99]
    assert now.key.source == "drum" and now.on
    fresh = done(strong, facts, op="go as far", part="tuba", move="m1", anew=True).document
    assert move(fresh).bands[0].attack_ms == first.bands[0].attack_ms
    assert move(fresh).crossovers_hz == first.crossovers_hz and move(fresh).began.by_hand == []


def test_a_band_more_by_hand_keeps_all_bands(facts):
    left = laid(facts)
    left = done(left, facts, op="act on move", part="tuba", move="m1", action="split", index=0).document
    bands = move(left).bands
    left = done(left, facts, op="go as far", part="tuba", move="m1", how_far="strong").document
    assert move(left).bands == bands


def test_switching_off_and_sections_are_not_settings(facts):
    left = laid(facts)
    asked = {"op": "set move", "part": "tuba", "move": "m1", "field": "on", "value": False}
    left = done(left, facts, **asked).document
    assert move(left).began.by_hand == []
    left = done(left, facts, op="go as far", part="tuba", move="m1", how_far="gentle").document
    assert not move(left).on


def test_it_is_measured_without_the_move_itself(facts):
    left = laid(facts)
    done(left, facts, op="go as far", part="tuba", move="m1", how_far="strong")
    assert not facts.measured[-1].part("tuba").moves[0].on


def test_swapping_works_the_numbers_out_anew(facts):
    left = laid(facts)
    swapped = done(left, facts, op="swap", leader="drum", part="tuba").document
    turned = move(swapped, "drum")
    assert swapped.part("tuba").moves == []
    assert turned.key.source == "tuba" and turned.began.leader == "tuba"
    # A kick under a bass takes half of what a bass takes under a kick.
    assert turned.bands[0].range_db == pytest.approx(move(left).bands[0].range_db / 2, abs=0.3)


def test_both_sides_of_a_pair_go_as_far(facts):
    left = laid(facts, kind="complementary eq")
    left = done(left, facts, op="go as far", part="drum", move="m1", how_far="strong").document
    assert [move(left, part).bands[0].difference_db for part in ("drum", "tuba")] == [6, 6]
    assert [move(left, part).began.far for part in ("drum", "tuba")] == [2, 2]


def test_what_was_laid_plain_or_lost_its_leader_says_so(facts):
    plain = done(BAND, facts, op="add move", part="tuba", kind="compressor").document
    with pytest.raises(BadDocument, match="not laid for a fight"):
        done(plain, facts, op="go as far", part="tuba", move="m1", how_far="strong")
    left = done(laid(facts), facts, op="remove part", part="drum").document
    with pytest.raises(BadDocument, match="taken out"):
        done(left, facts, op="go as far", part="tuba", move="m1", how_far="strong")


def test_a_document_and_a_recipe_hold_it_or_not(facts):
    left = laid(facts)
    assert parse_session(to_json(left)) == left
    assert "began" not in recipe_of(left, "tuba", "Under the drum").moves[0].settings
    with pytest.raises(BadDocument, match="began is not given"):
        done(BAND, facts, op="add move", part="tuba", kind="compressor", values={"began": None})
