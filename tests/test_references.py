"""What points at parts, hits, sections and other moves: followed by one function, and never lost."""

from __future__ import annotations

import numpy as np
import pytest
from conftest import RATE, hits, session_of
from doing import KnownHits, after, laid, paired
from moves_tools import HITS_S, noise, run

from pondel.core.audio.media import ArrayMedia
from pondel.core.document import Zone
from pondel.core.engine import render, routing
from pondel.core.errors import BadDocument
from pondel.core.losses import settled, without
from pondel.core.moves.compressor import Compressor
from pondel.core.moves.drawn_duck import DrawnDuck
from pondel.core.reading import parse_session, to_json
from pondel.core.refs import Mapping, TieRef, pointers, rebind, references

SECTIONS = [
    {"id": "a", "name": "Verse", "start_s": 0.0, "end_s": 1.0},
    {"id": "b", "name": "Chorus", "start_s": 1.0, "end_s": 2.0},
]


@pytest.fixture
def session():
    duck = {"id": "c", "kind": "compressor", "key": {"source": "drum"}, "sections": ["a"]}
    both = {"id": "l", "kind": "level", "gain_db": -2, "sections": ["a", "b"]}
    drawn = {"id": "d", "kind": "drawn duck", "hits_of": "drum"}
    bare = session_of(
        {"id": "drum", "role": "kick"},
        {
            "id": "tuba",
            "role": "bass",
            "moves": [duck, both],
            "sends": [{"to": "hall"}],
            "group": "lows",
        },
        {"id": "pad", "moves": [drawn]},
        {"id": "hall", "file": None, "source": "sends"},
        {"id": "lows", "file": None, "source": "sends"},
        sections=SECTIONS,
        zones=[
            {"id": "z", "low_hz": 40, "high_hz": 90, "leads": "drum", "gives_way": ["tuba", "pad"]},
            {"id": "y", "low_hz": 90, "high_hz": 200, "leads": "tuba", "gives_way": ["pad"]},
        ],
    )
    return paired(bare, "drum", "tuba")


def test_every_pointing_field_is_known_by_its_type(session):
    assert {name: one.at for name, one in pointers(Compressor).items()} == {"sections": "section"}
    assert pointers(DrawnDuck)["hits_of"].at == "hits"
    assert {name: one.at for name, one in pointers(Zone).items()} == {
        "leads": "part",
        "gives_way": "part",
        "sections": "section",
    }
    duck = session.part("tuba").moves[0]
    assert set(references(duck)) == {("part", "drum"), ("section", "a")}
    tied = session.part("tuba").moves[-1]
    assert ("part", "drum") in set(references(tied))


def test_references_are_led_to_new_ids_and_what_is_gone_is_told():
    move = Compressor(id="c", key={"source": "drum"}, sections=["a", "b"])
    bound, lost = rebind(move, Mapping(parts={"drum": "kick"}, sections={"a": "x", "b": None}))
    assert (bound.key.source, bound.sections, lost) == ("kick", ["x"], [])
    same, lost = rebind(move, Mapping(parts={"drum": None}, sections=dict.fromkeys("ab")))
    assert same == move
    assert {(one.field, one.id) for one in lost} == {
        ("key.source", "drum"),
        ("sections", "a"),
        ("sections", "b"),
    }
    tie = TieRef(part="p", move="m")
    moved, _ = rebind(tie, Mapping(parts={"p": "q"}, moves={("p", "m"): "n"}))
    assert (moved.part, moved.move) == ("q", "n")
    assert rebind(move, Mapping())[0] is move


def test_taking_out_a_part_switches_off_what_pointed_at_it_and_says_so(session):
    left, said = without(session, parts={"drum"})
    duck, level, tied = left.part("tuba").moves
    assert not duck.on and duck.lost == "It listened to Drum, which was taken out."
    assert level.on and not level.lost
    assert not tied.on and tied.lost == "Its other side stood on Drum, which was taken out."
    drawn = left.part("pad").moves[0]
    assert not drawn.on and drawn.lost == "It followed the hits of Drum, which was taken out."
    assert [zone.id for zone in left.zones] == ["y"]
    assert len(said) == 4 and "Tuba, compressor is off: it listened to Drum" in said[0]
    assert parse_session(to_json(left)) == left


def test_taking_out_a_return_or_a_group_is_said(session):
    left, said = without(session, parts={"hall", "lows"})
    assert left.part("tuba").sends == [] and left.part("tuba").group is None
    assert said == ["Tuba sends there no more.", "Tuba feeds the mix now."]


def test_a_move_of_a_section_that_goes_never_acts_elsewhere(session):
    left, said = without(session, sections={"a"})
    duck, level, _ = left.part("tuba").moves
    assert not duck.on and duck.sections == ["a"]
    assert duck.lost == "It acted only in Verse, which was taken out."
    assert level.on and level.sections == ["b"]
    assert "Tuba, level no longer acts in Verse." in said
    fewer = after(session, "set sections", sections=[SECTIONS[1]])
    assert fewer == left


def test_swapped_moves_listen_to_where_they_came_from(session):
    bare = session.model_copy(update={"zones": []})
    swapped = after(bare, "swap", leader="drum", part="tuba")
    assert {m.kind for m in swapped.part("drum").moves} == {"complementary eq", "compressor"}
    assert next(m for m in swapped.part("drum").moves if m.kind == "compressor").key.source == "tuba"


HIT_DRIVEN = [
    {"kind": "drawn duck", "hits_of": "drum", "depth_db": 12, "length_ms": 100},
    {"kind": "tail trim", "end_ms": 200, "fade_ms": 50},
]


@pytest.mark.parametrize("settings", HIT_DRIVEN, ids=lambda one: one["kind"])
def test_a_move_follows_hits_as_they_are_now(settings):
    holder = "tuba" if settings["kind"] == "drawn duck" else "drum"
    session = session_of({"id": "drum"}, {"id": "tuba"})
    session = after(session, "add move", part=holder, **laid(settings))
    sounds = {"drum": noise(2, 0.3), "tuba": noise(2, 0.3)}
    media = ArrayMedia(sounds, {"drum": [0.5, 1.5]})
    node = (holder, "before fader")
    before = render.region(session, media, node, 0, 2 * RATE)
    expected = run(session.part(holder).moves[0], sounds[holder], hits_s=[0.5, 1.5])
    assert np.array_equal(before, expected)
    corrected = after(session, "toggle hit", part="drum", at_s=1.0, facts=KnownHits())
    heard = render.region(corrected, media, node, 0, 2 * RATE)
    assert np.array_equal(
        heard, run(corrected.part(holder).moves[0], sounds[holder], hits_s=[0.5, 1.0, 1.5])
    )
    assert routing.fingerprint(corrected, media, node) != routing.fingerprint(session, media, node)


def test_a_copied_tail_trim_follows_the_hits_of_its_new_part():
    session = session_of({"id": "drum"}, {"id": "tuba"})
    session = after(session, "add move", part="drum", **laid({"kind": "tail trim", "end_ms": 100}))
    session = after(session, "add move", part="drum", **laid(HIT_DRIVEN[0] | {"hits_of": "tuba"}))
    copied = after(session, "copy moves", part="drum", move="m1", to=["tuba"])
    media = ArrayMedia({"drum": hits(2), "tuba": noise(2, 0.3)}, {"drum": list(HITS_S), "tuba": [1.0]})
    out = render.region(copied, media, ("tuba", "before fader"), 0, 2 * RATE)
    assert np.array_equal(out, run(copied.part("tuba").moves[0], noise(2, 0.3), hits_s=[1.0]))


def test_a_trim_that_names_its_own_part_is_copied_to_follow_the_new_one():
    session = session_of({"id": "drum"}, {"id": "tuba"}, {"id": "pad"})
    trim = {"kind": "tail trim", "hits_of": "drum", "end_ms": 100}
    session = after(session, "add move", part="drum", **laid(trim))
    assert after(session, "copy moves", part="drum", to=["pad"]).part("pad").moves[0].hits_of == "pad"


def test_a_swapped_drawn_duck_follows_the_part_it_came_from():
    session = session_of({"id": "drum"}, {"id": "tuba"})
    session = after(session, "add move", part="tuba", **laid(HIT_DRIVEN[0]))
    swapped = after(session, "swap", leader="drum", part="tuba")
    assert not swapped.part("tuba").moves
    assert swapped.part("drum").moves[0].hits_of == "tuba"


def test_hits_from_a_midi_file_reach_the_moves_that_follow_them():
    session = session_of({"id": "drum"}, {"id": "tuba"})
    session = after(session, "add move", part="tuba", **laid(HIT_DRIVEN[0]))
    data = to_json(session)
    data["parts"][0]["hits"]["midi_s"] = [0.25, 1.25]
    media = ArrayMedia({"drum": hits(2), "tuba": noise(2, 0.3)}, {"drum": [0.5]})
    out = render.region(parse_session(data), media, ("tuba", "before fader"), 0, 2 * RATE)
    assert np.array_equal(out, run(session.part("tuba").moves[0], noise(2, 0.3), hits_s=[0.25, 1.25]))


def test_both_sides_of_a_pair_act_in_the_same_sections(session):
    tied = session.part("tuba").moves[-1]
    left = after(session, "set move", part="tuba", move=tied.id, field="sections", value=["b"])
    other = next(m for m in left.part("drum").moves if m.id == tied.tied_to.move)
    assert (left.part("tuba").moves[-1].sections, other.sections) == (["b"], ["b"])


def test_a_copy_that_would_point_at_its_own_part_stays_out(session):
    copied = after(session, "copy moves", part="pad", move=None, to=["tuba"])
    assert copied.part("tuba").moves[-1].hits_of == "drum"
    with pytest.raises(BadDocument, match="listens to it"):
        after(session, "copy moves", part="pad", move=None, to=["drum"])


def test_a_move_that_lost_its_target_works_again_once_it_has_another(session):
    left, _ = without(session, parts={"drum"}, sections={"a"})

    def put(document, field, value):
        return after(document, "set move", part="tuba", move="c", field=field, value=value)

    with pytest.raises(BadDocument, match="Choose what takes its place first"):
        put(left, "on", True)
    half = put(left, "key.source", "pad")
    assert half.part("tuba").moves[0].lost and not half.part("tuba").moves[0].on
    whole = put(half, "sections", ["b"])
    assert whole.part("tuba").moves[0].on and not whole.part("tuba").moves[0].lost
    quieter = put(left, "threshold_db", -40)
    assert quieter.part("tuba").moves[0].lost == left.part("tuba").moves[0].lost


def test_a_document_from_outside_is_settled(session):
    whole, said = settled(session)
    assert whole == session and not said
    data = to_json(session)
    data["parts"] = [part for part in data["parts"] if part["id"] != "drum"]
    for part in data["parts"]:
        part["moves"] = [move for move in part["moves"] if move["kind"] != "complementary eq"]
    torn = parse_session(data)
    left, said = settled(torn)
    assert not left.part("tuba").moves[0].on and left.part("tuba").moves[1].on
    assert left.part("tuba").moves[0].lost == "It listened to a part, which was taken out."
    assert [zone.id for zone in left.zones] == ["y"] and len(said) == 3
    assert settled(left) == (left, [])
