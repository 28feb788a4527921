"""First settings: the trade's amounts, reached on the hits, and out of the way before the next."""

from __future__ import annotations

import numpy as np
import pytest
from conftest import RATE, hits, session_of

from pondel.core import evidence
from pondel.core.advice.proposals import propose
from pondel.core.audio.media import ArrayMedia
from pondel.core.engine.cache import ChunkCache
from pondel.core.engine.chunks import ChunkedSession
from pondel.core.engine.listen import without_moves
from pondel.core.moves.amounts import STEPS, amount_for
from pondel.core.moves.fight import Fight
from pondel.core.moves.registry import kind_of

TABLE = {
    ("kick", "bass", "whole"): (3, 5, 9),
    ("kick", "bass", "band"): (3, 5, 9),
    ("kick", "bass", "drawn"): (3, 5, 9),
    ("bass", "kick", "band"): (1.5, 2.5, 4.5),
    ("kick", "pad", "whole"): (1.5, 3, 5),
    ("snare", "guitar", "band"): (1.5, 3, 5),
    ("snare", "strings", "drawn"): (1.5, 3, 5),
    ("voice", "keys", "band"): (1.5, 3, 5),
    ("voice", "keys", "bell"): (2, 3, 6),
    ("kick", "bass", "bell"): (2, 4, 6),
    ("kick", "guitar", "spectral"): (4, 6, 10),
    ("voice", "guitar", "spectral"): (2, 3, 6),
    ("voice", "guitar", "cut"): (1.5, 3, 5),
    ("kick", "bass", "difference"): (2, 4, 6),
}
"""As the trade goes: gentle, usual, strong. Of two rows that fit, the smaller amount."""


def fight_of(leader="kick", yielder="bass", gap=0.5, low=40.0, high=120.0, **more) -> Fight:
    session = session_of(
        {"id": "k", "name": "Drum", "role": leader}, {"id": "b", "name": "Tuba", "role": yielder}
    )
    times = np.arange(0.1, 12.0, gap)
    key = hits(12.0, gap)
    return Fight(*session.parts, low, high, key, times, times, RATE, 120.0, **more)


@pytest.mark.parametrize(("leader", "yielder", "reach"), TABLE)
def test_the_amounts_are_those_of_the_trade(leader, yielder, reach):
    found = [amount_for(fight_of(leader, yielder, far=far), reach).wanted_db for far in STEPS.values()]
    assert found == list(TABLE[leader, yielder, reach])


def test_a_return_under_what_feeds_it_goes_further_down():
    found = [amount_for(fight_of(far=far, fed=True), "whole").wanted_db for far in STEPS.values()]
    assert found == [5, 9, 15]


def test_a_small_fight_needs_less_and_says_so():
    amount = amount_for(fight_of(hidden_on_hits=0.08), "band")
    assert amount.wanted_db < 2.5
    assert "only 8 % of Drum are hidden there on its hits" in amount.why
    assert amount_for(fight_of(hidden_on_hits=0.5), "band").wanted_db == 5


def traced(kind, settings, key) -> np.ndarray:
    found: list[np.ndarray] = []

    def note(values, band=None):
        if band is None:
            found.append(np.abs(values))

    move = kind_of(kind).params(id="m", **settings)
    kind_of(kind).make(move, RATE, 1, note).process(key, key)
    return np.concatenate(found)


@pytest.mark.parametrize("kind", ["compressor", "multiband", "dynamic eq"])
@pytest.mark.parametrize("gap", [0.3, 1.0])
@pytest.mark.parametrize("far", STEPS)
def test_the_amount_is_reached_on_the_hits_and_gone_before_the_next(kind, gap, far):
    fight = fight_of(gap=gap, far=STEPS[far], recovery_s=min(0.18, gap), hit_s=0.18)
    settings = propose(fight, kind).settings
    reduction = traced(kind, settings, fight.key)
    at = np.round(fight.hits_s * RATE).astype(int)
    depth = np.median([reduction[first : first + RATE // 5].max() for first in at[:-1]])
    wanted = {"gentle": 3, "usual": 5, "strong": 9}[far]
    if kind == "dynamic eq":
        # The bell goes further at its middle than over the zone on average.
        wanted = {"gentle": 2, "usual": 4, "strong": 6}[far]
        assert wanted < depth < 1.8 * wanted
    elif kind == "multiband":
        # So does the band, of whose slopes the zone has its share.
        assert wanted < depth < wanted / 0.7
    else:
        assert depth == pytest.approx(wanted, abs=0.6)
    before_next = reduction[at[1:] - 48]
    assert np.mean(before_next <= 1.0) >= 0.9


@pytest.mark.parametrize("kind", ["compressor", "multiband", "dynamic eq", "eq", "drawn duck"])
def test_what_the_part_loses_in_the_zone_is_within_a_decibel_of_the_table(kind):
    """The level of a tuba in the zone on the hits, as it is measured, at usual."""
    rng = np.random.default_rng(3)
    t = np.arange(12 * RATE) / RATE
    tuba = sum(np.sin(2 * np.pi * hz * t + rng.uniform(0, 6)) for hz in (48, 62, 75, 93, 110))
    fight = fight_of(recovery_s=0.18, hit_s=0.18)
    samples = {"k": hits(12.0), "b": (0.1 * tuba).astype(np.float32)[:, None]}
    media = ArrayMedia(samples, {"k": fight.hits_s.tolist()})
    proposal = propose(fight, kind)
    parts = [
        {"id": "k", "role": "kick"},
        {"id": "b", "role": "bass", "moves": [{"id": "m", **proposal.settings}]},
    ]
    session = session_of(*parts)
    cache = ChunkCache()
    sounds = [
        ChunkedSession(one, media, cache).region(("b", "after fader"), 0, 12 * RATE)
        for one in (without_moves(session), session)
    ]
    powers = [evidence.power_steps(sound, RATE, (40.0, 120.0)) for sound in sounds]
    drop = evidence.drop_on_hits(*powers, fight.hits_s)
    usual = {"dynamic eq": 4, "eq": 3}.get(kind, 5)
    assert drop.median_db == pytest.approx(usual, abs=1.0)


def test_what_comes_through_sets_attack_hold_and_knee():
    found = {}
    for what in ("snap", "body", "ring"):
        fight = fight_of(recovery_s=0.2, hit_s=0.18, gap=1.0, comes_through=what)
        found[what] = propose(fight, "compressor").settings
    for field in ("attack_ms", "hold_ms", "knee_db"):
        assert found["snap"][field] < found["body"][field] < found["ring"][field]


def test_an_irregular_leader_is_timed_by_its_shortest_gaps():
    """A roll between long gaps: nine of ten gaps, not the usual one, decide."""
    fight = fight_of(gap=0.25)
    slow = fight_of(gap=1.0)
    quick, late = (propose(one, "compressor").settings for one in (fight, slow))
    assert quick["hold_ms"] + quick["release_ms"] < late["hold_ms"] + late["release_ms"]
