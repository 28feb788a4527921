"""The mix document, its edits, and values as they are typed."""

from __future__ import annotations

import json
import math

import pytest
from conftest import session_of
from doing import after, do
from hypothesis import given, settings
from hypothesis import strategies as st
from jsonschema import Draft202012Validator

from pondel.core import units
from pondel.core.document import content_hash
from pondel.core.errors import BadDocument, NotFound
from pondel.core.moves.controls import controls_of, item_lists
from pondel.core.moves.registry import KINDS
from pondel.core.reading import json_schema, parse_session, to_json, to_text

EXAMPLE = {
    "pondel": 3,
    "name": "Lantern Parade",
    "rate": 48000,
    "tempo_bpm": 104.0,
    "beats_per_bar": 4,
    "listening_level_db_spl": 83,
    "sections": [{"id": "s1", "name": "Verse", "start_s": 0.0, "end_s": 18.46}],
    "parts": [
        {
            "id": "drum",
            "name": "Bass drum",
            "role": "kick",
            "file": "audio/bass-drum.flac",
            "trim_db": 0.0,
            "fader_db": 0.0,
            "pan": 0.0,
            "mute": False,
            "silent_key": False,
            "sends": [{"to": "hall", "level_db": -12.0, "tap": "after fader"}],
            "moves": [],
        },
        {"id": "hall", "name": "Hall", "role": "effect", "file": None, "source": "sends"},
        {
            "id": "tuba",
            "name": "Tuba",
            "role": "bass",
            "file": "audio/tuba.flac",
            "moves": [
                {
                    "id": "m1",
                    "kind": "compressor",
                    "on": True,
                    "sections": [],
                    "key": {
                        "source": "drum",
                        "tap": "source",
                        "level_db": 0.0,
                        "low_cut_hz": None,
                        "high_cut_hz": 120.0,
                    },
                    "threshold_db": -30.0,
                    "ratio": 4.0,
                    "knee_db": 6.0,
                    "attack_ms": 2.0,
                    "release_ms": 90.0,
                    "range_db": 24.0,
                    "makeup_db": 0.0,
                    "mix": 1.0,
                    "detector": "peak",
                    "look_ahead_ms": 0.0,
                }
            ],
        },
    ],
    "zones": [{"id": "z1", "low_hz": 38.0, "high_hz": 92.0, "leads": "drum", "gives_way": ["tuba"]}],
}


def test_the_documented_example_is_a_session_and_comes_back_unchanged():
    session = parse_session(json.dumps(EXAMPLE))
    again = to_json(session)
    assert again["parts"][2]["moves"][0]["threshold_db"] == -30.0
    assert parse_session(again) == session
    Draft202012Validator.check_schema(json_schema())
    assert not list(Draft202012Validator(json_schema()).iter_errors(EXAMPLE))


def test_the_kept_text_of_every_kind_holds_what_its_values_are():
    tiny, odd = 1e-7 / 3, 'Küche 鼓 "ß" \\'
    moves = [
        {"id": f"m{n}", "kind": kind.name, **({"key": {"source": "kick"}} if kind.keyed else {})}
        for n, kind in enumerate(kind for kind in KINDS.values() if kind.pair is None)
    ]
    kick = {"id": "kick", "fader_db": -math.pi, "start_s": tiny}
    session = session_of(kick, {"id": "tuba", "name": odd, "moves": moves})
    text = to_text(session)
    assert json.loads(text) == to_json(session) and parse_session(text) == session
    assert (
        json.loads(text)["parts"][0]["start_s"] == tiny and odd in json.loads(text)["parts"][1]["name"]
    )


def broken(path: list, value) -> dict:
    data = json.loads(json.dumps(EXAMPLE))
    place = data
    for step in path[:-1]:
        place = place[step]
    place[path[-1]] = value
    return data


@pytest.mark.parametrize(
    ("path", "value", "message"),
    [
        (["parts", 2, "moves", 0, "ratio"], 0.5, r"parts\[2\].moves\[0\].ratio.*1"),
        (["parts", 2, "moves", 0, "release_ms"], "soon", r"release_ms.*number"),
        (["parts", 2, "moves", 0, "threshold_db"], math.nan, r"threshold_db.*finite"),
        (["parts", 2, "moves", 0, "colour"], "red", r"colour.*not permitted"),
        (["parts", 0, "pan"], 2, r"pan.*1"),
        (["parts", 0, "role"], "cowbell", r"role"),
        (["parts", 0, "sends", 0, "to"], "nowhere", r"sends to 'nowhere'"),
        (["parts", 2, "id"], "drum", r"two parts have the id 'drum'"),
        (["parts", 2, "file"], None, r"has no file"),
        (["sections", 0, "end_s"], 0.0, r"ends before it starts"),
        (["zones", 0, "high_hz"], 20.0, r"above its low edge"),
        (["rate"], 8000, r"rate.*44100"),
        (["pondel"], 4, r"pondel.*newer"),
        (["pondel"], 0, r"pondel"),
    ],
)
def test_a_broken_document_is_refused_with_field_and_range(path, value, message):
    with pytest.raises(BadDocument, match=message):
        parse_session(broken(path, value))


junk = st.recursive(
    st.none() | st.booleans() | st.floats() | st.integers() | st.text(max_size=8),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.text(max_size=8), inner, max_size=3),
    max_leaves=8,
)
PATHS = [
    ["parts"],
    ["parts", 0],
    ["parts", 2, "moves"],
    ["parts", 2, "moves", 0],
    ["parts", 2, "moves", 0, "key"],
    ["parts", 2, "moves", 0, "ratio"],
    ["sections", 0],
    ["zones", 0, "leads"],
]


@settings(max_examples=150, deadline=None)
@given(path=st.sampled_from(PATHS), value=junk)
def test_fuzzed_documents_are_refused_in_words_or_taken(path, value):
    try:
        session = parse_session(broken(path, value))
    except BadDocument as error:
        assert error.message
    else:
        assert parse_session(to_json(session)) == session


@pytest.mark.parametrize("text", ["", "{", "[]", "null", b"\xff\xfe", "[" * 100_000])
def test_what_is_not_a_document_is_said_so(text):
    with pytest.raises(BadDocument):
        parse_session(text)


def test_a_hash_does_not_depend_on_the_order_of_fields():
    assert content_hash({"a": 1, "b": [2]}) == content_hash({"b": [2], "a": 1})
    assert content_hash({"a": 1}) != content_hash({"a": 2})


@pytest.mark.parametrize(
    ("text", "unit", "value"),
    [
        ("-6 dB", "dB", -6),
        ("−6", "dB", -6),
        ("1.2k", "Hz", 1200),
        ("88 Hz", "Hz", 88),
        ("1,5 kHz", "Hz", 1500),
        ("90ms", "ms", 90),
        ("0.1 s", "ms", 100),
        ("4:1", ":1", 4),
        ("60 %", "%", 0.6),
        ("L30", "pan", -0.3),
        ("30 r", "pan", 0.3),
        ("C", "pan", 0),
        ("-0.3", "pan", -0.3),
        ("45", "pan", 0.45),
        ("right", "pan", 1),
        ("12 % left", "pan", -0.12),
    ],
)
def test_typed_values_carry_their_units(text, unit, value):
    assert units.parse(text, unit) == pytest.approx(value)


def test_off_and_endless_values_where_they_are_allowed():
    assert units.parse("off", "Hz", optional=True) is None
    assert units.parse("inf:1", ":1", endless=True) == math.inf
    for text in ("off", "six", "", "4 Hz", "1e999", "nan"):
        with pytest.raises(BadDocument):
            units.parse(text, "dB")
    for text in ("", "up", "l30r", "-"):
        with pytest.raises(BadDocument, match="L30, C or R30"):
            units.parse(text, "pan")


@pytest.mark.parametrize(
    ("value", "unit", "words"),
    [
        (-6.0, "dB", "−6.0 dB"),
        (-0.01, "dB", "0.0 dB"),
        (88.4, "Hz", "88 Hz"),
        (1200, "Hz", "1.2 kHz"),
        (12000, "Hz", "12 kHz"),
        (math.inf, ":1", "∞:1"),
        (0.5, "%", "50 %"),
        (-0.3, "pan", "L30"),
        (0.001, "pan", "C"),
        (0.05, "ms", "0.05 ms"),
        (None, "Hz", "off"),
    ],
)
def test_values_in_words(value, unit, words):
    assert units.say(value, unit) == words


def test_every_move_describes_all_its_controls():
    for kind in KINDS.values():
        items = [one.item for one in item_lists(kind.params)]
        controls = [c for params in (kind.params, *items) for c in controls_of(params)]
        assert controls
        for control in controls:
            assert control.title and control.help.endswith(".")
            if control.kind == "number" and control.default is not None:
                assert control.low <= control.default <= control.high
                words = control.say(control.default)
                read = units.parse(words, control.unit, optional=True, endless=True)
                assert read == pytest.approx(control.default, rel=0.01, abs=0.01)


def test_edits_change_one_thing_and_name_it(duck):
    session, _ = duck
    done = do(session, "set move", part="tuba", move="m1", field="release_ms", value="0.2 s")
    assert done.title == "Tuba: release" and done.value.words == "200 ms"
    assert done.document.part("tuba").moves[0].release_ms == 200

    def key(field, value):
        put = after(session, "set move", part="tuba", move="m1", field=f"key.{field}", value=value)
        return put.part("tuba").moves[0].key

    assert key("high_cut_hz", "off").high_cut_hz is None
    assert key("source", "") is None
    quiet = after(session, "set part", part="tuba", field="fader_db", value="-3")
    assert quiet.part("tuba").fader_db == -3 and session.part("tuba").fader_db == 0
    more = do(session, "add move", part="tuba", kind="compressor")
    assert [move.id for move in more.document.part("tuba").moves] == ["m1", "m2"]
    assert more.added and more.move.move == "m2"
    left = do(session, "remove part", part="drum")
    assert left.document.part("tuba").moves[0].key.source == "drum"
    assert left.said == ["Tuba, compressor is off: it listened to Drum, which was taken out."]


TUBA = {"part": "tuba", "move": "m1"}


@pytest.mark.parametrize(
    ("asked", "message"),
    [
        (("set move", TUBA | {"field": "ratio", "value": "0.2:1"}), "from 1:1 to ∞:1"),
        (("set move", TUBA | {"field": "attack_ms", "value": "fast"}), "not a number in ms"),
        (("set move", TUBA | {"field": "attack_ms", "value": True}), "a number is needed"),
        (("set move", TUBA | {"field": "id", "value": "x"}), "no control 'id'"),
        (("set move", TUBA | {"field": "key.source", "value": "gone"}), "no part 'gone'"),
        (("set part", {"part": "tuba", "field": "file", "value": "x"}), "field"),
        (("add move", {"part": "tuba", "kind": "magic"}), "no move called 'magic'"),
    ],
)
def test_edits_that_make_no_sense_are_refused(duck, asked, message):
    op, fields = asked
    with pytest.raises(BadDocument, match=message):
        after(duck[0], op, **fields)


def test_edits_of_what_is_not_there(duck):
    with pytest.raises(NotFound):
        after(duck[0], "set move", part="tuba", move="m7", field="ratio", value=2)
    with pytest.raises(NotFound):
        after(session_of({"id": "a"}), "set part", part="b", field="pan", value=0)
