"""Starting points, roles, marks, and the evidence they are judged by."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from conftest import RATE, hits, session_of, sine
from moves_tools import rms_db, run

from pondel.core import evidence
from pondel.core.advice import proposals
from pondel.core.advice.checks import check
from pondel.core.audio.media import ArrayMedia
from pondel.core.engine.cache import ChunkCache
from pondel.core.engine.chunks import ChunkedSession
from pondel.core.engine.ears import heard_parts
from pondel.core.engine.listen import make_plan, plan_hash, plan_region, without_moves
from pondel.core.errors import BadDocument
from pondel.core.hearing.excitation import excite
from pondel.core.hearing.in_the_mix import in_the_mix
from pondel.core.measured import matching_gain_db
from pondel.core.measures.home import Home
from pondel.core.moves.base import Traced
from pondel.core.moves.checking import Heard
from pondel.core.moves.compressor import Compressor
from pondel.core.moves.dynamic_eq import DynamicEq
from pondel.core.moves.fight import Fight
from pondel.core.moves.registry import KINDS, kind_of
from pondel.core.reading import parse_session, to_json
from pondel.jobs.loops import Loops
from pondel.web.ink import inked


def fight_of(role: str, key: np.ndarray, hits_s: np.ndarray, low=40.0, high=120.0, **more) -> Fight:
    session = session_of({"id": "k", "role": "kick"}, {"id": "b", "role": role})
    parts = session.part("k"), session.part("b")
    return Fight(*parts, low, high, key, hits_s, hits_s, RATE, 120.0, **more)


def test_a_gate_is_no_way_of_giving_way():
    with pytest.raises(BadDocument, match="a gate / expander makes no room"):
        proposals.propose(fight_of("bass", hits(1.0), np.empty(0)), "gate")


@pytest.mark.parametrize("kind", [name for name, kind in KINDS.items() if kind.start])
def test_every_proposal_is_a_valid_move_with_reasons(kind):
    for key, times in (
        (hits(4.0), np.arange(0.1, 4.0, 0.5)),
        (sine(80, 2.0), np.empty(0)),
        (np.zeros((RATE, 1), np.float32), np.empty(0)),
        (np.zeros((0, 1), np.float32), np.empty(0)),
    ):
        for low, high in ((40.0, 120.0), (1600.0, 3300.0), (30.0, 18000.0)):
            found = proposals.propose(fight_of("pad", key, times, low, high), kind)
            needed = {"tied_to": {"part": "x", "move": "y"}} if kind == "complementary eq" else {}
            kind_of(kind).params(id="m", **needed, **found.settings)
            assert found.settings["kind"] == kind
            assert found.reasons or kind in ("level", "width")


def test_a_crossover_lies_outside_the_zone_so_that_its_edge_gives_way():
    home = Home(45.0, 110.0, 84.0, (55.0,))
    found = proposals.propose(
        fight_of("bass", hits(4.0), np.arange(0.1, 4.0, 0.5), home=home), "multiband"
    )
    # A critical bandwidth and a quarter, as Glasberg and Moore (1990) have it, over 120 Hz.
    outside_hz = 1.25 * 24.7 * (4.37 * 0.12 + 1)
    assert found.settings["crossovers_hz"][0] == pytest.approx(120 + outside_hz, abs=4)
    assert "nine tenths of K lie below it" in found.reasons[0]
    assert [band.get("on") for band in found.settings["bands"]] == [True, False]
    middle = proposals.propose(
        fight_of("pad", hits(4.0), np.empty(0), 400.0, 1000.0), "multiband"
    ).settings
    assert middle["crossovers_hz"] == pytest.approx([400 - 1.25 * 66, 1000 + 1.25 * 135], rel=0.02)
    assert [band.get("on") for band in middle["bands"]] == [False, True, False]


def test_the_usual_move_is_by_band_for_lows_and_a_moving_bell_elsewhere():
    assert proposals.best_kind(fight_of("bass", hits(1.0), np.empty(0))) == "multiband"
    assert proposals.best_kind(fight_of("pad", hits(1.0), np.empty(0), 900.0, 2000.0)) == "dynamic eq"


FINE = Heard(-10.0, -10.0, -12.0, 5.0, 0.0, 0.2, 0.5)


def findings(change: dict | None = None, heard: Heard = FINE, drum: dict | None = None, key=True):
    move = {
        "id": "m",
        "kind": "compressor",
        "key": {"source": "drum"} if key else None,
        "threshold_db": -30.0,
        **(change or {}),
    }
    parts = [
        {"id": "drum", "role": "kick", **(drum or {})},
        {"id": "pad", "role": "pad", "moves": [move]},
    ]
    session = session_of(*parts, sections=[{"id": "s", "name": "S", "start_s": 0, "end_s": 1}])
    part = session.part("pad")
    return check(session, part, part.moves[0], heard, session.part("drum"))


def test_nothing_is_found_when_all_is_well():
    assert findings() == []


@pytest.mark.parametrize(
    ("change", "heard", "drum", "words", "field"),
    [
        ({"on": False}, {}, {}, "off", "on"),
        ({"sections": ["s"]}, {"in_sections": False}, {}, "sections outside", "sections"),
        ({}, {"part_db": -120}, {}, "silent in the loop", None),
        ({"key": None}, {"most_db": 0}, {}, "listens to Pad itself", "key.source"),
        ({"key": {"source": "gone"}}, {}, {}, "taken out", "key.source"),
        ({"key": {"source": "drum", "tap": "after fader"}}, {}, {"mute": True}, "is muted", "key.tap"),
        ({"key": {"source": "drum", "level_db": -60}}, {}, {}, "key's level", "key.level_db"),
        ({}, {"key_source_db": -150, "key_db": -150}, {}, "Drum is silent", None),
        (
            {"key": {"source": "drum", "high_cut_hz": 40}},
            {"key_db": -60},
            {},
            "cuts remove it",
            "key.high_cut_hz",
        ),
        ({"mix": 0}, {}, {}, "Mix is 0 %", "mix"),
        ({"range_db": 0}, {"most_db": 0}, {}, "range is 0 dB", "range_db"),
        ({"ratio": 1}, {"most_db": 0}, {}, "1:1", "ratio"),
        ({"attack_ms": 290}, {}, {}, "slower than the hit", "attack_ms"),
        ({"release_ms": 900}, {}, {}, "does not come back", "release_ms"),
        (
            {"threshold_db": -5},
            {"key_db": -34, "most_db": 0},
            {},
            "loudest −34.0 dB, threshold −5.0 dB",
            "threshold_db",
        ),
        ({}, {"least_db": 2.0}, {}, "never comes back", None),
        ({}, {"most_db": 15.0}, {}, "a lot for pad", None),
        (
            {"key": {"source": "drum", "low_cut_hz": 2000}, "threshold_db": -20},
            {"key_db": -21, "most_db": 0},
            {},
            "stays under the threshold for its cuts",
            "key.low_cut_hz",
        ),
        ({}, {"most_db": 9, "mean_db": 6}, {}, "6.0 dB on average", None),
        ({"attack_ms": 0.1}, {}, {}, "may click", "attack_ms"),
        (
            {"key": {"source": "drum", "high_cut_hz": 40}},
            {"key_db": -28},
            {},
            "cuts take most of it: −10.0 dB before them, −28.0 dB after",
            "key.high_cut_hz",
        ),
        ({}, {"cost_share": 0.22}, {}, "costs Pad 22 % of its own loudness", None),
        ({"makeup_db": 4}, {}, {}, "make-up of 4.0 dB hides the duck", "makeup_db"),
    ],
)
def test_every_fault_is_named_and_can_be_mended(change, heard, drum, words, field):
    found = findings(change, replace(FINE, **heard), drum)
    assert any(words in one.text for one in found), found
    one = next(one for one in found if words in one.text)
    assert (one.fix or {}).get("field") == field
    if field is not None:
        assert one.action


def test_gain_on_hits_takes_the_deepest_after_each():
    high = np.zeros(400, np.float32)
    high[[22, 130, 250]] = [3.0, 5.0, 9.0]
    trace = Traced(high, high, high)
    found = evidence.gain_on_hits(trace, np.array([0.1, 0.6, 1.2]))
    assert (found.hits, found.median_db, found.most_db) == (3, 5.0, 9.0)
    assert evidence.gain_on_hits(trace, np.empty(0)).hits == 0


def test_what_a_move_that_rises_does_on_hits_is_its_highest_gain():
    band = {"hz": 100, "range_db": 6, "threshold_db": -60, "ratio": "inf"}
    move = DynamicEq(id="d", bands=[band])
    rises = kind_of("dynamic eq").rises
    assert rises(move) and not rises(DynamicEq(id="d", bands=[band, {**band, "range_db": -3}]))
    quiet = np.zeros(400, np.float32)
    low = quiet.copy()
    low[[22, 130]] = [-6.0, -4.0]
    found = evidence.gain_on_hits(Traced(low, quiet, low), np.array([0.1, 0.6]), rises=rises(move))
    assert (found.hits, found.median_db, found.most_db) == (2, -5.0, -6.0)


@pytest.mark.parametrize(("zone_hz", "lowered"), [((40, 100), 9.0), ((1000, 4000), 0.0), (None, 3.0)])
def test_drop_on_hits_is_the_change_of_level_in_the_zone(zone_hz, lowered):
    at = np.arange(4 * RATE) / RATE
    low, high = sine(60, 4, -20)[:, 0], sine(2000, 4, -20)[:, 0]
    down = np.where((at % 1) < 0.2, 10 ** (-9 / 20), 1.0)
    down = np.convolve(down, np.hanning(4800) / np.hanning(4800).sum(), "same")
    before, after = (low + high)[:, None], (low * down + high)[:, None]
    powers = [evidence.power_steps(sound, RATE, zone_hz) for sound in (before, after)]
    found = evidence.drop_on_hits(*powers, np.arange(4.0) + 0.02)
    # Of two tones as strong as each other one falls by 9 dB: together by 2.5 dB.
    expected = lowered if zone_hz else 2.5
    assert (found.hits, found.median_db) == (4, pytest.approx(expected, abs=0.3))


def applied(move, part, key):
    """What a trace says at the end, and what the sound did, in dB of fall."""
    said: list = []
    out = run(move, part, key, trace=lambda v, band=None: said.append(v[-1]) if band is None else None)
    return float(said[-1]), rms_db(part[-RATE // 2 :]) - rms_db(out[-RATE // 2 :])


@pytest.mark.parametrize(("mix", "makeup_db"), [(1.0, 0.0), (0.5, 0.0), (1.0, 14.0), (0.6, -3.0)])
def test_a_compressor_tells_the_gain_as_it_is_applied(mix, makeup_db):
    settings = {"threshold_db": -30, "ratio": "inf", "range_db": 18, "release_ms": 500}
    key, part = sine(500, 3, 0), sine(1000, 3, -20)
    move = Compressor(id="c", mix=mix, makeup_db=makeup_db, **settings)
    said, did = applied(move, part, key)
    assert said == pytest.approx(did, abs=0.1)


def test_two_bells_at_one_place_tell_what_they_do_together():
    band = {"hz": 1000, "range_db": -9, "threshold_db": -60, "ratio": "inf", "release_ms": 500}
    key, part = sine(1000, 3, -6), sine(1000, 3, -20)
    for second in ({}, {"shape": "high shelf", "hz": 300}, {"shape": "low shelf", "hz": 4000}):
        move = DynamicEq(id="d", bands=[band, {**band, **second, "listens": "whole"}])
        said, did = applied(move, part, key)
        assert said == pytest.approx(did, abs=0.5) and said > 16


def one_move_findings(move: dict, heard: Heard, leader=True):
    session = session_of({"id": "drum", "role": "kick"}, {"id": "pad", "moves": [{"id": "m", **move}]})
    part = session.part("pad")
    return check(session, part, part.moves[0], heard, session.part("drum") if leader else None)


def test_a_mended_range_of_a_dynamic_band_is_a_cut():
    heard = replace(FINE, most_db=0.0)
    band = {"range_db": 0, "threshold_db": -30}
    move = {"kind": "dynamic eq", "key": {"source": "drum"}, "bands": [band]}
    (found,) = one_move_findings(move, heard)
    assert found.fix["field"] == "bands.0.range_db" and found.fix["value"] < 0
    assert found.action == "Range −4 dB"


def test_a_band_that_follows_and_sits_at_its_full_depth_says_so():
    band = {"range_db": -6, "mode": "follow", "threshold_db": -50}
    move = {"kind": "dynamic eq", "key": {"source": "drum"}, "bands": [band]}
    (found,) = one_move_findings(move, replace(FINE, most_db=6.0, least_db=5.8))
    assert "full depth all the time" in found.text and found.fix["value"] == -38
    assert one_move_findings(move, replace(FINE, most_db=6.0, least_db=0.5)) == []


def test_a_move_without_a_key_speaks_of_the_fight_in_view_or_of_none():
    move = {"kind": "compressor"}
    assert "Listen to Drum" in [one.action for one in one_move_findings(move, FINE)]
    assert one_move_findings(move, FINE, leader=False) == []


def test_key_cuts_that_take_the_key_are_named_before_all_else():
    cut = {"key": {"source": "drum", "high_cut_hz": 40}, "threshold_db": -20, "attack_ms": 290}
    for heard in ({"key_db": -60, "most_db": 0}, {"key_db": -28, "most_db": 0, "cost_share": 0.3}):
        found = findings(cut, replace(FINE, **heard))
        assert found[0].text.startswith("The key's cuts") and "before them" in found[0].text
        assert not any("never crosses the threshold" in one.text for one in found)


def test_a_gate_that_mutes_its_part_says_so():
    gate = {"kind": "gate", "threshold_db": -5}
    heard = replace(FINE, key_db=-20.0, least_db=38.0, most_db=40.0, cost_share=0.96)
    (found,) = [one for one in one_move_findings(gate, heard, leader=False) if "mutes" in one.text]
    assert "−96 %" in found.text and found.fix["value"] == -32
    assert one_move_findings(gate, replace(FINE, cost_share=0.2), leader=False) == []


@pytest.fixture
def ducked(duck):
    session, media = duck
    cache = ChunkCache()
    now = ChunkedSession(session, media, cache)
    return now, ChunkedSession(without_moves(session), media, cache)


def loops_of(media, cache=None) -> Loops:
    cache = cache or ChunkCache()
    return Loops(
        lambda document: ChunkedSession(document, media, cache),
        heard_parts,
        lambda part: np.arange(0.1, 4.0, 0.5) if part.id == "drum" else np.zeros(0),
        lambda: None,
    )


def test_a_duck_uncovers_the_leader_and_costs_the_yielder(duck):
    session, media = duck
    loops = loops_of(media)
    before, after = (loops.table(one, 0, 4 * RATE) for one in (without_moves(session), session))
    found = evidence.fight_evidence(before, after, "drum", "tuba", (40, 160))
    for change in (found.zone, found.whole):
        assert change.after.share < change.before.share
        assert change.after.on_hits < change.before.on_hits
        assert change.clear_won_db > 1 and not change.is_small
        assert change.after.clear_on_hits_db > change.before.clear_on_hits_db
    assert 0 < found.cost_share < 0.5


def test_a_shortened_part_has_lost_what_is_not_there_any_more():
    """Its own loudness is that of the whole stretch, not of the moments in which it still sounds."""
    holds = np.hstack([sine(110, 4.0), sine(110, 4.0)])
    ends = holds * (np.arange(holds.shape[0]) % RATE < RATE // 2)[:, None].astype(np.float32)
    session = session_of({"id": "drum", "role": "kick"}, {"id": "tuba"})
    tables = [
        loops_of(ArrayMedia({"drum": hits(4.0), "tuba": tuba})).table(session, 0, 4 * RATE)
        for tuba in (holds, ends)
    ]
    cost = evidence.fight_evidence(*tables, "drum", "tuba", (40, 160)).cost_share
    # The ear's own ringing fills a little of the silent halves.
    assert 0.4 < cost < 0.5


def test_a_loop_is_told_by_the_same_table_as_the_song(duck):
    """The same sums, whether they are of a stretch that is all of the song, or of the song."""
    session, media = duck
    loops = loops_of(media)
    whole = loops.table(session, 0, 4 * RATE)
    assert loops.table(session, 0, 4 * RATE) is whole
    louder = session.model_copy(update={"listening_level_db_spl": 95.0})
    assert loops.table(louder, 0, 4 * RATE) is not whole


def test_what_lies_at_the_sides_is_judged_there():
    """A part in the middle hides nothing of the sides, however loud it is."""
    t = np.arange(2 * RATE) / RATE
    tone = np.sin(2 * np.pi * 500 * t)[:, None].astype("f4")
    media = ArrayMedia({"wide": 0.1 * tone * [[1, -1]], "loud": 0.5 * tone * [[1, 1]]})
    session = session_of({"id": "wide"}, {"id": "loud"})
    loops = loops_of(media)
    assert loops.table(session, 0, 2 * RATE).clear_db("wide") < -3
    assert loops.table(session, 0, 2 * RATE, "sides").clear_db("wide") > 30
    assert loops.table(session, 0, 2 * RATE, "middle").clear_db("wide") is None


def test_the_matching_gain_makes_both_equally_loud(ducked):
    now, untreated = ducked
    plan = make_plan(now.session, "part", ["tuba"])
    gain_db, lufs = matching_gain_db(plan, now, untreated, 0, 4 * RATE)
    before = plan_region(plan, untreated, 0, 4 * RATE) * np.float32(10 ** (gain_db / 20))
    assert gain_db < -0.3
    assert evidence.loudness_lufs(before, RATE) == pytest.approx(lufs, abs=0.05)


def test_a_part_is_heard_alone_even_when_muted_and_its_key_still_works(duck):
    session, media = duck
    data = to_json(session)
    data["parts"][1]["mute"] = True
    muted = ChunkedSession(parse_session(data), media, ChunkCache())
    plan = make_plan(muted.session, "part", ["tuba"])
    assert np.abs(plan_region(plan, muted, 0, RATE)).max() > 0.1
    mix = make_plan(muted.session, "mix")
    assert mix.parts == ("drum",)


def test_plans_are_named_by_their_sound(duck):
    session, media = duck
    chunked = ChunkedSession(session, media, ChunkCache())
    names = {
        plan_hash(make_plan(session, *words), chunked)
        for words in [("mix",), ("pair", ["drum", "tuba"]), ("part", ["drum"]), ("part", ["tuba"])]
    }
    names.add(plan_hash(make_plan(session, "key", ["tuba"], "m1"), chunked))
    assert len(names) == 5
    with pytest.raises(BadDocument, match="choose a part"):
        make_plan(session, "part", [])
    with pytest.raises(BadDocument, match="choose a key"):
        make_plan(session, "key", ["drum"], "m1")


def test_moving_a_fader_scales_the_excitation_exactly(duck):
    session, media = duck
    for pan in (0.0, 0.6):
        data = to_json(session)
        data["parts"][0].update(fader_db=-7.0, pan=pan)
        chunked = ChunkedSession(parse_session(data), media, ChunkCache())
        quick = in_the_mix(chunked, "drum", 0, RATE).power
        direct = excite([chunked.region(("drum", "after fader"), 0, RATE)], RATE).power
        # Powers are relative to 0 dB SPL: what lies below hearing need not agree, and levels are
        # rounded to whole decibels before they spread.
        assert quick == pytest.approx(direct, rel=0.03, abs=1e-2)


def test_every_part_gets_a_tag_of_its_own():
    names = ["Bass drum", "Bass", "Baritone", "Bass drum", "B", "ß", "808", "Kick", "Keys", "Kazoo"]
    parts = [{"id": f"p{n}", "name": name} for n, name in enumerate(names * 3)]
    marks = inked(session_of(*parts))
    tags = [mark.tag for mark in marks.values()]
    assert len(set(tags)) == len(parts) and all(len(tag) == 2 for tag in tags)
    assert marks["p0"].tag == "BD" and marks["p0"].dash == ""
    styles = {(mark.ink, mark.dash) for mark in list(marks.values())[:16]}
    assert len(styles) == 16


def test_media_gives_silence_outside_a_recording():
    reader = ArrayMedia({"a": sine(100, 0.01)}).open("a")
    assert not reader.read(-100, 100).any()
    assert not reader.read(10_000, 50).any()
    assert np.array_equal(reader.read(-10, 490)[10:], sine(100, 0.01))


def test_a_tail_trim_ends_before_the_next_hit_of_its_own_part():
    fight = fight_of("bass", hits(4.0), np.arange(0.1, 4, 0.5), own_hits_s=np.arange(0, 4, 0.25))
    settings = kind_of("tail trim").start(fight).settings
    assert settings["end_ms"] == 225 and "hits_of" not in settings
