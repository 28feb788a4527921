"""Recipes: a chain saved and laid elsewhere, its keys chosen anew; those that come along."""

from __future__ import annotations

import json

import numpy as np
import pytest
from conftest import hits, session_of
from doing import KnownHits

from pondel.core.errors import BadDocument
from pondel.core.moves.fight import Fight
from pondel.core.operations import parse_operation
from pondel.core.reading import parse_session, to_json
from pondel.core.recipes.recipe import parse_recipe, recipe_of, shipped


class Measured(KnownHits):
    def fight(self, document, leader_id, yielder_id, start_s, zone_hz):
        parts = document.part(leader_id), document.part(yielder_id)
        times = np.arange(0.1, 4.0, 0.5)
        return Fight(*parts, *(zone_hz or (40.0, 120.0)), hits(4.0), times, times, 48000, 120.0)


def band():
    duck = {
        "id": "m1",
        "kind": "compressor",
        "key": {"source": "drum", "high_cut_hz": 120},
        "threshold_db": -30,
        "range_db": 5,
        "why": ["because"],
    }
    drawn = {"id": "m2", "kind": "drawn duck", "hits_of": "drum", "depth_db": 4}
    trim = {"id": "m3", "kind": "tail trim", "end_ms": 300}
    squeeze = {"id": "r1", "kind": "compressor", "key": {"source": "tuba"}, "threshold_db": -35}
    return session_of(
        {"id": "drum", "role": "kick"},
        {
            "id": "tuba",
            "moves": [duck, drawn, trim],
            "sends": [{"to": "hall", "level_db": -7, "tap": "before fader"}],
        },
        {"id": "horn"},
        {"id": "clap", "role": "snare"},
        {"id": "hall", "name": "Hall of Tuba", "file": None, "source": "sends", "moves": [squeeze]},
    )


def lay(document, recipe, **slots):
    asked = {"op": "lay recipe", "part": "horn", "recipe": recipe, "slots": slots}
    return parse_operation(asked).apply(document, Measured())


def test_a_chain_is_saved_with_a_slot_for_each_part_it_listens_to():
    recipe = recipe_of(band(), "tuba", "Brass under drum", "Two reasons.")
    assert [(slot.name, slot.role) for slot in recipe.slots] == [("kick", "kick")]
    assert recipe.slots[0].question == "Which part stands for Drum?"
    assert [move.kind for move in recipe.moves] == ["compressor", "drawn duck", "tail trim"]
    assert recipe.moves[0].settings["key"]["source"] == "kick"
    assert recipe.moves[1].settings["hits_of"] == "kick"
    assert not {"id", "why", "sections"} & set(recipe.moves[0].settings)
    (back,) = recipe.returns
    assert (back.name, back.send_db, back.tap) == ("Hall of {part}", -7, "before fader")
    assert back.moves[0].settings["key"]["source"] == "part"
    assert parse_recipe(json.loads(recipe.model_dump_json())) == recipe


def test_it_is_laid_on_another_part_and_in_another_session_with_its_keys_chosen_anew():
    recipe = recipe_of(band(), "tuba", "Brass under drum").model_dump(mode="json")
    other = session_of({"id": "horn"}, {"id": "boom"})
    for document, key in ((band(), "clap"), (other, "boom")):
        left = lay(document, recipe, kick=key).document
        duck, drawn, trim = left.part("horn").moves
        assert duck.key.source == key and duck.range_db == 5 and duck.key.high_cut_hz == 120
        assert drawn.hits_of == key and trim.hits_of is None
        (send,) = left.part("horn").sends
        assert (send.level_db, send.tap) == (-7, "before fader")
        back = left.part(send.to)
        assert back.name == "Hall of Horn" and back.moves[0].key.source == "horn"
        assert parse_session(to_json(left)) == left


@pytest.mark.parametrize("name", shipped())
def test_those_that_come_along_are_laid_and_explained(name):
    recipe = shipped()[name]
    assert 1 <= recipe.why.count(".") <= 4
    done = lay(band(), name, **{slot.name: "drum" for slot in recipe.slots})
    horn = done.document.part("horn")
    laid = [*horn.moves, *(one for send in horn.sends for one in done.document.part(send.to).moves)]
    assert len(laid) == len(recipe.moves) + sum(len(back.moves) for back in recipe.returns)
    assert all(recipe.why in move.why for move in laid) and done.said == [recipe.why]


def test_keys_in_the_middle_only_and_a_snare_alone_out_of_a_break():
    (duck,) = (
        lay(band(), "Keys under the voice, in the middle only", voice="clap")
        .document.part("horn")
        .moves
    )
    assert duck.placement == "middle" and duck.depth_db == 4 and duck.key.source == "clap"
    (duck,) = (
        lay(band(), "Tops ducked by the snare of a break", **{"break": "clap"})
        .document.part("horn")
        .moves
    )
    assert duck.key.low_cut_hz == 250 and duck.key.high_cut_hz == 2500


@pytest.mark.parametrize(
    ("recipe", "slots", "why"),
    [
        ("Guitars under the kick, 3 dB", {}, "Which part is the kick?"),
        ("Guitars under the kick, 3 dB", {"kick": "horn"}, "cannot be its own key"),
        ("No such thing", {}, "no recipe is called"),
        ({"pondel_recipe": 2, "name": "x"}, {}, "pondel_recipe"),
        ({"name": "x", "moves": [{"kind": "eq", "settings": {"bands": 4}}]}, {}, "bands"),
        ({"name": "x", "moves": [{"kind": "nothing"}]}, {}, "nothing"),
        (
            {"name": "x", "moves": [{"kind": "gate", "settings": {"key": {"source": "drum"}}}]},
            {},
            "no slot of it",
        ),
        ({"name": "x", "moves": [{"kind": "eq", "computed_for": "kick"}]}, {}, "no slot of it"),
        ({"name": "x", "slots": [{"name": "part", "question": "?"}]}, {}, "a name of its own"),
        (
            {
                "name": "x",
                "moves": [{"kind": "complementary eq", "settings": {}}],
            },
            {},
            "ties two parts",
        ),
    ],
)
def test_what_cannot_be_laid_is_told(recipe, slots, why):
    with pytest.raises(BadDocument) as told:
        lay(band(), recipe, **slots)
    assert why in f"{told.value.where} {told.value.message}"


def test_a_part_without_moves_makes_no_recipe():
    with pytest.raises(BadDocument, match="no move"):
        recipe_of(band(), "horn", "Nothing")
