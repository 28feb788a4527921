"""Starting points, roles, marks, and the evidence they are judged by."""

from __future__ import annotations

import numpy as np
import pytest
from conftest import RATE, hits, session_of, sine

from pondel.core import evidence, units
from pondel.core.advice.duck import propose_duck
from pondel.core.advice.roles import guess_role
from pondel.core.audio.media import ArrayMedia
from pondel.core.document import parse_session, to_json
from pondel.core.engine.chunks import ChunkCache, ChunkedSession
from pondel.core.engine.listen import make_plan, plan_hash, plan_region, without_moves
from pondel.core.errors import BadDocument
from pondel.core.hearing.excitation import excite
from pondel.core.moves.base import Traced
from pondel.core.moves.compressor import Compressor, CompressorProcessor
from pondel.web.ink import inked


@pytest.mark.parametrize(
    ("name", "role"),
    [
        ("01_Kick in", "kick"),
        ("BD out", "kick"),
        ("Bass drum", "kick"),
        ("Bass DI", "bass"),
        ("Tuba", "bass"),
        ("sn_top", "snare"),
        ("HiHat", "hats"),
        ("OH L", "percussion"),
        ("E-Gtr 2", "guitar"),
        ("Rhodes", "keys"),
        ("Warm pad", "pad"),
        ("Horns", "brass"),
        ("Lead Vox", "lead"),
        ("BGV stack", "backing voice"),
        ("vox dbl", "voice"),
        ("Riser", "effect"),
        ("Audio 7", "other"),
    ],
)
def test_roles_are_guessed_from_names(name, role):
    assert guess_role(name) == role


def pair_of(role: str):
    session = session_of({"id": "k", "role": "kick"}, {"id": "b", "role": role})
    return session.part("k"), session.part("b")


@pytest.mark.parametrize("gap", [0.3, 0.5, 1.0])
def test_a_proposed_duck_gives_four_decibels_and_is_back_before_the_next_hit(gap):
    key = hits(12.0, gap)
    times = np.arange(0.1, 12.0, gap)
    proposal = propose_duck(*pair_of("bass"), key, times, RATE)
    reductions: list[np.ndarray] = []
    move = Compressor(id="m", **proposal.settings)
    CompressorProcessor(move, RATE, 1, reductions.append).process(key, key)
    reduction = reductions[0]
    depths = [reduction[round(t * RATE) :][: RATE // 4].max() for t in times[:-1]]
    assert 4.0 <= np.median(depths) <= 4.8
    before_next = [reduction[round((t + gap) * RATE) - 48] for t in times[2:-2]]
    assert np.median(before_next) < 0.35 * np.median(depths)
    assert proposal.settings["key"] == {"source": "k", "tap": "source"}
    assert len(proposal.reasons) == 4
    assert units.say(proposal.settings["threshold_db"], "dB") in proposal.reasons[0]


def test_a_voice_is_ducked_more_gently_than_a_bass():
    key, times = hits(6.0), np.arange(0.1, 6.0, 0.5)
    bass = propose_duck(*pair_of("bass"), key, times, RATE).settings
    voice = propose_duck(*pair_of("voice"), key, times, RATE).settings
    assert voice["ratio"] < bass["ratio"] and voice["range_db"] < bass["range_db"]


def test_without_hits_or_sound_there_is_still_a_usable_proposal():
    for key in (sine(80, 4.0), np.zeros((RATE, 1), np.float32), np.zeros((0, 1), np.float32)):
        proposal = propose_duck(*pair_of("bass"), key, np.empty(0), RATE)
        move = Compressor(id="m", **proposal.settings)
        assert -80 <= move.threshold_db <= 0
        assert "no regular hits" in " ".join(proposal.reasons)


def test_reduction_on_hits_takes_the_deepest_after_each():
    high = np.zeros(400, np.float32)
    high[[22, 130, 250]] = [3.0, 5.0, 9.0]
    trace = Traced(high, high, high)
    found = evidence.reduction_on_hits(trace, np.array([0.1, 0.6, 1.2]))
    assert (found.hits, found.median_db, found.most_db) == (3, 5.0, 9.0)
    assert evidence.reduction_on_hits(trace, np.empty(0)).hits == 0


@pytest.fixture
def ducked(duck):
    session, media = duck
    cache = ChunkCache()
    now = ChunkedSession(session, media, cache)
    return now, ChunkedSession(without_moves(session), media, cache)


def test_a_duck_uncovers_the_leader_and_costs_the_yielder(ducked):
    now, untreated = ducked
    times = np.arange(0.1, 4.0, 0.5)
    found = evidence.pair_evidence(now, untreated, "drum", "tuba", 0, 4 * RATE, times)
    assert found.after.share < found.before.share
    assert found.on_hits_after < found.on_hits_before
    assert 0 < found.cost_share < 0.5
    assert found.zone is not None and found.zone.low_hz < 70 < found.zone.high_hz


def test_the_matching_gain_makes_both_equally_loud(ducked):
    now, untreated = ducked
    plan = make_plan(now.session, "part", ["tuba"])
    gain_db, lufs = evidence.matching_gain_db(plan, now, untreated, 0, 4 * RATE)
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
        quick = chunked.in_the_mix("drum", 0, RATE).power
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
