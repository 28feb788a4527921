"""Edits of chains: items, bands, order, copies, ties, swaps; and variants of a session."""

from __future__ import annotations

import numpy as np
import pytest
from conftest import session_of

from pondel.core import edits, move_edits, song_edits
from pondel.core.document import parse_session, to_json
from pondel.core.errors import BadDocument, NotFound
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


def after(session, edit):
    return edit[1](session)


def test_values_deep_inside_a_move_are_set_with_units(session):
    edit = move_edits.set_move(session, "tuba", "e", "bands.1.hz", "1.2k")
    assert edit[0] == "Tuba: frequency"
    assert after(session, edit).part("tuba").moves[0].bands[1].hz == 1200
    split = move_edits.set_move(session, "tuba", "m", "crossovers_hz.0", "96 Hz")
    assert after(session, split).part("tuba").moves[2].crossovers_hz == [96]
    off = move_edits.set_move(session, "tuba", "m", "bands.0.on", False)
    assert not after(session, off).part("tuba").moves[2].bands[0].on


@pytest.mark.parametrize(
    "path", ["bands.7.hz", "bands.x.hz", "bands.0", "kind", "bands.0.colour", "points.0.at"]
)
def test_a_path_that_leads_nowhere_is_refused(session, path):
    with pytest.raises(BadDocument):
        after(session, move_edits.set_move(session, "tuba", "e", path, 5))


def test_items_come_and_go(session):
    more = after(
        session, move_edits.add_item(session, "tuba", "e", "bands", {"hz": 5000, "gain_db": 2})
    )
    assert [b.hz for b in more.part("tuba").moves[0].bands] == [100, 1000, 5000]
    less = after(more, move_edits.remove_item(more, "tuba", "e", "bands", 0))
    assert [b.hz for b in less.part("tuba").moves[0].bands] == [1000, 5000]
    for bad in (
        lambda: move_edits.remove_item(session, "tuba", "e", "bands", 9),
        lambda: move_edits.add_item(session, "tuba", "m", "bands", {}),
    ):
        with pytest.raises(BadDocument):
            bad()


def test_bands_are_split_and_joined(session):
    split = after(session, move_edits.split_band(session, "tuba", "m", 1000))
    move = split.part("tuba").moves[2]
    assert move.crossovers_hz == [120, 1000] and len(move.bands) == 3
    joined = after(split, move_edits.join_bands(split, "tuba", "m", 0))
    assert joined.part("tuba").moves[2].crossovers_hz == [1000]
    with pytest.raises(BadDocument):
        move_edits.split_band(session, "tuba", "e", 100)


def test_moves_change_places_are_doubled_and_copied_with_their_key(session):
    turned = after(session, move_edits.reorder_move(session, "tuba", "m", 0))
    assert [m.id for m in turned.part("tuba").moves] == ["m", "e", "c"]
    double = after(session, move_edits.duplicate_move(session, "tuba", "c"))
    chain = double.part("tuba").moves
    assert len(chain) == 4 and chain[2].key == chain[1].key and chain[2].id != chain[1].id
    copied = after(session, move_edits.copy_moves(session, "tuba", None, ["pad", "drum", "tuba"]))
    assert [m.kind for m in copied.part("pad").moves] == ["eq", "compressor", "multiband"]
    assert copied.part("pad").moves[1].key.source == "drum"
    # On the drum itself the duck for the drum is left out.
    assert [m.kind for m in copied.part("drum").moves] == ["eq", "multiband"]
    with pytest.raises(BadDocument):
        move_edits.copy_moves(session, "pad", None, ["drum"])


def test_a_complementary_eq_stands_on_both_parts_and_goes_only_whole(session):
    tied = after(session, move_edits.add_tied(session, "drum", "tuba"))
    drum, tuba = tied.part("drum").moves[-1], tied.part("tuba").moves[-1]
    assert (drum.side, tuba.side) == ("gains", "gives") and drum.tied_to.move == tuba.id
    changed = after(tied, move_edits.set_move(tied, "tuba", tuba.id, "bands.0.difference_db", "9 dB"))
    assert changed.part("drum").moves[-1].bands[0].difference_db == 9
    more = after(changed, move_edits.add_item(changed, "drum", drum.id, "bands", {"hz": 2000}))
    assert len(more.part("tuba").moves[-1].bands) == 2
    with pytest.raises(BadDocument, match="tied to Tuba"):
        move_edits.remove_move(tied, "drum", drum.id)
    gone = after(tied, move_edits.remove_move(tied, "drum", drum.id, both_sides=True))
    assert not gone.part("drum").moves and len(gone.part("tuba").moves) == 3
    without = after(tied, edits.remove_part(tied, "drum"))
    alone = without.part("tuba").moves[-1]
    assert not alone.on and alone.lost == "Its other side stood on Drum, which was taken out."
    assert after(without, move_edits.remove_move(without, "tuba", alone.id)).part("tuba").moves
    torn = to_json(tied)
    torn["parts"][0]["moves"] = []
    with pytest.raises(BadDocument, match="no matching other side"):
        parse_session(torn)
    with pytest.raises(BadDocument):
        move_edits.add_move(session, "drum", {"kind": "complementary eq"})


def test_swapping_leader_and_yielder_swaps_their_moves(session):
    decided = after(session, song_edits.decide(session, "drum", "tuba", 40, 120, []))
    swapped = after(decided, move_edits.swap_moves(decided, "drum", "tuba"))
    assert [m.kind for m in swapped.part("drum").moves] == ["compressor"]
    assert swapped.part("drum").moves[0].key.source == "tuba"
    assert [m.kind for m in swapped.part("tuba").moves] == ["eq", "multiband"]
    assert (swapped.zones[0].leads, swapped.zones[0].gives_way) == ("tuba", ["drum"])
    back = after(swapped, move_edits.swap_moves(swapped, "tuba", "drum"))
    assert {m.kind for m in back.part("tuba").moves} == {"eq", "multiband", "compressor"}


@pytest.fixture
def kept(tmp_path, session):
    library = Library(tmp_path)
    return library, Variants(library), library.create(session)


def test_variants_are_heads_of_their_own(kept):
    library, variants, session_id = kept
    assert [(v.name, v.is_open) for v in variants.of(session_id)] == [("A", True)]
    variants.keep(session_id)
    document = library.head(session_id).document
    library.edit(session_id, None, edits.set_part(document, "tuba", "fader_db", -6))
    assert [(v.name, v.is_open) for v in variants.of(session_id)] == [("A", False), ("B", True)]
    assert variants.open(session_id, "A").document.part("tuba").fader_db == 0
    library.edit(session_id, None, edits.set_part(document, "pad", "fader_db", -3))
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
        document = library.head(session_id).document
        library.edit(session_id, None, edits.set_part(document, "tuba", "fader_db", level))
    states = library.history(session_id)
    assert [r.label for r in states] == ["Tuba: fader"] * 3 + ["Created"]
    assert np.isclose(library.go_to(session_id, states[1].id).document.part("tuba").fader_db, -2)
    assert library.redo(session_id).document.part("tuba").fader_db == -3
