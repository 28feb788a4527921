"""The auditory model against what is known of hearing: standards, and tables of the literature."""

from __future__ import annotations

import iso226
import numpy as np
import pytest
from hearing_tools import FULL_SCALE_DB_SPL, band, loudness, share, steady_excitation, tone
from scipy.optimize import brentq

from pondel.core.dsp.scale import cam_of, erb_hz, hz_of
from pondel.core.hearing.ear import CONSTANTS, constants, quiet_excitation_db
from pondel.core.hearing.loudness import _TABLE, partial_loudness, total_sone
from pondel.core.hearing.scale import PLACES_HZ

# Hawkins and Stevens, JASA 22, 1950, figure 6; Moore, An introduction to the psychology of
# hearing (2012), chapter 3: dB of a tone above the noise's level per Hz.
CRITICAL_RATIOS_DB = {250: 16.5, 500: 17.0, 1000: 18.0, 2000: 20.0, 4000: 23.0}


def test_the_cam_scale_is_that_of_glasberg_and_moore_1990():
    assert erb_hz(1000) == pytest.approx(132.6, abs=0.2)
    assert cam_of(1000) == pytest.approx(15.6, abs=0.1)
    assert hz_of(cam_of(440.0)) == pytest.approx(440.0)


def test_1_khz_at_40_db_is_one_sone():
    assert loudness(tone(1000, 40)) == pytest.approx(1.0, rel=0.05)


@pytest.mark.parametrize("level", range(40, 90, 10))
def test_loudness_about_doubles_with_ten_decibels(level):
    assert 1.8 <= loudness(tone(1000, level + 10)) / loudness(tone(1000, level)) <= 2.2


@pytest.mark.parametrize(("phon", "within_db"), [(40, 2.0), (60, 2.0), (20, 5.0), (80, 5.0)])
def test_equal_loudness_contours_of_iso_226(phon, within_db):
    wanted = loudness(tone(1000, phon))
    for hz in (hz for hz in iso226.TABLE if 63 <= hz <= 8000):
        expected = iso226.level_db_spl(hz, phon)
        found = brentq(lambda level, hz=hz: loudness(tone(hz, level)) - wanted, -5, 110, xtol=0.05)
        assert found == pytest.approx(expected, abs=within_db), f"{hz} Hz"


def test_the_offset_follows_from_equal_loudness_at_threshold():
    # ANSI S3.4-2007 gives A = 8.86 at a gain of -25 dB and 4.72 at 0 dB.
    hz = np.array([np.interp(-28.63, -quiet_excitation_db([50, 63])[::1], [50, 63]), 1000.0])
    found = constants(hz)
    assert found.offset[-1] == pytest.approx(4.72, abs=0.01)
    assert 10 * np.log10(found.gain[0]) == pytest.approx(-24.55, abs=0.7)
    assert found.offset[0] == pytest.approx(8.86, abs=0.25)


@pytest.mark.parametrize("hz", CRITICAL_RATIOS_DB)
def test_a_tone_in_noise_is_heard_at_the_critical_ratio(hz):
    """Threshold: where the tone is as loud as a tone at the threshold in quiet."""
    per_hz_db = 40.0
    white = np.random.default_rng(3).standard_normal((48000 * 4, 1))
    white *= 10 ** ((per_hz_db + 10 * np.log10(24000) - FULL_SCALE_DB_SPL) / 20)
    noise = steady_excitation(white.astype(np.float32))
    at = int(np.argmin(np.abs(PLACES_HZ - hz)))
    quiet_db = float(quiet_excitation_db(hz))
    quiet_tone = steady_excitation(tone(hz, 40))
    quiet_tone *= 10 ** (quiet_db / 10) / quiet_tone[0, at]
    barely = float(total_sone(partial_loudness(quiet_tone))[0])

    def louder(level: float) -> float:
        found = partial_loudness(steady_excitation(tone(hz, level)), noise)
        return float(np.log(total_sone(found)[0] / barely))

    ratio = brentq(louder, per_hz_db, per_hz_db + 45, xtol=0.1) - per_hz_db
    assert ratio == pytest.approx(CRITICAL_RATIOS_DB[hz], abs=3.0)


def test_masking_spreads_upward_far_more_than_downward():
    signal = steady_excitation(tone(1000, 40))
    alone = partial_loudness(signal).sum()
    lost = {}
    for hz in (500, 2000):
        left = np.minimum(
            partial_loudness(signal, steady_excitation(tone(hz, 80))), partial_loudness(signal)
        )
        lost[hz] = 1 - left.sum() / alone
    assert lost[500] > 0.8 and lost[2000] < 0.1


def test_a_part_against_silence_is_not_hidden():
    part = band(100, 1000, -30, 1)
    assert share(part, np.zeros_like(part)) < 0.005


def test_a_part_against_itself_20_db_louder_is_hidden():
    part = band(100, 1000, -30, 1)
    assert share(part, part * 10) > 0.8


@pytest.mark.parametrize(("low", "high"), [(100, 1000), (60, 400), (2000, 4000)])
@pytest.mark.parametrize("masker_db", [-40, -30])
def test_a_trim_of_both_hardly_changes_the_share(low, high, masker_db):
    shares = [
        share(band(low, high, -30 + trim, 1), band(low, high, masker_db + trim, 2))
        for trim in (-12, 0, 12)
    ]
    assert abs(shares[0] - shares[1]) < 0.06 and abs(shares[2] - shares[1]) < 0.06


@pytest.mark.parametrize(
    ("masker_db", "least", "most"),
    [(-20, 0.05, 0.15), (-10, 0.2, 0.35), (0, 0.65, 0.8), (10, 0.95, 1.0)],
)
def test_two_equal_noise_bands(masker_db, least, most):
    assert least <= share(band(100, 1000, -30, 1), band(100, 1000, -30 + masker_db, 2)) <= most


def test_three_parts_two_octaves_apart_hide_little_of_each_other():
    parts = [band(100, 200, -30, 1), band(800, 1600, -30, 2), band(6400, 12800, -30, 3)]
    for n, part in enumerate(parts):
        assert share(part, *(p for k, p in enumerate(parts) if k != n)) < 0.2


@pytest.mark.parametrize(("low", "high"), [(60, 120), (250, 500), (1000, 2000)])
def test_three_parts_in_one_octave_hide_most_of_each_other(low, high):
    parts = [band(low, high, -30, seed) for seed in (1, 2, 3)]
    for n, part in enumerate(parts):
        assert share(part, *(p for k, p in enumerate(parts) if k != n)) > 0.6


def test_the_model_s_constants_are_the_same_before_and_after_it_is_used():
    """They were once overwritten by their own powers at the first use, and again by a second thread."""
    partial_loudness(steady_excitation(tone(1000, 40)))
    known = CONSTANTS.quiet, CONSTANTS.gain, CONSTANTS.exponent, CONSTANTS.offset, CONSTANTS.detection
    assert np.array_equal(_TABLE, np.stack(known).astype(np.float32))


def test_the_scale_is_set_by_one_sone():
    """1 kHz at 40 dB SPL in a free field, both ears: the definition, to which the scale is set."""
    assert loudness(tone(1000, 40)) == pytest.approx(1.0, rel=0.01)
