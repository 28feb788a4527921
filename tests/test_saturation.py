"""Saturation against closed forms: its series, its aliases, its nulls, its loudness."""

from __future__ import annotations

import numpy as np
import pytest
from conftest import RATE, sine
from moves_tools import at_work, noise
from scipy.signal import sosfilt
from scipy.signal.windows import blackmanharris

from pondel.core.dsp.tone import Excerpt, tone_of
from pondel.core.dsp.weighting import k_weighting
from pondel.core.evidence import small_speakers_lufs
from pondel.core.measures.loudness import loudness_lufs
from pondel.core.moves.base import Place
from pondel.core.moves.saturation import Saturation


def saturated(**more) -> Saturation:
    return Saturation(id="m", kind="saturation", **{"level_match": False, **more})


def heard(move, sound, rate: int = RATE, tone=None):
    """Sound through it, its latency made up for."""
    processor = at_work(move, rate, sound.shape[1])
    if tone is not None:
        processor.start_at(Place(tone=lambda: tone))
    padded = np.concatenate([sound, np.zeros((processor.latency, sound.shape[1]), "f4")])
    return processor.process(padded, None)[processor.latency :]


def lines_db(sound, hz: float, rate: int, count: int = 8) -> np.ndarray:
    """Levels of a tone's multiples in dB under full scale, from the whole of a sound."""
    t = np.arange(sound.size) / rate
    window = blackmanharris(sound.size)
    turns = np.exp(-2j * np.pi * hz * np.arange(1, count + 1)[:, None] * t)
    amplitudes = 2 * np.abs((turns * (sound * window)).sum(axis=1)) / window.sum()
    return 20 * np.log10(np.maximum(amplitudes, 1e-9))


@pytest.mark.parametrize("tone_db", [-6, 0, 6])
@pytest.mark.parametrize("drive_db", [12, 24])
@pytest.mark.parametrize("even", [0.0, 0.5, 1.0])
def test_aliases_lie_80_db_below_the_fundamental(drive_db, even, tone_db):
    rate, hz = 44100, 5000.0
    out = heard(saturated(drive_db=drive_db, even=even, tone_db=tone_db), sine(hz, 2.0, -6, rate), rate)
    sound = out[rate // 2 :, 0].astype(np.float64)
    window = blackmanharris(sound.size)
    power = np.abs(np.fft.rfft(sound * window)) ** 2
    at = np.fft.rfftfreq(sound.size, 1 / rate)
    near = lambda f: np.abs(at - f) < 30  # noqa: E731
    fundamental = power[near(hz)].max()
    power[at < 60] = 0.0
    for n in range(1, 5):
        power[near(n * hz)] = 0.0
    assert 10 * np.log10(power.max() / fundamental) < -80


def test_harmonics_are_those_of_both_shapes():
    hz, amplitude = 1000.0, 10 ** (-20 / 20)
    sound = sine(hz, 1.0, -20)
    odd = lines_db(heard(saturated(drive_db=6, even=0), sound)[RATE // 4 :, 0], hz, RATE)
    even = lines_db(heard(saturated(drive_db=6, even=1), sound)[RATE // 4 :, 0], hz, RATE)
    turns = 2 * np.pi * np.arange(4096) / 4096
    drive = 10 ** (6 / 20)
    driven = drive * amplitude * np.sin(turns)
    for shape, found, counted in (
        (driven / np.sqrt(1 + driven**2) / drive, odd, (1, 3, 5)),
        (amplitude * np.sin(turns) + 0.5 * np.sqrt(1 + driven**2) / drive, even, (1, 2, 4)),
    ):
        wanted = 20 * np.log10(2 * np.abs(np.fft.rfft(shape)) / 4096 + 1e-12)
        for n in counted:
            assert found[n - 1] == pytest.approx(wanted[n], abs=0.1), n
    assert odd[1] < -120 and even[2] < -120


def test_without_mix_it_is_a_null_and_quiet_sound_is_left_alone():
    sound = noise(0.5, 0.3)
    assert np.array_equal(heard(saturated(mix=0.0), sound), sound)
    quiet = sine(220, 1.0, -80)
    away = heard(saturated(drive_db=6, even=0), quiet) - quiet
    assert 20 * np.log10(np.abs(away).max() / np.abs(quiet).max()) < -80


def test_of_the_lows_alone_the_highs_get_no_harmonics():
    sound = sine(3000, 1.0, -6)
    away = heard(saturated(acts_on="lows", below_hz=150, drive_db=24), sound) - sound
    assert 20 * np.log10(np.abs(away[RATE // 2 :]).max()) < -90
    low = sine(50, 1.0, -6)
    rows = lines_db(
        heard(saturated(acts_on="lows", below_hz=150, drive_db=12, even=0), low)[RATE // 2 :, 0],
        50,
        RATE,
    )
    assert rows[2] - rows[0] > -25


def test_what_is_even_leaves_no_offset():
    out = heard(saturated(drive_db=24, even=1.0), sine(100, 2.0, -3))
    assert abs(float(out[RATE:].mean())) < 1e-3


@pytest.mark.parametrize("drive_db", [6, 15, 24])
@pytest.mark.parametrize("acts_on", ["whole", "lows"])
def test_the_same_loudness_is_that_of_the_recording(drive_db, acts_on):
    sound = (sine(65, 3.0, -10) + 0.3 * noise(3.0, 0.1, 1)).astype("f4")
    sound[: RATE // 2] *= 0.05
    tone = tone_of([sound], RATE)
    first = round(tone.loudest_s * RATE)
    of_it = Excerpt(f"bass {drive_db}", lambda: sound[first : first + 2 * RATE, 0])
    tone = type(tone)(tone.left, tone.right, tone.common, tone.loudest_s, of_it)
    move = saturated(drive_db=drive_db, acts_on=acts_on, level_match=True)
    weighed = [
        float((sosfilt(k_weighting(RATE), one[RATE:, 0]) ** 2).mean())
        for one in (sound, heard(move, sound, tone=tone))
    ]
    assert 10 * np.log10(weighed[1] / weighed[0]) == pytest.approx(0.0, abs=0.2)


def test_small_speakers_are_a_high_pass_at_150_hz():
    """997 Hz at 0 dBFS in one channel is -3.01 LUFS (BS.1770-5); the cut is Butterworth's."""
    assert small_speakers_lufs(sine(997, 5.0, 0), RATE) == pytest.approx(-3.01, abs=0.05)
    low = [small_speakers_lufs(sine(hz, 5.0, 0), RATE) for hz in (75, 150, 300)]
    plain = [loudness_lufs(sine(hz, 5.0, 0), RATE) for hz in (75, 150, 300)]
    fallen = [a - b for a, b in zip(low, plain, strict=True)]
    wanted = [-10 * np.log10(1 + (150 / hz) ** 8) for hz in (75, 150, 300)]
    assert fallen == pytest.approx(wanted, abs=0.1)
    bass = sine(55, 3.0, -10)
    lifted = heard(saturated(acts_on="lows", drive_db=18), bass)
    assert small_speakers_lufs(lifted, RATE) > small_speakers_lufs(bass, RATE) + 10
