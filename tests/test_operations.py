"""Operations: each has a schema, words and an example; chains, ties, swaps; variants."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from conftest import hits, session_of
from doing import KnownHits, after, do, paired
from jsonschema import Draft202012Validator

from pondel.core.dsp.tone import TONE_HZ
from pondel.core.errors import BadDocument, NotFound
from pondel.core.measures.home import Home
from pondel.core.measures.levels import Levels
from pondel.core.moves.fight import Fight
from pondel.core.operations import (
    OPERATIONS,
    apply_all,
    operations_schema,
    parse_operation,
    parse_operations,
)
from pondel.core.operations.manual import manual
from pondel.core.operations.parts import SetPart
from pondel.core.reading import parse_session, to_json
from pondel.store.library import Library
from pondel.store.variants import Variants


@pytest.fixture
def session():
    eq = {"id": "e", "kind": "eq", "bands": [{"hz": 100}, {"hz": 1000}]}
    duck = {"id": "c", "kind": "compressor", "key": {"source": "drum"}}
    bands = {"id": "m", "kind": "multiband"}
    return session_of(
        {"id": "drum", "role": "kick"},
        {"id": "tuba", "role": "bass", "moves": [eq, duck, bands]},
        {"id": "pad", "role": "pad"},
    )


def test_values_deep_inside_a_move_are_set_with_units(session):
    done = do(session, "set move", part="tuba", move="e", field="bands.1.hz", value="1.2k")
    assert done.title == "Tuba: frequency"
    assert (done.value.value, done.value.words) == (1200, "1.2 kHz")
    assert done.document.part("tuba").moves[0].bands[1].hz == 1200
    split = after(session, "set move", part="tuba", move="m", field="crossovers_hz.0", value="96 Hz")
    assert split.part("tuba").moves[2].crossovers_hz == [96]
    off = after(session, "set move", part="tuba", move="m", field="bands.0.on", value=False)
    assert not off.part("tuba").moves[2].bands[0].on


@pytest.mark.parametrize(
    "path", ["bands.7.hz", "bands.x.hz", "bands.0", "kind", "bands.0.colour", "points.0.at"]
)
def test_a_path_that_leads_nowhere_is_refused(session, path):
    with pytest.raises(BadDocument):
        after(session, "set move", part="tuba", move="e", field=path, value=5)


NOWHERE = [{"key": {"source": "nobody"}}, {"sections": ["nope"]}]
MADE_UP = [{"id": "mine"}, {"kind": "gate"}, {"lost": "made up"}, {"why": ["made up"]}]


@pytest.mark.parametrize("values", [*NOWHERE, *MADE_UP])
def test_no_move_is_added_that_points_at_nothing_or_says_what_it_may_not(session, values):
    with pytest.raises(BadDocument):
        do(session, "add move", part="tuba", kind="compressor", values=values)


def test_no_setting_leads_a_move_to_a_section_that_is_not_there(session):
    with pytest.raises(BadDocument, match="not there"):
        do(session, "set move", part="tuba", move="e", field="sections", value=["nope"])
    with pytest.raises(BadDocument, match="not there"):
        do(session, "add move", part="tuba", kind="drawn duck", values={"hits_of": "nobody"})


def test_items_come_and_go(session):
    more = after(
        session, "add item", part="tuba", move="e", list="bands", values={"hz": 5000, "gain_db": 2}
    )
    assert [b.hz for b in more.part("tuba").moves[0].bands] == [100, 1000, 5000]
    less = after(more, "remove item", part="tuba", move="e", list="bands", index=0)
    assert [b.hz for b in less.part("tuba").moves[0].bands] == [1000, 5000]
    for bad in (
        lambda: after(session, "remove item", part="tuba", move="e", list="bands", index=9),
        lambda: after(session, "add item", part="tuba", move="m", list="bands", values={}),
    ):
        with pytest.raises(BadDocument):
            bad()


def test_bands_are_split_and_joined(session):
    at = {"part": "tuba", "move": "m"}
    split = after(session, "act on move", **at, action="split", index=1)
    move = split.part("tuba").moves[2]
    # Halfway between 120 Hz and 20 kHz on a logarithmic axis.
    assert move.crossovers_hz == [120, 1549.2] and len(move.bands) == 3
    joined = after(split, "act on move", **at, action="join", index=0)
    assert joined.part("tuba").moves[2].crossovers_hz == [1549.2]
    with pytest.raises(BadDocument):
        after(session, "act on move", part="tuba", move="e", action="split")
    with pytest.raises(BadDocument, match="no such band"):
        after(session, "act on move", **at, action="split", index=7)


def test_moves_change_places_are_doubled_and_copied_with_their_key(session):
    turned = after(session, "reorder move", part="tuba", move="m", to=0)
    assert [m.id for m in turned.part("tuba").moves] == ["m", "e", "c"]
    double = after(session, "duplicate move", part="tuba", move="c")
    chain = double.part("tuba").moves
    assert len(chain) == 4 and chain[2].key == chain[1].key and chain[2].id != chain[1].id
    copied = after(session, "copy moves", part="tuba", move=None, to=["pad", "drum", "tuba"])
    assert [m.kind for m in copied.part("pad").moves] == ["eq", "compressor", "multiband"]
    assert copied.part("pad").moves[1].key.source == "drum"
    # On the drum itself the duck for the drum is left out.
    assert [m.kind for m in copied.part("drum").moves] == ["eq", "multiband"]
    with pytest.raises(BadDocument):
        after(session, "copy moves", part="pad", move=None, to=["drum"])


def test_a_complementary_eq_stands_on_both_parts_and_goes_only_whole(session):
    tied = paired(session, "drum", "tuba")
    drum, tuba = tied.part("drum").moves[-1], tied.part("tuba").moves[-1]
    assert (drum.side, tuba.side) == ("gains", "gives") and drum.tied_to.move == tuba.id
    changed = after(
        tied, "set move", part="tuba", move=tuba.id, field="bands.0.difference_db", value="9 dB"
    )
    assert changed.part("drum").moves[-1].bands[0].difference_db == 9
    more = after(changed, "add item", part="drum", move=drum.id, list="bands", values={"hz": 2000})
    assert len(more.part("tuba").moves[-1].bands) == 2
    with pytest.raises(BadDocument, match="tied to Tuba"):
        after(tied, "remove move", part="drum", move=drum.id)
    gone = after(tied, "remove move", part="drum", move=drum.id, both_sides=True)
    assert not gone.part("drum").moves and len(gone.part("tuba").moves) == 3
    without = after(tied, "remove part", part="drum")
    alone = without.part("tuba").moves[-1]
    assert not alone.on and alone.lost == "Its other side stood on Drum, which was taken out."
    assert after(without, "remove move", part="tuba", move=alone.id).part("tuba").moves
    torn = to_json(tied)
    torn["parts"][0]["moves"] = []
    with pytest.raises(BadDocument, match="no matching other side"):
        parse_session(torn)
    with pytest.raises(BadDocument):
        after(session, "add move", part="drum", kind="complementary eq")


def test_swapping_leader_and_yielder_swaps_their_moves(session):
    decided = after(
        session, "decide", leads="drum", gives_way="tuba", low_hz=40, high_hz=120, sections=[]
    )
    swapped = after(decided, "swap", leader="drum", part="tuba")
    assert [m.kind for m in swapped.part("drum").moves] == ["compressor"]
    assert swapped.part("drum").moves[0].key.source == "tuba"
    assert [m.kind for m in swapped.part("tuba").moves] == ["eq", "multiband"]
    assert (swapped.zones[0].leads, swapped.zones[0].gives_way) == ("tuba", ["drum"])
    back = after(swapped, "swap", leader="tuba", part="drum")
    assert {m.kind for m in back.part("tuba").moves} == {"eq", "multiband", "compressor"}


@pytest.fixture
def whole():
    """A session in which every example finds what it names."""
    eq = {"id": "m1", "kind": "eq", "bands": [{"hz": 100}, {"hz": 1000}]}
    parts = [{"id": "drum"}, {"id": "accordion", "sends": [{"to": "hall"}]}]
    tuba = {"id": "tuba", "moves": [eq, {"id": "m2", "kind": "level"}]}
    hall = {"id": "hall", "file": None, "source": "sends"}
    zone = {"id": "z1", "low_hz": 40, "high_hz": 90, "leads": "drum", "gives_way": ["tuba"]}
    slower = {"at_s": 8, "tempo_bpm": 90}
    return session_of(*parts, tuba, hall, zones=[zone], tempo_changes=[slower])


class Measured(KnownHits):
    """Facts of a session whose sound is a drum beat."""

    def levels(self, part):
        return Levels(4.0, -3.0, -2.9, -20.0, 17.0, 0.0, 0, 0, 0, -19.0, None, None, None)

    def home(self, part):
        return Home(50.0, 2000.0, 200.0, (62.0, 124.0))

    def spectrum_db(self, document, part, start_s, end_s):
        return np.full(TONE_HZ.size, -40.0)

    def fight(self, document, leader_id, yielder_id, start_s, zone_hz):
        zone = zone_hz or (40.0, 120.0)
        parts = document.part(leader_id), document.part(yielder_id)
        times = np.arange(0.1, 4.0, 0.5)
        return Fight(*parts, *zone, hits(4.0), times, times, 48000, 120.0)


@pytest.mark.parametrize("name", OPERATIONS)
def test_every_example_is_done_and_says_what_it_did(whole, name):
    if name == "act on move":
        data = to_json(whole)
        data["parts"][2]["moves"] = [
            {"id": "m1", "kind": "multiband", "crossovers_hz": [90, 900], "bands": [{}] * 3}
        ]
        whole = parse_session(data)
    if name == "take spectra":
        data = to_json(whole)
        data["parts"][2]["moves"] = [{"id": "m1", "kind": "contrast eq"}]
        whole = parse_session(data)
    if name == "go as far":
        data = to_json(whole)
        began = {"leader": "drum", "low_hz": 40, "high_hz": 120}
        data["parts"][2]["moves"] = [{"id": "m1", "kind": "multiband", "began": began}]
        whole = parse_session(data)
    if name == "change together":
        data = to_json(whole)
        began = {"leader": "drum", "low_hz": 40, "high_hz": 120, "together": "s1"}
        data["parts"][2]["moves"] = [{"id": "m2", "kind": "multiband", "began": began}]
        whole = parse_session(data)
    asked = {"op": name, **OPERATIONS[name].example}
    assert not list(Draft202012Validator(operations_schema()).iter_errors(asked))
    done = parse_operation(asked).apply(whole, Measured(drum=np.arange(0.1, 9.0, 0.5).tolist()))
    assert done.title and (done.document != whole or name == "hits as found")
    assert parse_session(to_json(done.document)) == done.document


def test_several_are_all_done_or_none(whole):
    first = {"op": "set part", "part": "tuba", "field": "fader_db", "value": "-3 dB"}
    second = {"op": "remove part", "part": "accordion"}
    done = apply_all(parse_operations([first, second]), whole)
    assert done.title == "Tuba: fader and 1 more"
    assert done.document.part("tuba").fader_db == -3 and not done.document.has_part("accordion")
    with pytest.raises(NotFound):
        apply_all(parse_operations([first, second, second]), whole)
    for wrong in (
        [],
        [first] * 501,
        3,
        None,
        {"op": ["x"]},
        {**first, "colour": 1},
        {"op": "set part"},
    ):
        with pytest.raises(BadDocument):
            parse_operations(wrong)


def test_the_manual_is_that_of_the_operations():
    assert Path("docs/operations.md").read_text() == manual()
    assert all(f"### {name}" in manual() for name in OPERATIONS)


def test_a_computed_move_keeps_why_it_began_as_it_did(whole):
    done = do(whole, "give way", part="tuba", leader="drum", kind="compressor", facts=Measured())
    move = done.document.part("tuba").moves[-1]
    assert move.why == done.said and "Threshold" in move.why[1]
    copied = after(done.document, "copy moves", part="tuba", move=move.id, to=["accordion"])
    assert copied.part("accordion").moves[0].why == move.why


@pytest.fixture
def kept(tmp_path, session):
    library = Library(tmp_path)
    return library, Variants(library), library.create(session)


def test_variants_are_heads_of_their_own(kept):
    library, variants, session_id = kept
    assert [(v.name, v.is_open) for v in variants.of(session_id)] == [("A", True)]
    variants.keep(session_id)
    library.edit(session_id, None, SetPart(part="tuba", field="fader_db", value=-6).apply)
    assert [(v.name, v.is_open) for v in variants.of(session_id)] == [("A", False), ("B", True)]
    assert variants.open(session_id, "A").document.part("tuba").fader_db == 0
    library.edit(session_id, None, SetPart(part="pad", field="fader_db", value=-3).apply)
    opened = variants.open(session_id, "B").document
    assert (opened.part("tuba").fader_db, opened.part("pad").fader_db) == (-6, 0)
    again = Variants(Library(library.data_dir))
    assert again.open(session_id, "A").document.part("pad").fader_db == -3
    with pytest.raises(BadDocument):
        variants.remove(session_id, "A")
    variants.remove(session_id, "B")
    assert len(variants.of(session_id)) == 1
    with pytest.raises(NotFound):
        variants.open(session_id, "B")


def test_at_most_eight_variants(kept):
    _, variants, session_id = kept
    for _ in range(7):
        variants.keep(session_id)
    with pytest.raises(BadDocument, match="eight"):
        variants.keep(session_id)


def test_any_state_in_the_history_can_be_gone_back_to(kept):
    library, _, session_id = kept
    for level in (-1, -2, -3):
        library.edit(session_id, None, SetPart(part="tuba", field="fader_db", value=level).apply)
    states = library.history.steps(session_id)
    assert [r.label for r in states] == ["Tuba: fader"] * 3 + ["Created"]
    assert np.isclose(
        library.history.go_to(session_id, states[1].id).document.part("tuba").fader_db, -2
    )
    assert library.history.redo(session_id).document.part("tuba").fader_db == -3


def test_where_a_part_begins_is_typed_as_a_note_value_too():
    known = session_of({"id": "a"}, tempo_bpm=120.0, tempo_from="told")
    left = after(known, "set part", part="a", field="start_s", value="1/8")
    assert left.part("a").start_s == pytest.approx(0.25)
    with pytest.raises(BadDocument, match="while the tempo is not known"):
        after(session_of({"id": "a"}), "set part", part="a", field="start_s", value="1/8")


def test_a_long_history_is_told_page_by_page(kept):
    library, _, session_id = kept
    for level in range(5):
        library.edit(session_id, None, SetPart(part="tuba", field="fader_db", value=-level - 1).apply)
    whole = library.history.steps(session_id)
    pages, since = [], None
    while page := library.history.steps(session_id, since, most=2):
        pages.append(page)
        since = page[-1].parent
        if since is None:
            break
    assert [len(page) for page in pages] == [2, 2, 2]
    assert [step for page in pages for step in page] == whole and whole[-1].parent is None
    other = library.create(session_of({"id": "a"}))
    with pytest.raises(NotFound):
        library.history.steps(other, whole[0].id)
    with pytest.raises(NotFound):
        library.history.steps("nowhere")


def test_a_number_beyond_a_range_is_refused_or_taken_as_its_end(session):
    def put(value, **more):
        where = {"part": "tuba", "move": session.part("tuba").moves[0].id}
        left = after(session, "set move", field="bands.0.gain_db", value=value, **where, **more)
        return left.part("tuba").moves[0].bands[0].gain_db

    with pytest.raises(BadDocument, match=r"from −30\.0 dB to 30\.0 dB"):
        put(44)
    assert put(44, to_range=True) == 30 and put(-1e9, to_range=True) == -30
    assert put("-6 dB", to_range=True) == -6


def test_the_edges_of_a_kept_zone_move_and_its_decision_stays(session):
    kept = after(session, "decide", leads="drum", gives_way="tuba", low_hz=40, high_hz=120, sections=[])
    moved = after(kept, "set zone", zone=kept.zones[0].id, low_hz="38 Hz", high_hz=210)
    expected = {**kept.zones[0].model_dump(), "low_hz": 38.0, "high_hz": 210.0}
    assert [zone.model_dump() for zone in moved.zones] == [expected]
    with pytest.raises(NotFound):
        after(kept, "set zone", zone="gone", low_hz=38, high_hz=210)
    with pytest.raises(BadDocument):
        after(kept, "set zone", zone=kept.zones[0].id, low_hz=2, high_hz=210)


def test_trimming_to_a_level_can_keep_the_mix(whole):
    """What the trims give, the faders take back, as far as they reach."""
    asked = {"op": "trim to", "target": "-30 dB", "keep_mix": True}
    done = parse_operation(asked).apply(whole, Measured())
    for before, now in zip(whole.parts, done.document.parts, strict=True):
        assert now.trim_db + now.fader_db == pytest.approx(before.trim_db + before.fader_db)
    assert any(part.trim_db == -10 for part in done.document.parts)


def test_a_time_is_typed_as_a_note_value_where_the_tempo_is_known(whole):
    compressor = {"op": "add move", "part": "tuba", "kind": "compressor"}
    document = parse_operation(compressor).apply(whole, Measured()).document
    asked = {"op": "set move", "part": "tuba", "move": document.part("tuba").moves[-1].id}
    with pytest.raises(BadDocument, match="tempo is not known"):
        parse_operation({**asked, "field": "release_ms", "value": "1/8"}).apply(document)
    document = (
        parse_operation({"op": "set session", "field": "tempo_bpm", "value": 100})
        .apply(document)
        .document
    )
    for typed, wanted_ms in (
        ("1/8", 300),
        ("1/16 dotted", 225),
        ("1/4t", 400),
        ("1/8.", 450),
        ("250", 250),
    ):
        done = parse_operation({**asked, "field": "release_ms", "value": typed}).apply(document)
        assert done.value.value == pytest.approx(wanted_ms)


def test_a_line_of_a_plan_and_a_name_that_make_no_sense_are_refused():
    line = {"leader": "a", "part": "b", "low_hz": 500, "high_hz": 100}
    with pytest.raises(BadDocument, match="high edge"):
        parse_operation({"op": "make room", "lines": [line]})
    with pytest.raises(BadDocument, match="more than spaces"):
        parse_operation({"op": "set part", "part": "a", "field": "name", "value": "   "}).apply(
            session_of({"id": "a"})
        )
