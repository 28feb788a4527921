"""Where in the stereo field a move acts: there as on a mono part, elsewhere not at all."""

from __future__ import annotations

import numpy as np
import pytest
from conftest import RATE, hits, session_of
from moves_tools import noise, run

from pondel.core.audio.media import ArrayMedia
from pondel.core.engine import render
from pondel.core.moves.registry import KINDS, kind_of

SETTINGS = {
    "dynamic eq": {"bands": [{"hz": 500, "q": 0.7, "threshold_db": -50, "range_db": -9}]},
    "multiband": {"crossovers_hz": [400], "bands": [{"threshold_db": -50}, {"on": False}]},
    "spectral duck": {"threshold_db": -70, "low_hz": 60, "high_hz": 6000},
    "complementary eq": {
        "tied_to": {"part": "key", "move": "m"},
        "bands": [{"hz": 500, "q": 0.7, "difference_db": 8}],
    },
}
PLACES = {
    "middle": (lambda x: (x[:, :1] + x[:, 1:]) / 2, lambda x: (x[:, :1] - x[:, 1:]) / 2),
    "sides": (lambda x: (x[:, :1] - x[:, 1:]) / 2, lambda x: (x[:, :1] + x[:, 1:]) / 2),
    "left": (lambda x: x[:, :1], lambda x: x[:, 1:]),
    "right": (lambda x: x[:, 1:], lambda x: x[:, :1]),
}
EVERY = [name for name, kind in KINDS.items() if "placement" in kind.params.model_fields]


def moved(kind: str, **more):
    return kind_of(kind).params.model_validate({"id": "m", **SETTINGS[kind], **more})


def test_every_kind_that_acts_on_frequencies_can_be_placed():
    assert set(SETTINGS) <= set(EVERY)


@pytest.mark.parametrize("keyed", [True, False])
@pytest.mark.parametrize("place", PLACES)
@pytest.mark.parametrize("kind", SETTINGS)
def test_it_acts_there_as_on_a_mono_part_and_leaves_the_rest(kind, place, keyed):
    sound = noise(1.5, 0.2)
    key = noise(1.5, 0.3, 1, seed=5) if keyed else None
    there, rest = PLACES[place]
    out = run(moved(kind, placement=place), sound, key)
    alone = run(moved(kind), np.ascontiguousarray(there(sound)), key)
    assert np.abs(there(out) - alone).max() < 1e-5
    assert np.abs(there(out) - there(sound)).max() > 0.02
    # What is left alone keeps its spectrum to 0.05 dB, though its phase may turn along.
    before, after = (np.abs(np.fft.rfft(rest(one)[:, 0])) for one in (sound, out))
    hz = np.fft.rfftfreq(len(sound), 1 / RATE)
    for low, high in ((50, 200), (200, 800), (800, 4000)):
        band = (hz >= low) & (hz < high)
        change = 10 * np.log10((after[band] ** 2).sum() / (before[band] ** 2).sum())
        assert change == pytest.approx(0.0, abs=0.05)


@pytest.mark.parametrize("kind", SETTINGS)
def test_a_mono_part_is_all_middle_and_has_no_sides(kind):
    sound = noise(0.5, 0.2, 1)
    key = noise(0.5, 0.3, 1, seed=5)
    plain = run(moved(kind), sound, key)
    assert np.array_equal(run(moved(kind, placement="middle"), sound, key), plain)
    assert np.array_equal(run(moved(kind, placement="sides"), sound, key), sound)


def test_the_latency_of_a_placed_split_is_made_up_for():
    move = {
        "id": "m",
        "kind": "multiband",
        "phase": "linear",
        "placement": "middle",
        "crossovers_hz": [300],
        "bands": [{"on": False}, {"on": False}],
    }
    session = session_of({"id": "pad", "moves": [move]})
    sound = noise(2.0, 0.2)
    out = render.region(session, ArrayMedia({"pad": sound}), ("pad", "before fader"), 0, 2 * RATE)
    assert np.abs(out[: -RATE // 4] - sound[: -RATE // 4]).max() < 1e-5


@pytest.mark.parametrize("kind", SETTINGS)
def test_a_region_of_a_placed_move_is_the_slice(kind):
    move = {"id": "m", "kind": kind, **SETTINGS[kind], "placement": "sides"}
    move["key"] = {"source": "key", "tap": "source"}
    other = {**move, "side": "gains", "tied_to": {"part": "pad", "move": "m"}}
    moves = [other] if kind == "complementary eq" else []
    session = session_of({"id": "key", "moves": moves}, {"id": "pad", "moves": [move]})
    media = ArrayMedia({"key": hits(4), "pad": noise(4, 0.3)})
    whole = render.region(session, media, ("pad", "before fader"), 0, 4 * RATE)
    start = round(2.345 * RATE)
    part = render.region(session, media, ("pad", "before fader"), start, RATE)
    assert np.abs(part - whole[start : start + RATE]).max() < 4e-5
