"""The hidden share, as far as the simple model promises."""

from __future__ import annotations

import numpy as np
import pytest
from conftest import RATE
from scipy.signal import butter, sosfilt

from pondel.core.hearing.excitation import CENTRES_HZ, cam_of, erb_hz, excite, hz_of
from pondel.core.hearing.hidden import hidden, near_hits, partial_loudness, worst_zone
from pondel.core.hearing.table import hidden_table


def band(low: float, high: float, level_db: float, seed: int) -> np.ndarray:
    """Noise between two frequencies at an RMS level, four seconds."""
    noise = np.random.default_rng(seed).standard_normal(RATE * 4)
    noise = sosfilt(butter(8, [low, high], "bandpass", fs=RATE, output="sos"), noise)
    return (noise / noise.std() * 10 ** (level_db / 20)).astype(np.float32)[:, None]


def share(part: np.ndarray, masker: np.ndarray) -> float:
    return hidden(excite([part], RATE), excite([masker], RATE)).share


def test_the_cam_scale_is_that_of_glasberg_and_moore_1990():
    assert erb_hz(1000) == pytest.approx(132.6, abs=0.2)
    assert cam_of(1000) == pytest.approx(15.6, abs=0.1)
    assert hz_of(cam_of(440.0)) == pytest.approx(440.0)


def test_silence_hides_nothing_and_the_same_part_20_db_louder_nearly_all():
    part = band(100, 1000, -30, 1)
    assert share(part, np.zeros_like(part)) < 0.005
    assert share(part, part * 10) > 0.8


@pytest.mark.parametrize(
    ("level", "least", "most"), [(-20, 0.05, 0.15), (-10, 0.2, 0.35), (0, 0.65, 0.8), (10, 0.95, 1.0)]
)
def test_two_equal_noise_bands(level, least, most):
    assert least <= share(band(100, 1000, -30, 1), band(100, 1000, -30 + level, 2)) <= most


def test_raising_the_masker_never_lowers_the_share():
    part, masker = band(200, 2000, -30, 1), band(100, 1000, -30, 2)
    shares = [share(part, masker * 10 ** (gain / 20)) for gain in range(-30, 31, 6)]
    assert (np.diff(shares) >= 0).all()


def test_parts_octaves_apart_hide_little():
    assert share(band(2000, 4000, -30, 1), band(100, 200, -30, 2)) < 0.1


def test_the_worst_zone_lies_where_both_are():
    found = hidden(excite([band(100, 4000, -30, 1)], RATE), excite([band(400, 800, -25, 2)], RATE))
    zone = worst_zone(found)
    assert zone is not None
    assert 300 < zone.low_hz < 500 and 700 < zone.high_hz < 1000
    assert "Hz to" in zone.words()


def test_a_part_below_the_masked_threshold_is_as_loud_as_one_at_threshold_in_quiet():
    power = np.full((1, CENTRES_HZ.size), 1e6)
    loud = partial_loudness(power, 1e3).sum()
    assert 0 < partial_loudness(power, 1e7).sum() < 0.05 * loud


def test_frames_near_hits():
    at = near_hits(np.array([0.5]), 100)
    assert at[25:35].all() and at.sum() == 10


def test_the_table_gives_shares_to_hiders_and_does_not_depend_on_the_order():
    parts = {
        "a": excite([band(100, 1000, -30, 1)], RATE),
        "b": excite([band(100, 1000, -30, 2)], RATE),
        "c": excite([band(4000, 8000, -30, 3)], RATE),
    }
    whole, pairs = hidden_table(parts, {})
    assert pairs[0].hidden in "ab" and pairs[0].by in "ab"
    by_b = next(p for p in pairs if (p.hidden, p.by) == ("a", "b"))
    assert by_b.share == pytest.approx(whole["a"].hidden_share, abs=0.02)
    turned, again = hidden_table(dict(reversed(parts.items())), {})
    assert turned["a"].hidden_share == pytest.approx(whole["a"].hidden_share, abs=1e-4)
    assert {(p.hidden, p.by) for p in again} == {(p.hidden, p.by) for p in pairs}
