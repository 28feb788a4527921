"""What moves give and cost, against closed forms."""

from __future__ import annotations

import tracemalloc

import numpy as np
import pytest
from conftest import RATE, hits, sine

from pondel.core.engine.hits import corrected
from pondel.core.hearing.spectra import FRAME_S
from pondel.core.judgement.judged import low_end_db
from pondel.core.judgement.steadiness import gain_moves_db, modulation
from pondel.core.judgement.tone import thirds_db, tone_change, warmth_db, warmth_of_db
from pondel.core.measures.spectrum import average_spectrum, axis_hz
from pondel.core.measures.stereo import mono_loss_db

HITS_S = np.arange(0.1, 4.0, 0.5)


def noise(seconds=4.0, seed=5):
    return np.random.default_rng(seed).normal(0, 0.1, (round(seconds * RATE), 2)).astype(np.float32)


def spectrum(samples):
    return average_spectrum([samples], RATE)


def test_a_flat_gain_moves_every_third_octave_and_the_warmth_by_as_much():
    change = tone_change(spectrum(noise()), spectrum(noise() * np.float32(0.5)))
    assert change.largest_db == pytest.approx(-6.02, abs=0.01)
    assert change.mean_db == pytest.approx(6.02, abs=0.01)
    assert change.warmth_db == pytest.approx(-6.02, abs=0.01)


def test_the_third_octave_that_changes_most_is_named_and_silence_is_none():
    before = np.where((axis_hz() > 50) & (axis_hz() < 5000), -40.0, -120.0)
    after = before.copy()
    after[np.abs(np.log2(axis_hz() / 250)) < 1 / 6] -= 9.0
    after[axis_hz() > 8000] += 30.0
    change = tone_change(before, after)
    assert change.largest_db == pytest.approx(-9.0) and change.at_hz == pytest.approx(250)
    assert thirds_db(before).max() == pytest.approx(-40)


def test_warmth_is_what_lies_between_120_and_500_hz():
    warm, cold = sine(250, 2.0), sine(2500, 2.0)
    assert warmth_db(spectrum(warm)) - warmth_db(spectrum(cold)) > 40


@pytest.mark.parametrize("rate", [44100, 48000, 96000])
def test_the_warmth_of_white_noise_is_its_power_between_120_and_500_hz(rate):
    """As much in a sixth of an octave around each point as its share of half of the rate."""
    noise = np.random.default_rng(8).normal(0.0, 0.1, (30 * rate, 2)).astype("f4")
    hz = axis_hz()[(axis_hz() >= 120) & (axis_hz() <= 500)]
    power = 0.01 * (hz * (2 ** (1 / 12) - 2 ** (-1 / 12))).mean() / (rate / 2)
    assert warmth_of_db(noise, rate) == pytest.approx(10 * np.log10(power), abs=0.1)
    high = np.sin(2 * np.pi * 3000 * np.arange(4 * rate) / rate)[:, None].astype("f4")
    assert warmth_of_db(high, rate) < -90


@pytest.mark.parametrize("depth_db", [2.0, 6.0])
def test_a_gain_that_swings_moves_by_its_rms(depth_db):
    """A sine of gain in dB, of so many dB to each side: rms of it over the root of two."""
    sound = noise(8.0)
    t = np.arange(sound.shape[0]) / RATE
    gain_db = depth_db * np.sin(2 * np.pi * 0.5 * t)
    treated = sound * (10 ** (gain_db / 20)).astype(np.float32)[:, None]
    moved = gain_moves_db(sound, treated, RATE, np.zeros(0))
    assert moved == pytest.approx(depth_db / np.sqrt(2), rel=0.03)


def test_what_happens_on_the_hits_is_no_unsteadiness():
    sound = noise(4.0)
    t = np.arange(sound.shape[0]) / RATE
    since = (t[:, None] - HITS_S[None, :]).min(axis=1, where=t[:, None] >= HITS_S, initial=9.0)
    ducked = sound * np.where(since < 0.18, 0.5, 1.0).astype(np.float32)[:, None]
    assert gain_moves_db(sound, ducked, RATE, HITS_S) < 0.1
    late = sound * np.where(since < 0.35, 0.5, 1.0).astype(np.float32)[:, None]
    assert gain_moves_db(sound, late, RATE, HITS_S) > 1.5
    assert gain_moves_db(sound, sound * np.float32(0.3), RATE, HITS_S) == pytest.approx(0, abs=1e-3)


def test_modulation_is_that_of_a_beating_loudness():
    """1 + m sin: an rms of m over the root of two, counted between 1 and 8 Hz alone."""
    t = np.arange(round(8 / FRAME_S)) * FRAME_S
    for hz, counts in ((4.0, True), (0.25, False), (20.0, False)):
        found = modulation(2.0 * (1.0 + 0.3 * np.sin(2 * np.pi * hz * t)))
        assert found == pytest.approx(0.3 / np.sqrt(2) if counts else 0.0, abs=0.01)
    assert modulation(np.zeros(0)) == modulation(np.zeros(100)) == 0.0


def test_what_mono_loses():
    assert mono_loss_db(1.0, 1.0, 1.0) == pytest.approx(0.0)
    assert mono_loss_db(0.0, 1.0, 1.0) == pytest.approx(-3.01, abs=0.01)
    assert mono_loss_db(-1.0, 1.0, 1.0) < -100
    assert mono_loss_db(0.0, 0.0, 0.0) is None


def test_the_thump_is_no_part_of_the_gain_between_hits():
    thump = np.hstack([hits(4.0)] * 2)
    assert gain_moves_db(thump, thump, RATE, HITS_S) == 0.0


def test_however_many_hits_there_are_the_low_end_takes_no_more_room_than_the_loop():
    """Twenty thousand hits in two seconds, as a small MIDI file can hold."""
    low = sine(60, 2.0, -12)
    few = low_end_db(low, 0 * low, RATE, np.array([0.5, 1.2]))
    # A sine of -12 dBFS has a power of -15 dB; both channels of one part are added up and halved.
    assert few == pytest.approx(-15.05, abs=0.2)
    tracemalloc.start()
    many = low_end_db(low, 0 * low, RATE, np.linspace(0.4, 1.9, 20_000))
    most = tracemalloc.get_traced_memory()[1]
    tracemalloc.stop()
    assert many == pytest.approx(few, abs=0.2) and most < 40 << 20


def test_hits_are_at_most_two_hundred_a_second_and_corrections_find_them_fast():
    found = corrected(np.linspace(0, 8, 100_000), [], [])
    assert 1500 < found.size <= 1601
    kept = corrected(np.array([0.5, 1.0, 1.02, 2.0]), [1.5], [1.01])
    assert kept.tolist() == [0.5, 1.5, 2.0]
