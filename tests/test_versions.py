"""Documents of older versions are read and sound as they did; newer ones are refused in words."""

from __future__ import annotations

import json
import re

import numpy as np
import pytest
from conftest import RATE, sine
from hypothesis import given, settings
from hypothesis import strategies as st
from moves_tools import noise, run

from pondel.core.advice.older_sound import sounds_different
from pondel.core.audio.media import ArrayMedia
from pondel.core.dsp.matched import prototype
from pondel.core.engine import render
from pondel.core.errors import BadDocument
from pondel.core.reading import parse_session, to_json
from pondel.core.versions import VERSION, brought_up

DRUM_HITS = [0.5, 1.0]
TUBA_HITS = [0.25, 1.25]


def first_form(*moves: dict, sections=(), zones=(), tuba=None) -> dict:
    """A document as the first version wrote it, with moves on the tuba."""
    return {
        "pondel": 1,
        "name": "Old",
        "sections": list(sections),
        "zones": list(zones),
        "parts": [
            {"id": "drum", "name": "Drum", "file": "drum"},
            {"id": "tuba", "name": "Tuba", "file": "tuba", "moves": list(moves), **(tuba or {})},
        ],
    }


def sound(document: dict) -> np.ndarray:
    media = ArrayMedia(
        {"drum": sine(60, 2), "tuba": noise(2, 0.3)}, {"drum": DRUM_HITS, "tuba": TUBA_HITS}
    )
    return render.region(parse_session(document), media, ("tuba", "before fader"), 0, 2 * RATE)


def drawn(**more) -> dict:
    return {"id": "d", "kind": "drawn duck", "depth_db": 20, "length_ms": 100, "ramp_ms": 1.0, **more}


def alone(document: dict, hits_s: list[float]) -> np.ndarray:
    """The tuba through its first move alone, set off at given times."""
    return run(parse_session(document).part("tuba").moves[0], noise(2, 0.3), hits_s=hits_s)


@pytest.mark.parametrize(
    ("move", "hits_s"),
    [
        (drawn(hits_of="drum", hits_s=DRUM_HITS), DRUM_HITS),
        (drawn(hits_of=None, hits_s=[0.3, 0.7]), [0.3, 0.7]),
        (drawn(hits_of="gone", hits_s=[0.3, 0.7]), [0.3, 0.7]),
        (drawn(hits_of=None, hits_s=[]), []),
        ({"id": "t", "kind": "tail trim", "end_ms": 150, "hits_s": TUBA_HITS}, TUBA_HITS),
    ],
)
def test_moves_that_held_hits_sound_as_they_did(move, hits_s):
    old = first_form(move)
    assert np.array_equal(sound(old), alone(old, hits_s))
    assert "hits_s" not in to_json(parse_session(old))["parts"][1]["moves"][0]


def test_a_copied_tail_trim_keeps_to_the_hits_it_had():
    other = drawn(id="o", hits_of="drum", hits_s=DRUM_HITS, on=False)
    old = first_form({"id": "t", "kind": "tail trim", "end_ms": 150, "hits_s": DRUM_HITS}, other)
    assert np.array_equal(sound(old), alone(old, DRUM_HITS))


def test_a_tail_trim_without_hits_did_nothing_and_does_nothing():
    old = first_form({"id": "t", "kind": "tail trim", "end_ms": 150, "hits_s": []})
    assert np.array_equal(sound(old), noise(2, 0.3))
    assert "had no hits" in brought_up(old).notes[0]


def test_hits_that_belong_to_no_part_are_said_where_they_cannot_be_kept():
    by_hand = {"hits": {"added_s": [0.1], "removed_s": [], "midi_s": None}}
    old = first_form(drawn(hits_of=None, hits_s=[0.3]), tuba=by_hand)
    found = brought_up(old)
    move = parse_session(old).part("tuba").moves[0]
    assert not move.on and move.lost and len(found.notes) == 1
    assert parse_session(old).part("tuba").hits.added_s == [0.1]


def test_a_limit_to_sections_that_were_gone_was_none():
    old = first_form({"id": "l", "kind": "level", "gain_db": -6, "sections": ["gone"]})
    assert np.allclose(sound(old), noise(2, 0.3) * 10 ** (-6 / 20), atol=1e-6)


def test_a_key_that_was_gone_heard_silence_and_still_does():
    gate = {"id": "g", "kind": "gate", "key": {"source": "gone"}, "threshold_db": -30, "range_db": 40}
    old = first_form(gate)
    assert np.abs(sound(old)[RATE:]).max() < 0.05
    assert parse_session(old).part("tuba").moves[0].lost == "The part it listened to was taken out."


def test_both_sides_of_a_pair_are_tied_by_one_field():
    def side(name: str, part: str) -> dict:
        tied = {"tied_part": part, "tied_move": "c"}
        return {"id": "c", "kind": "complementary eq", "side": name, **tied}

    old = first_form(side("gives", "drum"))
    old["parts"][0]["moves"] = [side("gains", "tuba")]
    tie = parse_session(old).part("tuba").moves[0].tied_to
    assert (tie.part, tie.move) == ("drum", "c")


def test_zones_of_parts_that_were_gone_are_left_out():
    zone = {"low_hz": 40, "high_hz": 90, "leads": "drum"}
    zones = [
        {**zone, "id": "a", "gives_way": ["tuba", "gone"], "sections": ["gone"]},
        {**zone, "id": "b", "gives_way": ["gone"]},
        {**zone, "id": "c", "leads": "gone", "gives_way": ["tuba"]},
    ]
    (left,) = parse_session(first_form(zones=zones)).zones
    assert (left.id, left.gives_way, left.sections) == ("a", ["tuba"], [])


def test_the_present_form_is_left_as_it_is_and_a_newer_one_refused():
    now = to_json(parse_session(first_form()))
    assert now["pondel"] == VERSION and brought_up(now).document == now
    assert not brought_up(now).notes and brought_up(first_form()).came_from == 1
    with pytest.raises(BadDocument, match="newer Pondel"):
        parse_session({**now, "pondel": VERSION + 1})


anything = st.recursive(
    st.none() | st.booleans() | st.floats() | st.integers() | st.text(max_size=6),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.text(max_size=6), inner, max_size=3),
    max_leaves=6,
)
PLACES = ["parts", "zones", "sections", "hits"]
FIELDS = ["hits_s", "hits_of", "sections", "key", "kind", "on", "tied_part", "tied_move"]


@settings(max_examples=200, deadline=None)
@given(st.sampled_from(FIELDS), anything, st.sampled_from(PLACES), anything)
def test_what_is_wrong_with_an_old_document_is_refused_in_words(field, value, place, other):
    old = first_form(drawn(hits_s=DRUM_HITS, hits_of="drum") | {field: value})
    if place == "hits":
        old["parts"][1]["hits"] = other
    else:
        old[place] = [other, *old[place]] if isinstance(old[place], list) else other
    text = json.dumps(old)
    try:
        found = parse_session(json.loads(text))
    except BadDocument as error:
        assert error.message
    else:
        assert parse_session(to_json(found)) == found
    assert json.dumps(old) == text


def second_form(*moves: dict, **tuba) -> dict:
    return {**first_form(*moves, tuba=tuba), "pondel": 2}


def test_a_spectral_duck_of_the_second_form_keeps_what_it_asked_for():
    def duck(**more):
        return {"id": "s", "kind": "spectral duck", "key": {"source": "drum"}, **more}

    for sharpness, ratio in ((0.5, 2.0), (0.75, 4.0), (1.0, float("inf"))):
        old = second_form(duck(sensitivity_db=-33, sharpness=sharpness))
        move = parse_session(old).part("tuba").moves[0]
        assert (move.threshold_db, move.ratio) == (-33, pytest.approx(ratio))
    plain = parse_session(second_form(duck())).part("tuba").moves[0]
    assert (plain.threshold_db, plain.ratio) == (-40, 2)
    with pytest.raises(BadDocument, match="ratio"):
        parse_session(second_form(duck(sharpness="much")))


@pytest.mark.parametrize(
    ("move", "words"),
    [
        ({"kind": "dynamic eq", "bands": [{"hz": 12000, "q": 1, "range_db": -12}]}, "Tuba, dynamic EQ"),
        ({"kind": "dynamic eq", "bands": [{"hz": 100, "range_db": 0}]}, ""),
        ({"kind": "spectral duck", "depth_db": 24}, "Tuba, spectral duck"),
        ({"kind": "gate", "range_db": 30}, "Tuba, gate / expander: up to 30.0 dB"),
        (
            {
                "kind": "eq",
                "level_match": True,
                "bands": [{"shape": "low shelf", "hz": 300, "gain_db": 12, "placement": "sides"}],
            },
            "Tuba, EQ: up to",
        ),
        ({"kind": "eq", "level_match": True, "bands": [{"hz": 300, "gain_db": 6}]}, ""),
        ({"kind": "compressor", "threshold_db": -30}, ""),
        ({"kind": "compressor", "on": False, "threshold_db": -30}, ""),
    ],
)
def test_what_sounds_different_is_said_with_its_decibels(move, words):
    document = parse_session(second_form({"id": "m", **move}))
    told = " ".join(sounds_different(document, 2))
    assert (words in told) if words else told == ""
    assert sounds_different(document, 3) == []


def test_the_decibels_told_of_a_dynamic_bell_are_those_of_its_range():
    band = {"hz": 15000, "q": 1, "range_db": -12, "threshold_db": -80, "ratio": "inf"}
    document = parse_session(
        {**second_form({"id": "m", "kind": "dynamic eq", "bands": [band]}), "rate": 44100}
    )
    (told,) = sounds_different(document, 2)
    said = float(re.search(r"up to ([0-9.]+) dB", told)[1])
    # Before: 1 + (g - 1) B with the cookbook's band-pass, whose width shrinks near half the rate.
    hz = np.geomspace(20, 0.45 * 44100, 300)
    w, w0 = 2 * np.pi * hz / 44100, 2 * np.pi * 15000 / 44100
    alpha, z = np.sin(w0) / 2, np.exp(-1j * w)
    b = alpha * (1 - z * z) / (1 + alpha - 2 * np.cos(w0) * z + (1 - alpha) * z * z)
    before = 20 * np.log10(np.abs(1 + (10 ** (-12 / 20) - 1) * b))
    now = 20 * np.log10(np.abs(prototype("bell", hz, 15000, -12, 1)))
    assert said == pytest.approx(np.abs(now - before).max(), abs=0.3)


def test_a_muted_part_that_sends_and_a_split_in_a_section_are_told():
    sections = [{"id": "s", "name": "S", "start_s": 0.5, "end_s": 1}]
    split = {"id": "m", "kind": "multiband", "sections": ["s"]}
    old = {
        **second_form(split, mute=True, sends=[{"to": "hall", "tap": "before fader"}]),
        "sections": sections,
    }
    old["parts"].append({"id": "hall", "name": "Hall", "file": None, "source": "sends"})
    (told,) = sounds_different(parse_session(old), 2)
    assert "Tuba is muted: its sends are silent now." in told
    assert "no longer dips at its sections' borders" in told


def test_a_hold_that_held_the_highest_peak_alone_is_told():
    (told,) = sounds_different(
        parse_session(second_form({"id": "c", "kind": "compressor", "hold_ms": 40})), 2
    )
    assert "Tuba, compressor: holds each peak for its 40 ms now, not the highest alone." in told
    assert not sounds_different(parse_session(second_form({"id": "c", "kind": "compressor"})), 2)


@pytest.mark.parametrize(
    ("how", "tap", "told"),
    [
        ({"mute": True}, "after fader", False),
        ({"mute": True}, "before fader", True),
        ({"silent_key": True}, "after fader", True),
        ({}, "before fader", False),
    ],
)
def test_a_send_that_was_silent_before_is_not_told(how, tap, told):
    old = second_form(**how, sends=[{"to": "hall", "tap": tap}])
    old["parts"].append({"id": "hall", "name": "Hall", "file": None, "source": "sends"})
    assert bool(sounds_different(parse_session(old), 2)) is told


def test_a_tied_move_listens_to_the_part_it_is_tied_to():
    def side(name: str, other: str, **more) -> dict:
        tied = {"tied_to": {"part": other, "move": "c"}, "side": name}
        band = {"hz": 70, "difference_db": 18, "dynamic": "both", "full_at_db": -60}
        return {"id": "c", "kind": "complementary eq", "bands": [band], **tied, **more}

    old = second_form(side("gives", "drum", key={"source": "tuba"}))
    old["parts"][0]["moves"] = [side("gains", "tuba")]
    found = brought_up(old)
    assert found.notes == [
        f"The complementary eq of {name!r} listens to the part it is tied to now."
        for name in (old["parts"][0]["name"], "Tuba")
    ]
    document = parse_session(old)
    assert document.part("tuba").moves[0].key.source == "drum"
    media = ArrayMedia({"drum": np.zeros((RATE, 1), "f4"), "tuba": sine(70, 1)})
    out = render.region(document, media, ("drum", "before fader"), 0, RATE)
    heard = render.region(document, media, ("tuba", "before fader"), 0, RATE)
    assert not out.any() and np.array_equal(heard, sine(70, 1))
    data = to_json(document)
    data["parts"][1]["moves"][0]["key"]["source"] = "tuba"
    with pytest.raises(BadDocument, match="another part than it is tied to"):
        parse_session(data)
