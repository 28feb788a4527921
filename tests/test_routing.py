"""What reaches the mix, by which road, and where moves act."""

from __future__ import annotations

import numpy as np
import pytest
from conftest import RATE, session_of, sine

from pondel.core.audio.media import ArrayMedia
from pondel.core.engine import render
from pondel.core.engine.cache import ChunkCache
from pondel.core.engine.chunks import ChunkedSession
from pondel.core.engine.graph import song_frames
from pondel.core.hearing.in_the_mix import in_the_mix
from pondel.core.hearing.spectra import ear_spectrum
from pondel.core.losses import without
from pondel.core.measures.spectrum import average_spectrum
from pondel.core.reading import parse_session, to_json

SECTIONS = [
    {"id": "s1", "name": "Verse", "start_s": 0.5, "end_s": 1.0},
    {"id": "s2", "name": "Bridge", "start_s": 1.0, "end_s": 1.5},
    {"id": "s3", "name": "Coda", "start_s": 1.75, "end_s": 2.0},
]
DOWN = {"id": "m", "kind": "level", "gain_db": -60}
RETURN = {"file": None, "source": "sends"}


def peak_db(samples):
    return 20 * np.log10(max(float(np.abs(samples).max()), 1e-10))


def noise(seed, seconds=2.5, channels=2):
    rng = np.random.default_rng(seed)
    return rng.uniform(-0.3, 0.3, (round(seconds * RATE), channels)).astype(np.float32)


def treated(move, sections, sound):
    session = session_of({"id": "a", "moves": [{**move, "sections": sections}]}, sections=SECTIONS)
    frames = sound.shape[0]
    return render.region(session, ArrayMedia({"a": sound}), ("a", "before fader"), 0, frames)


def test_a_move_does_not_let_go_between_sections_that_touch():
    sound = np.full((round(2.5 * RATE), 1), 0.5, np.float32)
    out = treated(DOWN, ["s1", "s2"], sound)
    inside = slice(round(0.51 * RATE), round(1.5 * RATE))
    assert peak_db(out[inside]) < -60
    apart = treated(DOWN, ["s2", "s3"], sound)
    assert peak_db(apart[round(1.6 * RATE) : round(1.7 * RATE)]) == pytest.approx(-6.02, abs=0.01)


def test_a_move_whose_sections_are_gone_acts_nowhere():
    sound = noise(1)
    session = session_of({"id": "a", "moves": [{**DOWN, "sections": ["s1"]}]}, sections=SECTIONS)
    left, said = without(session, sections={"s1"})
    assert said == ["A, level is off: it acted only in Verse, which was taken out."]
    data = to_json(left)
    data["parts"][0]["moves"][0]["on"] = True
    media = ArrayMedia({"a": sound})
    for document in (left, parse_session(data), session.model_copy(update={"sections": []})):
        out = render.region(document, media, ("a", "before fader"), 0, sound.shape[0])
        assert np.array_equal(out, sound)


@pytest.mark.parametrize("hz", [83, 127, 1009, 2389])
@pytest.mark.parametrize("phase", ["minimum", "linear"])
def test_an_idle_split_does_not_cancel_where_it_sets_in_and_lets_go(hz, phase):
    move = {
        "id": "m",
        "kind": "multiband",
        "crossovers_hz": [120, 2400],
        "bands": [{"on": False}] * 3,
        "phase": phase,
    }
    out = treated(move, ["s1"], sine(hz, 2.5, -6))
    envelope = np.abs(out[round(0.3 * RATE) : round(1.2 * RATE), 0])
    window = RATE // 80
    tops = envelope[: envelope.size // window * window].reshape(-1, window).max(axis=1)
    assert 20 * np.log10(tops).min() > -6.2


def grouped(**more):
    """A group of two parts, a return that both a part and a silent key feed, and a lone part."""
    parts = {
        "a": {"id": "a", "group": "g", "fader_db": -3, "sends": [{"to": "r", "tap": "before fader"}]},
        "b": {"id": "b", "group": "g", "pan": 0.4},
        "c": {"id": "c", "sends": [{"to": "r", "level_db": -6, "tap": "source"}]},
        "k": {"id": "k", "silent_key": True, "sends": [{"to": "r", "tap": "source"}]},
        "g": {
            "id": "g",
            **RETURN,
            "fader_db": -4,
            "moves": [{"id": "m", "kind": "level", "gain_db": 2}],
        },
        "r": {"id": "r", **RETURN, "pan": -0.3},
    }
    for part, fields in more.items():
        parts[part] = {**parts[part], **fields}
    return session_of(*parts.values())


MEDIA = ArrayMedia({one: noise(n) for n, one in enumerate("abck")})


@pytest.mark.parametrize(
    "changes",
    [
        {},
        {"a": {"mute": True}},
        {"g": {"mute": True}},
        {"r": {"mute": True}},
        {"c": {"silent_key": True}},
        {"k": {"group": "g"}},
        {"g": {"silent_key": True, "sends": [{"to": "r"}]}},
        {"r": {"group": "g"}},
    ],
)
def test_ungrouped_parts_groups_and_returns_add_up_to_the_mix(changes):
    session = grouped(**changes)
    summed = session.summed()
    mix, *parts = render.regions(
        session, MEDIA, ["mix", *((part.id, "after fader") for part in summed)], 0, RATE
    )
    assert peak_db(mix - sum(parts, np.zeros_like(mix))) < -120
    loud = [part.id for part in session.parts if part.sounds]
    mute = {one: noise(n) if one in loud else np.zeros_like(noise(n)) for n, one in enumerate("abck")}
    without_them = render.region(session, ArrayMedia(mute), "mix", 0, RATE)
    assert np.array_equal(mix, without_them)


def test_a_muted_part_leaves_its_sends_of_every_tap_but_not_its_keys():
    for tap in ("source", "before fader", "after fader"):
        session = grouped(a={"mute": True}, c={"mute": True, "sends": [{"to": "r", "tap": tap}]})
        assert not render.region(session, MEDIA, ("r", "after fader"), 0, RATE).any()
    data = to_json(grouped(a={"mute": True}))
    key = {"source": "a", "tap": "before fader"}
    data["parts"][2]["moves"] = [{"id": "d", "kind": "compressor", "key": key, "threshold_db": -40}]
    chunked = ChunkedSession(parse_session(data), MEDIA, ChunkCache())
    assert chunked.reductions("c", 0, RATE)["d"].high.max() > 6


def bands_of(session, part):
    """Mean power of a part in the mix in each of the ear's bands."""
    chunked = ChunkedSession(session, MEDIA, ChunkCache())

    def of(source):
        return source.gain * ear_spectrum(chunked.ear_blocks(source, 0, RATE), RATE)

    return chunked.in_the_mix(part).power(of)[20:80].mean(axis=0)


def levels_db(session, part):
    return 10 * np.log10(max(bands_of(session, part).sum(), 1e-20))


def test_a_group_counts_for_each_of_its_members_and_hides_none_of_them():
    plain = grouped(g={"fader_db": 0, "moves": []})
    low = grouped(g={"fader_db": -12, "trim_db": -3, "moves": []})
    assert levels_db(plain, "a") - levels_db(low, "a") == pytest.approx(15, abs=0.05)
    moved = grouped(g={"fader_db": 0, "moves": [{"id": "m", "kind": "level", "gain_db": -9}]})
    assert levels_db(plain, "b") - levels_db(moved, "b") == pytest.approx(9, abs=0.2)
    assert levels_db(grouped(g={"mute": True}), "a") < -60
    carved = {"id": "m", "kind": "eq", "bands": [{"shape": "high cut", "hz": 200, "slope_db_oct": 48}]}
    dull = grouped(g={"fader_db": 0, "pan": 0.5, "moves": [carved]})
    carved_db = 10 * np.log10(bands_of(dull, "a") / bands_of(plain, "a"))
    assert carved_db[-20:].max() < -30
    assert (
        10 * np.log10(in_the_mix(ChunkedSession(dull, MEDIA, ChunkCache()), "a", 0, RATE).power.max())
        > 0
    )


def test_a_return_that_is_a_group_as_well_stands_for_what_is_sent_to_it():
    session = grouped(b={"group": "r"}, r={"pan": 0})
    both = levels_db(session, "r")
    alone = levels_db(grouped(b={"mute": True}, r={"pan": 0}), "r")
    assert both == pytest.approx(alone, abs=0.5)


def test_the_return_of_a_duck_is_heard_as_a_part(duck):
    session, media = duck
    data = to_json(session)
    data["parts"][1]["sends"] = [{"to": "r"}]
    data["parts"].append({"id": "r", "name": "Hall", **RETURN})
    chunked = ChunkedSession(parse_session(data), media, ChunkCache())
    found = average_spectrum(chunked.blocks(("r", "after fader"), 0, RATE), RATE)
    assert found.max() > -30
    assert in_the_mix(chunked, "r", 0, RATE).power.max() > 0


def test_a_nudge_of_the_longest_part_makes_the_song_longer_and_keeps_its_end():
    late = {"id": "n", "kind": "alignment", "nudge_ms": 40}
    session = session_of(
        {"id": "a", "moves": [late], "group": "g"}, {"id": "b"}, {"id": "g", **RETURN, "moves": [late]}
    )
    frames = song_frames(session, MEDIA)
    assert frames == round(2.5 * RATE) + round(0.08 * RATE)
    out = render.region(session, MEDIA, ("g", "after fader"), 0, frames)
    assert np.abs(out[-200:]).max() > 0.1
