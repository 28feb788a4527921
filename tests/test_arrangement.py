"""First settings and a plan in a dense arrangement of twelve parts, as they are heard."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
import pytest
from arrangement import LEADS, RATE, take_in
from doing import do

from pondel.core.advice.claims import claims
from pondel.core.advice.proposals import propose
from pondel.core.document import content_hash
from pondel.core.evidence import within
from pondel.core.hearing.table import Scope
from pondel.core.judgement.judged import Judgement
from pondel.core.judgement.plan import Candidate, best_of, left_why
from pondel.core.judgement.ways import Way, ways
from pondel.core.moves.registry import kind_of
from pondel.core.operations.ways import laid_for
from pondel.jobs.desk import Desk
from pondel.jobs.judge import Judge
from pondel.store.library import Library

STRETCH = 0, 8 * RATE
USUAL_DB = {
    ("kick", "compressor"): 5,
    ("kick", "multiband"): 5,
    ("kick", "drawn duck"): 5,
    ("kick", "dynamic eq"): 4,
    ("kick", "eq"): 3,
    ("snare", "compressor"): 3,
    ("snare", "multiband"): 3,
    ("snare", "drawn duck"): 3,
    ("snare", "dynamic eq"): 4,
    ("snare", "eq"): 3,
    ("voice", "compressor"): 3,
    ("voice", "multiband"): 3,
    ("voice", "dynamic eq"): 3,
    ("voice", "eq"): 3,
}
"""What is usual in the trade, of the level in the zone on the hits."""
IN_A_BAND = ("multiband", "dynamic eq", "spectral duck", "complementary eq")


@dataclass
class Tried:
    way: Way
    judgement: Judgement
    drop_db: float
    back_in_time: float | None
    share: float
    """What the part that gives way makes of all that hides the leader there, on its hits."""


@pytest.fixture(scope="module")
def dense(tmp_path_factory):
    folder = tmp_path_factory.mktemp("dense")
    library = Library(folder / "data")
    song = take_in(library, folder)
    desk = Desk(library)
    yield desk, library, song
    desk.plans.stop()
    library.close()


@pytest.fixture(scope="module")
def usual(dense) -> dict[tuple[str, str], Tried]:
    """Every kind at its usual amount in three fights, by leader and kind."""
    desk, library, song = dense
    document = library.head(song).document
    found = {}
    for leader, yielder in LEADS:
        fight = desk.fights.measured(document, leader, yielder, 0.0)
        zone_hz = fight.low_hz, fight.high_hz
        judge = Judge(desk.now, desk.loops, desk.fights, document, fight, STRETCH)
        on_hits = Scope(on_hits=True, zone_hz=zone_hz)
        table = desk.loops.table(document, *STRETCH)
        share = table.share(leader, yielder, on_hits) / table.share(leader, None, on_hits)
        hits = within(desk.hits_s(document.part(leader)), *STRETCH, RATE)
        for way in ways(fight, (1.0,)):
            laid = laid_for(document, way.fight, way.start, 0.0)
            move = laid.part(yielder).moves[-1]
            drop = desk.fights.drop_on_hits(laid, yielder, move.id, STRETCH, hits, zone_hz)
            back = None
            trace = desk.now(laid).reductions(yielder, *STRETCH).get(move.id)
            if trace is not None and hits.size > 2:
                before_next = (hits[1:] * trace.high.size * RATE / STRETCH[1]).astype(int) - 2
                back = float(np.mean(trace.high[before_next] <= 1.0))
            judged = judge.of(laid)
            found[leader, way.kind] = Tried(way, judged, drop.median_db, back, share)
    return found


@pytest.mark.parametrize(("leader", "kind"), USUAL_DB)
def test_a_usual_setting_takes_what_the_table_says(usual, leader, kind):
    assert usual[leader, kind].drop_db == pytest.approx(USUAL_DB[leader, kind], abs=1.0)


def test_the_gain_is_back_before_nine_of_ten_next_hits(usual):
    told = {key: one.back_in_time for key, one in usual.items() if one.back_in_time is not None}
    assert len(told) >= 10
    assert {key: share for key, share in told.items() if share < 0.9} == {}


@pytest.mark.parametrize(
    ("leader", "kind"),
    [
        *(("kick", kind) for kind in ("level", "compressor", "multiband", "drawn duck")),
        *(("kick", kind) for kind in ("dynamic eq", "spectral duck")),
        *(("voice", kind) for kind in ("level", "multiband", "dynamic eq")),
    ],
)
def test_a_usual_way_reaches_seven_tenths_of_what_is_possible(dense, usual, leader, kind):
    """With a share f of the masking, a cut of d dB gives -10 log10(1 - f (1 - 10^(-d/10))) at most.

    Of a spectral duck the amount is that of its deepest band: what counts is what the zone would give.
    """
    found = usual[leader, kind]
    amount_db = USUAL_DB.get((leader, kind), USUAL_DB[leader, "compressor"])
    most_db = -10 * np.log10(1 - found.share * (1 - 10 ** (-amount_db / 10)))
    assert found.judgement.relief_db >= 0.7 * most_db


@pytest.mark.parametrize("leader", ["kick", "voice"])
def test_what_is_proposed_first_is_one_of_those(dense, leader):
    desk, library, song = dense
    document = library.head(song).document
    fight = desk.fights.measured(document, leader, dict(LEADS)[leader], 0.0)
    assert propose(fight).settings["kind"] in ("compressor", "multiband", "drawn duck", "dynamic eq")


def test_a_way_in_a_band_costs_less_than_six_hundredths(usual):
    costs = {key: one.judgement.fight.cost_share for key, one in usual.items() if key[1] in IN_A_BAND}
    assert len(costs) == 12
    assert {key: cost for key, cost in costs.items() if cost >= 0.06} == {}


def test_a_draft_sets_voice_over_lead_over_drums_and_bass_over_the_rest(dense):
    desk, library, song = dense
    document = library.head(song).document
    table = desk.analysis.whole_table(document)
    found = claims(document, table)
    roles = [document.part(one.leader).role for one in found]
    assert roles[0] == "voice" and set(roles) <= {"voice", "lead", "kick", "snare", "bass"}
    tiers = [{"voice": 0, "lead": 1}.get(role, 2) for role in roles]
    assert tiers == sorted(tiers)
    assert not any(one.is_decided for one in found)
    decided = do(document, "decide", leads="kick", gives_way="bass", low_hz=50, high_hz=120).document
    assert [(one.leader, one.yielder, one.is_decided) for one in claims(decided, table)] == [
        ("kick", "bass", True)
    ]


@pytest.fixture(scope="module")
def decided(dense):
    """The arrangement with two decided fights and one that is too small to hear."""
    _, library, song = dense
    document = library.head(song).document
    for leads, gives_way, low_hz, high_hz in (
        ("kick", "bass", 55, 123),
        ("voice", "keys", 700, 2358),
        ("hats", "pad", 8000, 12000),
    ):
        document = do(
            document, "decide", leads=leads, gives_way=gives_way, low_hz=low_hz, high_hz=high_hz
        ).document
    return document


@pytest.fixture(scope="module")
def planned(dense, decided):
    found = dense[0].plans.begin(decided)
    assert found.finished.wait(120) and found.trouble is None
    return found


def test_a_plan_makes_every_decided_leader_clearer_with_few_moves(dense, planned, decided):
    desk, *_ = dense
    whole = desk.plans.whole(planned)
    assert {line.claim.leader for line in planned.lines} == {"kick", "voice"}
    assert sum(line.candidate.moves for line in planned.lines) <= 6
    for line, stands in zip(planned.lines, whole.stands, strict=True):
        assert [one.section for one in stands] == ["Verse", "Chorus"]
        assert all(one.won_db > 0 for one in stands), line.claim
    assert abs(whole.loudness_db) < 1 and abs(whole.warmth_db) < 1
    number, worst = whole.worst()
    assert worst.won_db == min(one.won_db for stands in whole.stands for one in stands)
    assert worst in whole.stands[number]
    for part in decided.parts:
        after = whole.document.part(part.id)
        assert (after.fader_db, after.trim_db, after.pan) == (part.fader_db, part.trim_db, part.pan)
        assert not any(kind_of(move.kind).only_level for move in after.moves)


def test_a_fight_that_is_left_says_why(planned, decided):
    (left,) = planned.left
    assert (left.claim.leader, left.claim.yielder) == ("hats", "pad")
    assert "too small to hear" in left.why or "a matter of arrangement" in left.why


def test_what_a_section_of_a_plan_says_is_what_the_song_s_table_says(dense, planned):
    desk, *_ = dense
    whole = desk.plans.whole(planned)
    table = desk.analysis.whole_table(whole.document)
    line, stands = planned.lines[0], whole.stands[0]
    scope = Scope((1,), table.has_hits(line.claim.leader, Scope((1,))), line.claim.zone_hz)
    assert stands[1].after_db == pytest.approx(table.clear_db(line.claim.leader, scope))


def test_a_kept_plan_is_the_one_that_was_heard_and_is_one_step(dense, planned, decided):
    desk, library, _ = dense
    song = library.create(decided, rate_known=True)
    heard = desk.plans.whole(planned).document
    assert desk.tried(desk.plans.whole(planned).name) == heard
    kept = desk.do(song, [planned.operation()])
    assert content_hash(kept.document.model_dump_json()) == content_hash(heard.model_dump_json())
    first, made = library.history.steps(song)[::-1]
    assert (made.label, made.parent) == ("Room for 2 leaders", first.id)
    struck = desk.plans.whole(planned, frozenset({0}))
    assert len(struck.stands) == len(planned.lines) - 1
    assert len(planned.operation(frozenset({0})).lines) == len(planned.lines) - 1


def test_a_fight_that_is_treated_already_is_left(dense, planned, decided):
    desk, *_ = dense
    again = desk.plans.begin(desk.plans.whole(planned).document)
    assert again.finished.wait(120) and again.trouble is None
    assert again.lines == []
    told = {one.claim.leader: one.why for one in again.left}
    assert told["kick"].startswith("it makes room for Kick already, by its ")


def made(relief_db: float, cost: float, usual: dict, kind: str) -> Candidate:
    """A candidate with a relief and a cost of one's own."""
    found = usual["kick", kind]
    fight = found.judgement.fight
    before = fight.zone.before
    after = replace(before, clear_on_hits_db=before.clear_on_hits_db + relief_db)
    zone = replace(fight.zone, after=after)
    judged = replace(found.judgement, fight=replace(fight, zone=zone, cost_share=cost))
    return Candidate(found.way, judged)


def test_the_best_way_gives_most_for_least_and_none_is_better_than_a_dear_one(usual):
    dear = made(4.0, 0.3, usual, "compressor")
    small = made(0.6, 0.01, usual, "eq")
    good = made(3.0, 0.05, usual, "multiband")
    better = made(2.8, 0.01, usual, "drawn duck")
    assert best_of([dear, small]) is None
    assert best_of([dear, small, good, better]) is better
    assert left_why([small], 9.0, "Kick", "Bass") == "too small to hear: at most +0.6 dB"
    assert (
        left_why([dear, small], 9.0, "Kick", "Bass")
        == "too dear: −30 % of Bass's own loudness at the least"
    )
    assert left_why([good], 0.4, "Kick", "Bass").startswith("a matter of arrangement: without Bass")
    both = made(3.0, 0.05, usual, "complementary eq")
    assert best_of([both], moves_left=1) is None
    assert best_of([both, good]) is good
