"""Spectra, hits and outlines of signals whose answer is known."""

from __future__ import annotations

import numpy as np
import pytest
from conftest import RATE, sine

from pondel.core.dsp.timing import gap_s
from pondel.core.measures.hits import Hits
from pondel.core.measures.outline import Outline, outline
from pondel.core.measures.spectrum import average_spectrum, axis_hz, moving_spectrum


@pytest.mark.parametrize("hz", [50, 440, 3000, 12000])
@pytest.mark.parametrize("rate", [44100, 96000])
def test_a_sine_reads_its_rms_where_it_lies_and_nothing_far_away(hz, rate):
    found = average_spectrum([sine(hz, 4, -20, rate)], rate)
    at = int(np.argmin(np.abs(axis_hz() - hz)))
    assert found[at] == pytest.approx(-23.01, abs=0.15)
    away = np.abs(np.log2(axis_hz() / hz)) > 0.5
    assert found[away].max() < -80


def test_white_noise_rises_three_decibels_per_octave():
    rng = np.random.default_rng(5)
    found = average_spectrum([rng.normal(0, 0.1, (RATE * 30, 1)).astype("f4")], RATE)
    at = [int(np.argmin(np.abs(axis_hz() - hz))) for hz in (500, 4000)]
    assert found[at[1]] - found[at[0]] == pytest.approx(3 * 3.0103, abs=0.3)
    # One sixth of an octave at 1 kHz is 115.6 Hz of 24 kHz.
    one_khz = found[int(np.argmin(np.abs(axis_hz() - 1000)))]
    assert one_khz == pytest.approx(-20 + 10 * np.log10(115.6 / 24000), abs=0.4)


def found_hits(samples: np.ndarray, block: int = 4001) -> np.ndarray:
    finder = Hits(RATE)
    for i in range(0, len(samples), block):
        finder.write(samples[i : i + block])
    return finder.times_s()


@pytest.mark.parametrize("hz", [440, 5000])
def test_what_never_rises_has_no_hits(hz):
    assert found_hits(sine(hz, 2.0)).size == 0


@pytest.mark.parametrize("hz", [45, 60, 180])
def test_hits_of_a_drum_are_found_to_five_milliseconds(hz):
    times = np.array([0.2, 0.713, 1.31, 1.9017, 2.4, 3.0009, 3.35])
    out = np.random.default_rng(6).normal(0, 1e-4, RATE * 4)
    t = np.arange(RATE // 3) / RATE
    for at in times:
        first = round(at * RATE)
        room = out[first : first + t.size]
        room += (np.sin(2 * np.pi * hz * t) * np.exp(-t / 0.07))[: room.size]
    found = found_hits(out.astype("f4")[:, None])
    assert found.size == times.size
    assert np.abs(found - times).max() < 0.005
    assert gap_s(found) == pytest.approx(np.quantile(np.diff(times), 0.25), abs=0.005)


def test_silence_and_a_steady_tone_have_no_hits():
    assert found_hits(np.zeros((RATE, 1), np.float32)).size == 0
    assert found_hits(sine(100, 3)).size <= 1


def test_an_outline_keeps_every_peak_whatever_the_blocks():
    samples = np.random.default_rng(8).uniform(-1, 1, (10_000, 2)).astype("f4")
    samples[7777, 1] = 3.0
    whole = outline(samples, 100)
    assert whole.shape == (100, 2)
    assert whole[77, 1] == 3.0
    assert whole[:, 0].min() == samples.min()
    pieces = Outline(100)
    for i in range(0, 10_000, 333):
        pieces.write(samples[i : i + 333])
    assert np.array_equal(pieces.columns(), whole)


def test_a_moving_spectrum_shows_each_tone_while_it_sounds():
    """1 kHz for half a second, then 2 kHz; a sine of peak a has the RMS level a - 3.01 dB."""
    sound = np.vstack([sine(1000, 0.5, -12.0), sine(2000, 0.5, -18.0)])
    levels = moving_spectrum(sound, RATE, np.array([0.25, 0.75, 3.0]))
    at_1k, at_2k = (int(np.argmin(np.abs(axis_hz() - hz))) for hz in (1000, 2000))
    assert levels[0, at_1k] == pytest.approx(-15.01, abs=0.1) and levels[0, at_2k] < -60
    assert levels[1, at_2k] == pytest.approx(-21.01, abs=0.1) and levels[1, at_1k] < -60
    assert levels[2].max() < -130
