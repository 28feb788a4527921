"""One over many: several parts under one leader in one step."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from conftest import RATE, hits, session_of
from doing import KnownHits

from pondel.core.errors import BadDocument, NotFound
from pondel.core.moves.fight import Fight
from pondel.core.operations import parse_operation

BAND = session_of(
    {"id": "drum", "role": "kick"},
    {"id": "tuba", "role": "bass", "moves": [{"id": "m1", "kind": "eq"}]},
    {"id": "accordion", "role": "pad"},
    {"id": "voice", "role": "voice"},
    {"id": "hats", "role": "hats"},
    {"id": "hall", "file": None, "source": "sends"},
    {"id": "rough", "reference": True},
)


class Measured(KnownHits):
    def fight(self, document, leader_id, yielder_id, start_s, zone_hz):
        parts = document.part(leader_id), document.part(yielder_id)
        times = np.arange(0.1, 6.0, 0.5)
        return Fight(*parts, *(zone_hz or (40.0, 120.0)), hits(6.0), times, times, RATE, 120.0)


def done(**asked):
    return parse_operation({"op": "under one", "leader": "drum", **asked}).apply(BAND, Measured())


def test_by_role_a_bass_gives_most_what_fills_little_and_voices_and_drums_nothing():
    left = done().document
    tuba, accordion = left.part("tuba").moves[-1], left.part("accordion").moves[-1]
    assert [tuba.began.far, accordion.began.far] == [1.0, 0.0]
    assert all(not left.part(one).moves for one in ("voice", "hats", "hall", "rough", "drum"))


def test_each_is_laid_last_in_its_chain_in_one_step_and_says_what_it_is():
    found = done(amounts={"tuba": "strong", "voice": "gentle", "accordion": "none"})
    moves = found.document.part("tuba").moves
    assert moves[0].kind == "eq" and moves[-1].began.far == 2.0 and moves[-1].key.source == "drum"
    assert found.document.part("voice").moves[-1].began.leader == "drum"
    assert found.document.part("accordion").moves == []
    assert found.title == "2 parts under Drum" and len(found.said) == 2


@pytest.mark.parametrize("part", ["drum", "hall", "rough"])
def test_what_cannot_give_way_is_refused(part):
    with pytest.raises(BadDocument, match="cannot give way"):
        done(amounts={part: "usual"})


def test_nobody_and_an_unknown_part_are_refused():
    with pytest.raises(BadDocument, match="at least one"):
        done(amounts={"tuba": "none"})
    with pytest.raises(NotFound):
        done(amounts={"nobody": "usual"})


TWO = session_of(
    {"id": "room", "name": "Snare room", "role": "snare"},
    {"id": "close", "name": "Snare close", "role": "snare"},
    {"id": "other", "name": "Rim", "role": "snare"},
    {"id": "bass", "role": "bass"},
    {"id": "pad", "role": "pad"},
    {"id": "keys", "role": "keys"},
)


class Struck(Measured):
    """A snare in its room, the same close by, and another one that is struck elsewhere."""

    def __init__(self):
        times = np.arange(0.1, 6.0, 0.5)
        close, other = times - 0.006, times + 0.2
        super().__init__(room=times.tolist(), close=close.tolist(), other=other.tolist())
        self.recovery_s = {"bass": 0.2, "pad": 0.1, "keys": 0.4, "close": 0.1}

    def fall_s(self, part):
        return {"room": 0.31, "close": 0.09, "other": 0.03}.get(part.id)

    def fight(self, document, leader_id, yielder_id, start_s, zone_hz):
        found = super().fight(document, leader_id, yielder_id, start_s, zone_hz)
        return replace(found, recovery_s=self.recovery_s[yielder_id], hit_s=self.fall_s(found.leader))


def under(**asked):
    asked = {"op": "under one", "leader": "room", "kind": "compressor", **asked}
    return parse_operation(asked).apply(TWO, Struck())


ALL = {"bass": "usual", "pad": "gentle", "keys": "gentle"}


def test_each_is_keyed_by_the_most_direct_recording_of_the_leader_and_says_so():
    found = under(amounts=ALL)
    assert {found.document.part(one).moves[0].key.source for one in ALL} == {"close"}
    assert found.said[0] == (
        "Keyed by Snare close: its hits fall by 20 dB in 90 ms, those of Snare room in 310 ms."
    )
    assert found.title == "3 parts under Snare room"
    rim = parse_operation({"op": "under one", "leader": "other", "amounts": {"pad": "usual"}})
    assert rim.apply(TWO, Struck()).document.part("pad").moves[0].key.source == "other"


def test_a_recording_that_gives_way_itself_is_not_the_key():
    left = under(amounts={"close": "gentle", "pad": "usual"}).document
    assert {left.part(one).moves[0].key.source for one in ("close", "pad")} == {"room"}


def test_all_of_a_step_share_their_timing():
    left = under(amounts=ALL).document
    began = [left.part(one).moves[0].began for one in ALL]
    assert {one.together for one in began} == {"s1"} and {one.due_s for one in began} == {0.2}
    holds = {left.part(one).moves[0].hold_ms for one in ALL}
    assert len(holds) == 1
    again = parse_operation({"op": "under one", "leader": "other", "amounts": {"pad": "usual"}})
    second = again.apply(left, Struck()).document
    assert second.part("pad").moves[-1].began.together not in ("", "s1")


def together(document, **asked):
    asked = {"op": "change together", "part": "pad", "move": "m1", **asked}
    return parse_operation(asked).apply(document, Struck())


def test_they_are_changed_as_one_thing_and_what_was_set_by_hand_stays():
    left = under(amounts=ALL).document
    by_hand = {"op": "set move", "part": "bass", "move": "m1", "field": "attack_ms", "value": "7 ms"}
    left = parse_operation(by_hand).apply(left, Struck()).document
    found = together(left, further=0.5)
    assert found.title == "3 parts under Snare close: further"
    moves = {one: found.document.part(one).moves[0] for one in ALL}
    assert [moves[one].began.far for one in ALL] == [1.5, 0.5, 0.5]
    assert moves["bass"].attack_ms == 7.0
    assert all(moves[one].range_db > left.part(one).moves[0].range_db for one in ALL)
    assert {moves[one].began.together for one in ALL} == {"s1"}
    least = under(amounts=dict.fromkeys(ALL, "gentle")).document
    with pytest.raises(BadDocument, match="none can go less far"):
        together(least, further=-0.5)
    ring = together(found.document, comes_through="ring").document
    assert {ring.part(one).moves[0].began.comes_through for one in ALL} == {"ring"}
    off = together(ring, on=False)
    assert off.title.endswith(": off") and not any(off.document.part(one).moves[0].on for one in ALL)
    gone = together(off.document, remove=True).document
    assert all(gone.part(one).moves == [] for one in ALL)


def test_a_move_by_itself_is_not_changed_together():
    left = parse_operation({"op": "add move", "part": "pad", "kind": "eq"}).apply(TWO).document
    with pytest.raises(BadDocument, match="not laid together"):
        together(left, further=1)
