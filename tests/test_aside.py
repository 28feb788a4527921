"""What is moved aside: one law at the fader and in the chain, and the ear on one side of the mix."""

from __future__ import annotations

import numpy as np
import pytest
from conftest import RATE, ArrayMedia, session_of
from moves_tools import noise

from pondel.core.dsp.fold import folded
from pondel.core.dsp.pan import pan_for, pan_gains
from pondel.core.engine import render
from pondel.core.engine.cache import ChunkCache
from pondel.core.engine.chunks import ChunkedSession
from pondel.core.hearing.in_the_mix import in_the_mix
from pondel.core.hearing.spectra import ear_spectrum
from pondel.core.moves.registry import kind_of

SECONDS = 2.0
SOUND = noise(SECONDS, 0.1)


def mixed(*parts: dict, **session) -> np.ndarray:
    """The mix of parts that all play the sound that their id names."""
    media = ArrayMedia({"mono": SOUND[:, :1], "stereo": SOUND})
    return render.region(session_of(*parts, **session), media, "mix", 0, round(SECONDS * RATE))


@pytest.mark.parametrize(("loss_db", "pan"), [(0.0, 0.0), (3.0103, 1 / 3), (np.inf, 1.0)])
def test_the_far_side_loses_what_is_asked(loss_db, pan):
    """cos(60 degrees) is 3.01 dB under cos(45 degrees)."""
    assert pan_for(loss_db) == pytest.approx(pan, abs=1e-4)
    left, right = pan_gains(pan, 1)
    assert left**2 + right**2 == pytest.approx(1.0)


@pytest.mark.parametrize("pan", [-1.0, -0.3, 0.0, 0.45])
@pytest.mark.parametrize("kind", ["mono", "stereo"])
def test_a_pan_in_the_chain_is_one_at_the_fader(kind, pan):
    moved = mixed({"id": kind, "moves": [{"id": "m", "kind": "pan", "pan": pan}]})
    assert np.abs(moved - mixed({"id": kind, "pan": pan})).max() < 1e-6


@pytest.mark.parametrize("settings", [{"kind": "delay", "mix": 0.0}, {"kind": "reverb", "mix": 0.0}])
def test_what_makes_two_channels_of_one_leaves_its_level_alone(settings):
    assert (
        np.abs(mixed({"id": "mono", "moves": [{"id": "m", **settings}]}) - mixed({"id": "mono"})).max()
        < 1e-6
    )


def test_a_mono_part_is_aside_in_one_section_and_in_the_middle_elsewhere():
    sections = [{"id": "a", "name": "A", "start_s": 0.0, "end_s": 1.0}]
    move = {"id": "m", "kind": "pan", "pan": 1.0, "sections": ["a"]}
    out = mixed({"id": "mono", "moves": [move]}, sections=sections)
    assert np.abs(out[: RATE - 1, 0]).max() < 1e-6
    assert np.abs(out - mixed({"id": "mono"}))[RATE + 500 :].max() < 1e-6


@pytest.mark.parametrize("side", ["left", "right", "middle", "sides"])
def test_the_ear_on_one_side_hears_what_is_there(side):
    """A mono part that was moved aside at its fader, against the same analysis of the rendered mix."""
    part = {"id": "mono", "pan": 0.4, "trim_db": 3.0, "fader_db": -2.0}
    media = ArrayMedia({"mono": SOUND[:, :1]})
    chunked = ChunkedSession(session_of(part), media, ChunkCache())
    heard = in_the_mix(chunked, "mono", 0, round(SECONDS * RATE), side)
    wanted = ear_spectrum(folded([mixed(part)], side), RATE)
    source = chunked.in_the_mix("mono").own
    told = ear_spectrum(folded([SOUND[:, :1]], "both"), RATE) * source.gain_in(side)
    np.testing.assert_allclose(told, wanted, rtol=1e-3)
    assert heard.power.shape[0] == wanted.shape[0]


def test_it_says_where_it_goes_and_is_judged_where_it_gives_way():
    kind = kind_of("pan")
    told = [(kind.in_brief(move), kind.judged_in(move)) for move in map(_at, (-0.48, 0.0, 0.33))]
    assert told == [("L48", "right"), ("C", "both"), ("R33", "left")]


def _at(pan: float):
    return kind_of("pan").params(id="m", pan=pan)
