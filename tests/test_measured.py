"""What is measured of a stretch: once for one sound, and anew for whatever changes it."""

from __future__ import annotations

import numpy as np
import pytest
from conftest import RATE, session_of, sine

from pondel.core import measured
from pondel.core.audio.media import ArrayMedia
from pondel.core.engine.cache import ChunkCache
from pondel.core.engine.chunks import ChunkedSession
from pondel.core.engine.listen import make_plan
from pondel.core.measures.loudness import loudness_lufs
from pondel.core.measures.spectrum import axis_hz

SONG = 4 * RATE
HZ = 1000.0
DOWN = {"id": "m", "kind": "level", "gain_db": -9.0}


@pytest.fixture
def media():
    tone = sine(HZ, 4.0, -12.0)
    tuba = np.hstack([tone, np.zeros_like(tone)])
    tuba[2 * RATE :] *= 0.5
    return ArrayMedia({"tuba": tuba, "kick": sine(200.0, 4.0, -20.0)})


@pytest.fixture
def given(media):
    """A session of these settings of the tuba, always over one cache."""
    cache = ChunkCache()

    def chunked(**tuba) -> ChunkedSession:
        return ChunkedSession(session_of({"id": "tuba", **tuba}, {"id": "kick"}), media, cache)

    return chunked


def level_db(
    chunked: ChunkedSession, start: int = 0, fold="both", frames: int = SONG // 2, **how
) -> float:
    """The level of the tone in the tuba's spectrum."""
    at = np.abs(axis_hz() - HZ).argmin()
    return float(measured.part_spectrum(chunked, "tuba", start, frames, fold, **how)[at])


def test_a_spectrum_is_that_of_what_was_asked_for(given):
    # A sine of -12 dB on one of two channels: -15 dB of power, 3 dB less on their mean.
    assert level_db(given()) == pytest.approx(-18.0, abs=0.1)
    assert level_db(given(), SONG // 2) == pytest.approx(-24.0, abs=0.1)
    assert level_db(given(), fold="left") == pytest.approx(-15.0, abs=0.1)
    assert level_db(given(), fold="right") < -100
    # Half of it 6 dB down: on average 2 dB, at the highest nothing.
    assert level_db(given(), frames=SONG) == pytest.approx(-20.0, abs=0.3)
    assert level_db(given(), frames=SONG, peak=True) == pytest.approx(-18.0, abs=0.1)
    assert level_db(given(fader_db=-6)) == pytest.approx(-24.0, abs=0.1)
    assert level_db(given(moves=[DOWN])) == pytest.approx(-27.0, abs=0.1)
    assert level_db(given(pan=-1), fold="right") < -100


def test_loudness_and_meters_are_those_of_what_is_heard(given):
    def heard(chunked, hear, parts=None):
        plan = make_plan(chunked.session, hear, parts)
        whole = measured.plan_loudness_lufs(plan, chunked, 0, SONG)
        return whole, measured.plan_metered(plan, chunked, 0, SONG, "stereo").highest_peak_dbfs

    lufs, peak = heard(given(), "part", ["tuba"])
    assert peak == pytest.approx(-12.0, abs=0.1)
    alone = np.zeros((SONG, 2), np.float32)
    alone[:, :1] = sine(HZ, 4.0, -12.0)
    alone[SONG // 2 :] *= 0.5
    assert lufs == pytest.approx(loudness_lufs(alone, RATE), abs=0.01)
    assert heard(given(fader_db=-6), "part", ["tuba"]) == pytest.approx((lufs - 6, peak - 6), abs=0.1)
    assert heard(given(moves=[DOWN]), "part", ["tuba"]) == pytest.approx((lufs - 9, peak - 9), abs=0.1)
    assert heard(given(), "mix")[1] > peak + 1
    # Of the kick in the middle each side gets 3 dB less.
    assert heard(given(mute=True), "mix")[1] == pytest.approx(-23.0, abs=0.1)
    silent = heard(given(fader_db=-90), "part", ["tuba"])
    assert silent[0] is None


def test_powers_and_small_speakers_follow_moves_and_faders(given):
    node = ("tuba", "before fader")
    around = [measured.node_powers(given(moves=moves), node, 0, SONG) for moves in ([], [DOWN])]
    assert 10 * np.log10(around[1][100] / around[0][100]) == pytest.approx(-9.0, abs=0.01)
    in_zone = measured.node_powers(given(), node, 0, SONG, (40.0, 120.0))
    assert in_zone[100] < 1e-6 * around[0][100]
    small = measured.part_small_speakers_lufs(given(), "tuba", 0, SONG)
    quieter = measured.part_small_speakers_lufs(given(fader_db=-6), "tuba", 0, SONG)
    assert quieter == pytest.approx(small - 6.0, abs=0.01)


def test_what_did_not_change_is_not_measured_again(given, monkeypatch):
    calls = []

    def counted(name):
        real = getattr(measured, name)
        monkeypatch.setattr(measured, name, lambda *a, **k: (calls.append(name), real(*a, **k))[1])

    for name in ("average_spectrum", "loudness_lufs", "metered", "steps_db", "power_steps"):
        counted(name)
    for moves in ([], [DOWN], []):
        chunked = given(moves=moves)
        for part in ("tuba", "kick"):
            measured.part_spectrum(chunked, part, 0, SONG)
            plan = make_plan(chunked.session, "part", [part])
            measured.plan_loudness_lufs(plan, chunked, 0, SONG)
            measured.plan_metered(plan, chunked, 0, SONG, "stereo")
            measured.node_steps_db(chunked, (part, "before fader"), 0, SONG)
            measured.node_powers(chunked, (part, "before fader"), 0, SONG)
    # The kick once, the tuba as it was and as it is.
    assert {name: calls.count(name) for name in calls} == dict.fromkeys(calls, 3)
    assert len(set(calls)) == 5
