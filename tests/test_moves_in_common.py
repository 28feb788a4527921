"""What holds for every move: blocks, numbers, rates, regions, documents."""

from __future__ import annotations

import numpy as np
import pytest
from conftest import RATE, hits, session_of, sine
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from moves_tools import HITS_S, at_work, noise

from pondel.core.audio.media import ArrayMedia
from pondel.core.engine import render
from pondel.core.engine.cache import ChunkCache
from pondel.core.engine.chunks import ChunkedSession
from pondel.core.errors import BadDocument
from pondel.core.moves.controls import controls_of, item_lists
from pondel.core.moves.registry import KINDS, kind_of
from pondel.core.reading import parse_session, to_json

NEEDED = {"complementary eq": {"tied_to": {"part": "other", "move": "m"}}}


NOT_TRACED = (
    "level",
    "contrast eq",
    "eq",
    "width",
    "pan",
    "alignment",
    "saturation",
    "delay",
    "reverb",
    "sub layer",
    "noise layer",
)
"""Kinds whose gain does not move."""


def example(kind: str, random: np.random.Generator | None = None) -> dict:
    """Settings of a kind: lively defaults, or random ones within their ranges."""
    lively = {
        "eq": {"bands": [{"hz": 80, "gain_db": 6}, {"shape": "high shelf", "hz": 7000, "gain_db": -4}]},
        "level": {"gain_db": -3},
        "contrast eq": {"own_db": [-30.0] * 240, "other_db": list(np.linspace(-20, -50, 240))},
        "sub layer": {"hz": 48.5, "length_ms": 250, "hits_of": "key"},
        "noise layer": {"opened_by": "gate", "threshold_db": -30, "follow": 0.5, "length_ms": 60},
        "saturation": {"drive_db": 12, "acts_on": "lows", "below_hz": 300, "tone_db": 4},
        "snap and ring": {"snap_db": 6, "ring_db": -6, "bands": 2, "second_snap_db": -4},
        "delay": {"time_ms": 120, "feedback": 0.3, "low_cut_hz": 300},
        "reverb": {"space": "room", "decay_s": 0.3, "low_cut_hz": 300},
        "pan": {"pan": 0.4},
        "width": {"width": 1.4, "mono_below_hz": 120},
        "alignment": {"nudge_ms": -0.37},
        "spectral duck": {"threshold_db": -60, "low_hz": 60},
        "drawn duck": {"hits_of": "key", "length_ms": 200},
        "tail trim": {"hits_of": "key", "end_ms": 200},
        "multiband": {"crossovers_hz": [100, 900], "bands": [{}, {"on": False}, {"threshold_db": -40}]},
        "dynamic eq": {"bands": [{"hz": 70, "threshold_db": -50}]},
        "gate": {"threshold_db": -25, "range_db": 20},
        "compressor": {"threshold_db": -35, "hold_ms": 5},
        "complementary eq": {"bands": [{"hz": 90, "dynamic": "both", "difference_db": 8}]},
    }[kind]
    move = {"id": "m", "kind": kind, **NEEDED.get(kind, {}), **lively}
    if random is not None:
        move.update(_random_values(KINDS[kind].params, random))
        for one in item_lists(KINDS[kind].params):
            if one.field != "points" and one.grows:
                count = max(one.least, 2)
                move[one.field] = [_random_values(one.item, random) for _ in range(count)]
    if KINDS[kind].keyed:
        move["key"] = {"source": "key", "tap": "source"}
    return move


def other_for(settings: dict) -> dict:
    """The part a move may be tied to, with the other side of a complementary EQ."""
    moves = []
    if settings["kind"] == "complementary eq":
        mirrored = {**settings, "side": "gains", "tied_to": {"part": "part", "move": "m"}}
        moves = [{**mirrored, "sections": []}]
    return {"id": "other", "file": "part", "moves": moves}


def _random_values(params, random) -> dict:
    found = {}
    for control in controls_of(params):
        if control.kind == "number":
            share = random.random()
            span = (control.low, control.high)
            value = span[0] + share * (span[1] - span[0])
            if control.scale == "log":
                value = span[0] * (span[1] / span[0]) ** share
            found[control.field] = float(value)
        elif control.kind == "switch":
            found[control.field] = bool(random.integers(2))
        else:
            names = list(control.labels)
            name = names[random.integers(len(names))]
            found[control.field] = int(name) if name.isdigit() else name
    if {"low_hz", "high_hz"} <= set(found) and found["high_hz"] < 1.3 * found["low_hz"]:
        found["low_hz"], found["high_hz"] = 200.0, 3000.0
    return found


def built(settings: dict):
    return kind_of(settings["kind"]).params(**settings)


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize("channels", [1, 2])
def test_output_does_not_depend_on_the_blocks(kind, channels):
    move = built(example(kind))
    sound, key = noise(1.2, 0.3, channels), hits(1.2)
    outs = []
    for block in (57_600, 1000, 333):
        processor = at_work(move, RATE, channels)
        pieces = [
            processor.process(sound[i : i + block], key[i : i + block] if KINDS[kind].keyed else None)
            for i in range(0, len(sound), block)
        ]
        outs.append(np.concatenate(pieces))
    assert np.abs(outs[1] - outs[0]).max() < 2e-6 and np.abs(outs[2] - outs[0]).max() < 2e-6


@pytest.mark.parametrize("kind", KINDS)
def test_a_block_without_frames_changes_nothing(kind):
    move = built(example(kind))
    sound, key = noise(0.4, 0.3, 2), hits(0.4)
    outs = []
    for borders in ((9600,), (0, 9600, 9600)):
        processor = at_work(move, RATE, 2)
        pieces = zip(np.split(sound, borders), np.split(key, borders), strict=True)
        outs.append(
            np.concatenate([processor.process(x, k if KINDS[kind].keyed else None) for x, k in pieces])
        )
    assert np.array_equal(*outs)


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize("rate", [44100, 96000, 192000])
def test_every_rate_and_any_input_gives_finite_sound(kind, rate):
    move = built(example(kind))
    for bad in (np.inf, np.nan, -np.inf, 1e30):
        processor = at_work(move, rate, 2)
        sound, key = noise(0.2, 0.3, 2, rate=rate), noise(0.2, 0.3, 1, rate=rate)
        sound[1000:1010], key[500] = bad, bad
        out = processor.process(sound, key if KINDS[kind].keyed else None)
        assert np.isfinite(out).all()
    silence = at_work(move, rate, 2).process(np.zeros((4096, 2), "f4"), np.zeros((4096, 1), "f4"))
    assert not silence.any()


@given(st.sampled_from(sorted(KINDS)), st.integers(0, 10_000))
@settings(max_examples=60, deadline=None, suppress_health_check=[HealthCheck.too_slow])
def test_random_settings_give_finite_sound_in_any_blocks(kind, seed):
    random = np.random.default_rng(seed)
    move = built(example(kind, random))
    rate = int(random.choice([44100, 48000, 88200]))
    channels = int(random.integers(1, 3))
    sound, key = noise(0.3, 0.5, channels, seed, rate), noise(0.3, 0.5, 1, seed + 1, rate)
    keyed = KINDS[kind].keyed
    whole = at_work(move, rate, channels).process(sound, key if keyed else None)
    assert np.isfinite(whole).all() and np.abs(whole).max() < 1e4
    processor, pieces, at = at_work(move, rate, channels), [], 0
    while at < len(sound):
        size = int(random.integers(1, 5000))
        pieces.append(processor.process(sound[at : at + size], key[at : at + size] if keyed else None))
        at += size
    scale = max(1.0, float(np.abs(whole).max()))
    assert np.abs(np.concatenate(pieces) - whole).max() < 1e-5 * scale


@pytest.mark.parametrize("kind", KINDS)
def test_a_region_equals_the_slice_of_the_whole(kind):
    other = other_for(example(kind))
    session = session_of({"id": "key"}, {"id": "part", "moves": [example(kind)]}, other)
    sounds = {"key": hits(4), "part": noise(4, 0.3), "other": noise(4, 0.3)}
    media = ArrayMedia(sounds, {"key": list(HITS_S)})
    whole = render.region(session, media, ("part", "before fader"), 0, 4 * RATE)
    start, frames = round(2.345 * RATE), RATE // 2
    part = render.region(session, media, ("part", "before fader"), start, frames)
    error = np.abs(part - whole[start : start + frames]).max()
    assert 20 * np.log10(error + 1e-12) < -90
    chunked = ChunkedSession(session, media, ChunkCache())
    cached = chunked.region(("part", "before fader"), start, frames)
    assert 20 * np.log10(np.abs(cached - part).max() + 1e-12) < -90
    assert chunked.reductions("part", start, frames) or kind in NOT_TRACED


@pytest.mark.parametrize("kind", KINDS)
def test_a_move_limited_to_a_section_leaves_the_rest_alone(kind):
    move = {**example(kind), "sections": ["b"]}
    other = other_for(move)
    sections = [{"id": "b", "name": "B", "start_s": 1.0, "end_s": 2.0}]
    session = session_of({"id": "key"}, {"id": "part", "moves": [move]}, other, sections=sections)
    sound = noise(3, 0.3)
    media = ArrayMedia({"key": hits(3), "part": sound}, {"key": list(HITS_S)})
    out = render.region(session, media, ("part", "before fader"), 0, 3 * RATE)
    late = round(2.02 * RATE) if not kind_of(kind).limits_input else out.shape[0]
    beside = kind_of(kind).in_phase(built({**move, "sections": []}), RATE, 2)
    if beside is not None:
        # The untreated sound has the phase of the treated one; it is as loud at every frequency.
        pulse = np.zeros((1 << 16, 2), "f4")
        pulse[0] = 1
        flat = np.abs(np.fft.rfft(beside.process(pulse, None)[:, 0].astype(float)))
        assert np.abs(20 * np.log10(flat[20:-20])).max() < 0.01
        sound = kind_of(kind).in_phase(built({**move, "sections": []}), RATE, 2).process(sound, None)
    assert np.abs(out[: RATE - 1] - sound[: RATE - 1]).max() < 1e-6
    assert np.abs(out[late:] - sound[late:]).max(initial=0) < 1e-6
    assert np.abs(out[RATE + 2000 : 2 * RATE] - sound[RATE + 2000 : 2 * RATE]).max() > 1e-4


@pytest.mark.parametrize("kind", KINDS)
def test_a_move_travels_through_json_and_describes_itself(kind):
    other = other_for(example(kind))
    session = session_of({"id": "key"}, {"id": "part", "moves": [example(kind)]}, other)
    again = parse_session(to_json(session))
    assert again == session
    registered = kind_of(kind)
    assert registered.title and registered.summary and registered.in_brief(again.part("part").moves[0])
    for params in (registered.params, *(one.item for one in item_lists(registered.params))):
        for control in controls_of(params):
            assert control.title and control.help, f"{kind}.{control.field}"


@given(st.sampled_from(sorted(KINDS)), st.integers(0, 100_000))
@settings(max_examples=150, deadline=None)
def test_a_wrong_value_is_named_with_its_field(kind, seed):
    random = np.random.default_rng(seed)
    move = example(kind)
    field = (
        random.choice([c.field for c in controls_of(KINDS[kind].params)])
        if controls_of(KINDS[kind].params)
        else "id"
    )
    move[str(field)] = (
        random.choice(["nonsense", -1e9, 1e12, None, "nan"], 1)[0] if field != "id" else ""
    )
    data = {
        "name": "x",
        "parts": [
            {"id": "key", "name": "K", "file": "k"},
            {"id": "other", "name": "O", "file": "o"},
            {"id": "part", "name": "P", "file": "p", "moves": [move]},
        ],
    }
    try:
        parse_session(data)
    except BadDocument as error:
        assert str(field) in error.message or "moves" in error.message


def test_latency_is_made_up_for():
    for move in (
        {"id": "m", "kind": "alignment", "nudge_ms": 0.00001},
        {"id": "m", "kind": "multiband", "phase": "linear", "bands": [{"on": False}, {"on": False}]},
        {"id": "m", "kind": "gate", "threshold_db": -90, "look_ahead_ms": 7},
    ):
        session = session_of({"id": "part", "moves": [move]})
        sound = sine(300, 1)
        out = render.region(session, ArrayMedia({"part": sound}), ("part", "before fader"), 0, RATE)
        middle = slice(RATE // 4, RATE // 2)
        assert np.abs(out[middle] - sound[middle]).max() < 1e-3


@pytest.mark.parametrize("kind", KINDS)
def test_a_move_rings_no_longer_than_it_says(kind):
    move = built(example(kind))
    rings = KINDS[kind].rings_s(move)
    processor = at_work(move, RATE, 2)
    sound = noise(1.0, 0.3)
    silence = np.zeros((round((rings + 0.3) * RATE), 2), "f4")
    keyed = KINDS[kind].keyed
    processor.process(sound, hits(1.0) if keyed else None)
    after = processor.process(silence, np.zeros((len(silence), 1), "f4") if keyed else None)
    late = after[round(rings * RATE) + processor.latency :]
    assert 20 * np.log10(np.abs(late).max() + 1e-12) < -90
    assert after.shape[1] == KINDS[kind].channels_out(move, 2)
