"""Routing, keys, regions and caching."""

from __future__ import annotations

from functools import partial

import numpy as np
import pytest
from conftest import NO_MEDIA, RATE, hits, session_of, sine
from pydantic import ValidationError

from pondel.core.audio.media import ArrayMedia
from pondel.core.bounded import Bounded
from pondel.core.engine import render, routing
from pondel.core.engine.cache import ChunkCache
from pondel.core.engine.chunks import ChunkedSession
from pondel.core.engine.graph import TraceLogs
from pondel.core.engine.spill import Spill
from pondel.core.errors import BadDocument
from pondel.core.hearing.in_the_mix import in_the_mix
from pondel.core.moves.registry import kind_of
from pondel.core.reading import parse_session, to_json


def changed(session, part_id, **fields):
    """The same session with some fields of a part changed."""
    data = to_json(session)
    next(part for part in data["parts"] if part["id"] == part_id).update(fields)
    return parse_session(data)


def rekeyed(session, **fields):
    """The tuba's duck with other key fields."""
    move = to_json(session)["parts"][1]["moves"][0]
    return changed(session, "tuba", moves=[{**move, "key": {**move["key"], **fields}}])


def peak_db(samples):
    return 20 * np.log10(max(np.abs(samples).max(), 1e-10))


def test_an_untouched_stereo_session_is_the_plain_sum_of_its_files():
    rng = np.random.default_rng(1)
    sounds = {name: rng.uniform(-0.3, 0.3, (50000, 2)).astype(np.float32) for name in "abc"}
    session = session_of(*({"id": name} for name in "abc"))
    mix = render.region(session, ArrayMedia(sounds), "mix", 0, 50000)
    assert peak_db(mix - sum(sounds.values())) < -120


def test_mono_is_three_decibels_down_in_the_centre_and_whole_at_the_side():
    media = ArrayMedia({"a": sine(100, 0.1, 0)})
    for pan, left, right in [(0, -3.0103, -3.0103), (-1, 0, -200), (1, -200, 0)]:
        mix = render.region(session_of({"id": "a", "pan": pan}), media, "mix", 0, 4800)
        levels = [max(peak_db(mix[:, c]), -200) for c in (0, 1)]
        assert levels[0] == pytest.approx(left, abs=0.01) or (left == -200 and levels[0] < -140)
        assert levels[1] == pytest.approx(right, abs=0.01) or (right == -200 and levels[1] < -140)


@pytest.mark.parametrize("start", [1, 33333, 96000, 150001])
@pytest.mark.parametrize("look_ahead", [0, 7.5])
def test_a_region_equals_the_slice_of_the_whole(duck, start, look_ahead):
    session, media = duck
    move = {**to_json(session)["parts"][1]["moves"][0], "look_ahead_ms": look_ahead}
    session = changed(session, "tuba", moves=[move])
    whole = render.region(session, media, "mix", 0, 4 * RATE)
    piece = render.region(session, media, "mix", start, 20000)
    assert peak_db(piece - whole[start : start + 20000]) < -90


def test_chunks_out_of_order_equal_the_whole(duck):
    session, media = duck
    whole = render.region(session, media, ("tuba", "before fader"), 0, 4 * RATE)
    chunked = ChunkedSession(session, media, ChunkCache())
    for index in (5, 6, 2, 0, 7):
        start = index * chunked.frames
        piece = chunked.node(("tuba", "before fader"), index)
        assert peak_db(piece - whole[start : start + chunked.frames]) < -90


def test_a_small_cache_still_answers_right(duck):
    session, media = duck
    cache = ChunkCache(max_bytes=400_000)
    chunked = ChunkedSession(session, media, cache)
    first = chunked.region(("tuba", "after fader"), 0, 3 * RATE).copy()
    again = chunked.region(("tuba", "after fader"), 0, 3 * RATE)
    assert peak_db(first - again) < -90


def test_look_ahead_is_made_up_for(duck):
    session, media = duck
    move = {**to_json(session)["parts"][1]["moves"][0], "look_ahead_ms": 10, "ratio": 1}
    session = changed(session, "tuba", moves=[move, {**move, "id": "m2"}])
    out = render.region(session, media, ("tuba", "before fader"), 1000, 30000)
    source = render.region(session, media, ("tuba", "source"), 1000, 30000)
    assert peak_db(out - source) < -100


def duck_depth(session, media):
    """Largest reduction of the tuba's move over the whole song, in dB."""
    traces = TraceLogs()
    render.region(session, media, ("tuba", "after fader"), 0, 4 * RATE, traces=traces)
    return traces["tuba", "m1"].traced().high.max()


def test_taps_decide_whether_fader_and_mute_reach_the_key(duck):
    session, media = duck
    depth = duck_depth(session, media)
    assert depth > 6
    for tap, muted, quiet in [
        ("source", depth, depth),
        ("before fader", depth, depth),
        ("after fader", 0, 0),
    ]:
        tapped = rekeyed(session, tap=tap)
        assert duck_depth(changed(tapped, "drum", mute=True), media) == pytest.approx(muted, abs=0.01)
        lowered = duck_depth(changed(tapped, "drum", fader_db=-60), media)
        assert lowered == pytest.approx(quiet, abs=0.01)


def test_a_silent_key_ducks_and_is_not_in_the_mix(duck):
    session, media = duck
    silent = changed(session, "drum", silent_key=True)
    assert duck_depth(silent, media) == pytest.approx(duck_depth(session, media), abs=1e-3)
    mix = render.region(silent, media, "mix", 0, RATE)
    tuba = render.region(silent, media, ("tuba", "after fader"), 0, RATE)
    assert np.array_equal(mix, tuba)


def test_key_filters_and_level_shape_what_is_heard(duck):
    session, media = duck
    assert duck_depth(rekeyed(session, low_cut_hz=2000), media) < 0.5
    level = duck_depth(rekeyed(session, level_db=-12, high_cut_hz=None), media)
    assert duck_depth(rekeyed(session, high_cut_hz=None), media) > level + 3
    assert duck_depth(rekeyed(session, source="gone"), media) == 0


def test_key_listen_is_the_filtered_key():
    media = ArrayMedia({"a": sine(1000, 2, -6), "b": sine(100, 2)})
    key = {"source": "a", "high_cut_hz": 1000, "slope_db_oct": 24, "level_db": -3}
    session = session_of(
        {"id": "a"}, {"id": "b", "moves": [{"id": "m", "kind": "compressor", "key": key}]}
    )
    heard = ChunkedSession(session, media, ChunkCache()).key_heard("b", "m", 2)
    # A Butterworth cut is 3.01 dB down at its corner, whatever its slope.
    assert peak_db(heard) == pytest.approx(-6 - 3 - 3.0103, abs=0.02)


def test_a_section_limited_move_works_only_there_and_fades_in(duck):
    session, media = duck
    data = to_json(session)
    data["sections"] = [{"id": "s1", "name": "Chorus", "start_s": 1.0, "end_s": 2.0}]
    data["parts"][1]["moves"][0].update(sections=["s1"], look_ahead_ms=5)
    limited = parse_session(data)
    out = render.region(limited, media, ("tuba", "before fader"), 0, 4 * RATE)
    source = render.region(limited, media, ("tuba", "source"), 0, 4 * RATE)
    always = render.region(
        parse_session({**data, "sections": [{**data["sections"][0], "start_s": 0, "end_s": 4}]}),
        media,
        ("tuba", "before fader"),
        0,
        4 * RATE,
    )
    fade = round(0.010 * RATE)
    assert np.array_equal(out[:RATE], source[:RATE])
    assert np.array_equal(out[2 * RATE + fade :], source[2 * RATE + fade :])
    inside = slice(RATE + fade, 2 * RATE)
    assert peak_db(out[inside] - always[inside]) < -100
    assert peak_db(source[inside] - always[inside]) > -40


def test_sends_feed_a_return_at_their_tap_and_level():
    media = ArrayMedia({"a": np.hstack([sine(100, 1)] * 2)})
    session = session_of(
        {"id": "a", "fader_db": -6, "sends": [{"to": "r", "level_db": -10, "tap": "before fader"}]},
        {"id": "r", "file": None, "source": "sends"},
    )
    out = render.region(session, media, ("r", "after fader"), 0, RATE)
    source = render.region(session, media, ("a", "source"), 0, RATE)
    assert peak_db(out - source * 10 ** (-10 / 20)) < -120


def test_a_circle_is_refused_by_name_unless_the_key_is_taken_at_source(duck):
    session, _ = duck
    back = {"id": "m9", "kind": "compressor", "key": {"source": "tuba", "tap": "before fader"}}
    routing.check_cycles(changed(session, "drum", moves=[back]))
    both = rekeyed(changed(session, "drum", moves=[back]), tap="after fader")
    with pytest.raises(BadDocument, match=r"Drum → Tuba → Drum|Tuba → Drum → Tuba"):
        routing.check_cycles(both)


def test_a_fingerprint_changes_with_what_is_upstream_only(duck):
    session, _ = duck

    def print_of(document):
        return routing.fingerprint(document, NO_MEDIA, ("tuba", "before fader"))

    tuba = print_of(session)
    assert print_of(changed(session, "drum", fader_db=-3)) == tuba
    assert print_of(changed(session, "tuba", fader_db=-3)) == tuba
    assert print_of(changed(session, "drum", trim_db=1)) != tuba
    assert print_of(rekeyed(session, high_cut_hz=90)) != tuba
    move = session.part("tuba").moves[0]
    other = move.model_copy(update={"threshold_db": move.threshold_db - 1})
    assert print_of(changed(session, "tuba", moves=[other])) != tuba
    assert print_of(changed(session, "tuba", moves=[move.model_copy()])) == tuba


def test_a_move_is_not_changed_where_it_stands(duck):
    """What is known of one is kept beside it."""
    session, _ = duck
    with pytest.raises(ValidationError, match="frozen"):
        session.part("tuba").moves[0].threshold_db = -1.0


def test_traces_have_200_points_a_second_and_keep_every_dip(duck):
    session, media = duck
    traces = TraceLogs()
    render.region(session, media, ("tuba", "after fader"), 12345, 2 * RATE, traces=traces)
    trace = traces["tuba", "m1"].traced()
    assert trace.mean.size == 400
    reduction = 20 * np.log10(
        np.abs(render.region(session, media, ("tuba", "source"), 12345, 2 * RATE))[:, 0].max()
    )
    assert np.isfinite(reduction)
    assert (trace.low <= trace.mean + 1e-6).all() and (trace.mean <= trace.high + 1e-6).all()


def test_parts_start_where_the_document_says():
    media = ArrayMedia({"a": hits(1.0)})
    session = session_of({"id": "a", "start_s": 0.25})
    out = render.region(session, media, ("a", "source"), 0, RATE)
    assert np.array_equal(out[RATE // 4 :], hits(1.0)[: RATE - RATE // 4])
    assert not out[: RATE // 4].any()


def test_sound_that_falls_out_of_memory_comes_back_from_disk(duck, tmp_path):
    session, media = duck
    spill = Spill(tmp_path / "chunks", Bounded(600_000))
    small = ChunkedSession(session, media, ChunkCache(max_bytes=400_000, spill=spill))
    node = ("tuba", "after fader")
    first = [small.node(node, n).copy() for n in range(8)]
    files = list((tmp_path / "chunks").glob("*.chunk"))
    assert files and sum(path.stat().st_size for path in files) <= 600_000
    again = ChunkedSession(session, media, ChunkCache(spill=Spill(tmp_path / "chunks")))
    for n in range(8):
        assert np.abs(again.node(node, n) - first[n]).max() < 1e-5
    files[-1].write_bytes(b"torn")
    torn = ChunkedSession(session, media, ChunkCache(spill=Spill(tmp_path / "chunks")))
    assert np.abs(torn.region(node, 0, 4 * RATE) - np.concatenate(first)).max() < 1e-5


def test_what_is_only_tried_takes_no_place_from_what_is_played(duck, tmp_path):
    session, media = duck
    cache = ChunkCache(max_bytes=1_600_000, spill=Spill(tmp_path / "chunks"))
    played = ChunkedSession(session, media, cache)
    before = played.region(("tuba", "after fader"), 0, RATE)
    kept = played.kept(("something", "else"), lambda: np.zeros(10))
    for threshold_db in range(-50, -20):
        data = to_json(session)
        data["parts"][1]["moves"][0]["threshold_db"] = threshold_db
        other = parse_session(data)
        tried = ChunkedSession(other, media, cache).in_passing()
        heard = tried.region(("tuba", "after fader"), 0, RATE)
        alone = ChunkedSession(other, media, ChunkCache()).region(("tuba", "after fader"), 0, RATE)
        np.testing.assert_array_equal(heard, alone)
    # Nothing fell out of memory for them, and nothing is made again.
    assert list((tmp_path / "chunks").iterdir()) == []
    assert played.kept(("something", "else"), lambda: np.ones(10)) is kept
    np.testing.assert_array_equal(played.region(("tuba", "after fader"), 0, RATE), before)


def test_work_on_a_region_can_be_given_up_between_chunks_and_done_again(duck):
    session, media = duck
    steps: list[int] = []

    def step():
        steps.append(len(steps))
        if len(steps) == 3:
            raise InterruptedError

    chunked = ChunkedSession(session, media, ChunkCache(), step)
    for given_up in (chunked.region, partial(in_the_mix, chunked), chunked.reductions):
        steps.clear()
        args = (("tuba", "before fader"),) if given_up == chunked.region else ("tuba",)
        with pytest.raises(InterruptedError):
            given_up(*args, RATE // 3, 2 * RATE)
    steps[:] = range(10)
    whole = ChunkedSession(session, media, ChunkCache())
    node = ("tuba", "before fader")
    np.testing.assert_array_equal(
        chunked.region(node, RATE // 3, 2 * RATE), whole.region(node, RATE // 3, 2 * RATE)
    )
    heard, expected = (in_the_mix(c, "tuba", RATE // 3, 2 * RATE).power for c in (chunked, whole))
    np.testing.assert_array_equal(heard, expected)


def test_the_traces_of_one_state_are_rendered_once(duck, monkeypatch):
    session, media = duck
    cache, asked = ChunkCache(), []
    render_traces = ChunkedSession._trace

    def counted(self, node, start, frames):
        asked.append((node, start, frames))
        return render_traces(self, node, start, frames)

    monkeypatch.setattr(ChunkedSession, "_trace", counted)
    first = ChunkedSession(session, media, cache).reductions("tuba", 0, RATE)
    again = ChunkedSession(session, media, cache).reductions("tuba", 0, RATE)
    assert len(asked) == 1 and np.array_equal(first["m1"].mean, again["m1"].mean)
    renamed = changed(
        session, "tuba", moves=[session.part("tuba").moves[0].model_copy(update={"id": "x"})]
    )
    assert set(ChunkedSession(renamed, media, cache).reductions("tuba", 0, RATE)) == {"x"}
    assert len(asked) == 1, "the name of a move changes nothing that is heard"
    ChunkedSession(rekeyed(session, high_cut_hz=90), media, cache).reductions("tuba", 0, RATE)
    ChunkedSession(session, media, cache).reductions("tuba", RATE, RATE)
    assert len(asked) == 3


def test_the_key_of_a_move_that_is_off_is_heard_without_a_break(duck):
    session, media = duck
    off = rekeyed(session, high_cut_hz=60, slope_db_oct=24)
    data = to_json(off)
    data["parts"][1]["moves"][0]["on"] = False
    off = parse_session(data)
    chunked = ChunkedSession(off, media, ChunkCache())
    heard = np.concatenate([chunked.key_heard("tuba", "m1", index) for index in (5, 1, 2, 3)][1:])
    whole = np.concatenate(
        [ChunkedSession(off, media, ChunkCache()).key_heard("tuba", "m1", n) for n in range(4)]
    )
    size = chunked.frames
    on = ChunkedSession(rekeyed(session, high_cut_hz=60, slope_db_oct=24), media, ChunkCache())
    expected = np.concatenate([on.key_heard("tuba", "m1", index) for index in (1, 2, 3)])
    assert peak_db(heard - expected) < -90
    assert peak_db(whole[size:] - heard) < -90
    assert np.abs(np.diff(heard[:, 0])).max() < 0.02


def test_every_stream_of_a_large_session_keeps_its_place():
    parts = [{"id": f"p{n}", "moves": [{"id": "m", "kind": "compressor"}]} for n in range(60)]
    session = session_of(*parts)
    media = ArrayMedia({part["id"]: sine(100, 2) for part in parts})
    cache = ChunkCache()
    chunked = ChunkedSession(session, media, cache)
    nodes = [(part["id"], tap) for part in parts for tap in ("before fader", "after fader")]
    for node in nodes:
        chunked.node(node, 0)
    assert all(cache.take_stream((chunked.fingerprint(node), 1)) is not None for node in nodes)


def test_streams_are_bound_by_what_they_hold(monkeypatch):
    monkeypatch.setattr("pondel.core.engine.cache.MOST_STREAM_BYTES", 100_000)
    split = {
        "id": "m",
        "kind": "multiband",
        "phase": "linear",
        "crossovers_hz": [200],
        "bands": [{}, {}],
    }
    session = session_of(*({"id": name, "moves": [split]} for name in "abcdefgh"))
    media = ArrayMedia({name: sine(100, 2) for name in "abcdefgh"})
    cache = ChunkCache()
    chunked = ChunkedSession(session, media, cache)
    for name in "abcdefgh":
        chunked.node((name, "before fader"), 0)
    kept = [
        name
        for name in "abcdefgh"
        if cache.take_stream((chunked.fingerprint((name, "before fader")), 1))
    ]
    assert kept and kept == list("abcdefgh"[-len(kept) :]) and len(kept) < 8


def test_a_fader_asks_for_no_sound_before_the_one_that_is_heard(duck, monkeypatch):
    """It remembers nothing: a whole chunk used to be made for one frame in front of it."""
    session, media = duck
    made = []
    make = ChunkedSession._make
    monkeypatch.setattr(
        ChunkedSession,
        "_make",
        lambda self, name, node, index: made.append((node[1], index)) or make(self, name, node, index),
    )
    chunked = ChunkedSession(session, media, ChunkCache())
    chunked.region(("tuba", "after fader"), 4 * chunked.frames, chunked.frames)
    assert ("after fader", 4) in made and ("before fader", 4) in made
    assert [index for tap, index in made if tap == "before fader" and index < 4] == []


@pytest.mark.parametrize("turned", [1, 2, 3])
def test_while_a_value_is_turned_the_moves_before_it_stand_and_the_sound_is_the_same(duck, turned):
    session, media = duck
    chain = [
        {"id": "a", "kind": "eq", "bands": [{"hz": 90, "gain_db": 4}]},
        {"id": "b", "kind": "compressor", "threshold_db": -30, "release_ms": 300},
        {"id": "c", "kind": "delay", "time_ms": 120, "feedback": 0.4, "mix": 0.3},
        {"id": "d", "kind": "compressor", "threshold_db": -35, "key": {"source": "drum"}},
    ]
    values = {1: ("threshold_db", -22.0), 2: ("mix", 0.6), 3: ("threshold_db", -25.0)}
    cache, node = ChunkCache(), ("tuba", "before fader")
    ChunkedSession(changed(session, "tuba", moves=chain), media, cache).node(node, 6)
    field, value = values[turned]
    chain[turned] = {**chain[turned], field: value}
    after = changed(session, "tuba", moves=chain)
    assert cache.unchanged_moves(routing.chain_prints(after, media, "tuba", {})) == turned
    heard = ChunkedSession(after, media, cache).node(node, 6)
    alone = render.region(after, media, node, 6 * RATE // 2, RATE // 2)
    assert peak_db(heard - alone) < -90
    cut = ChunkedSession(changed(session, "tuba", moves=chain[:turned]), media, cache)
    assert cache._look((cut.fingerprint(node), 5)) is not None


def test_what_goes_into_a_move_is_as_a_recording_is_for_the_compiler(duck, monkeypatch):
    """Chunks that are kept may not be written to: a kernel would be compiled anew for them."""
    session, media = duck
    seen = []
    for kind in ("eq", "compressor"):
        made = kind_of(kind).make

        def noting(*args, made=made, **more):
            processor = made(*args, **more)
            process = processor.process

            def noted(block, key):
                seen.append([one.flags.writeable for one in (block, key) if one is not None])
                return process(block, key)

            processor.process = noted
            return processor

        monkeypatch.setitem(kind_of(kind).__dict__, "make", noting)
    cache, (move,) = ChunkCache(), to_json(session)["parts"][1]["moves"]
    eq = {"id": "first", "kind": "eq"}
    for threshold_db in (-30, -31, -32):
        moves = [eq, {**move, "key": {"source": "kick", "tap": "before fader"}}]
        moves[1]["threshold_db"] = threshold_db
        ChunkedSession(changed(session, "tuba", moves=moves), media, cache).node(
            ("tuba", "before fader"), 4
        )
    assert seen and all(all(one) for one in seen)
