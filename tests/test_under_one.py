"""One over many: several parts under one leader in one step."""

from __future__ import annotations

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
