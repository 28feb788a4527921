"""What meters show, against closed forms."""

from __future__ import annotations

import numpy as np
import pytest
from conftest import RATE

from pondel.core.dsp.fold import MONITOR_FOLDS, monitored
from pondel.core.measures.metering import lead_frames, metered


def sound(left, right, seconds: float = 2.0) -> np.ndarray:
    t = np.arange(round(seconds * RATE)) / RATE
    return np.stack([left(t), right(t)], axis=1).astype("f4")


def tone(level_db: float, hz: float = 997.0, turned: float = 0.0):
    return lambda t: 10 ** (level_db / 20) * np.sin(2 * np.pi * hz * t + turned)


def test_a_sine_reads_as_the_standard_says():
    """BS.1770-5: 997 Hz at 0 dBFS in one channel reads -3.01 LUFS; -23 dBFS in both reads -23."""
    found = metered(sound(tone(-23), tone(-23)), RATE)
    assert found.peak_dbfs.size == 16
    assert found.momentary_lufs == pytest.approx(-23.0, abs=0.1)
    assert found.peak_dbfs == pytest.approx(-23.0, abs=0.01)
    one_sided = metered(sound(tone(0), lambda t: 0 * t), RATE)
    assert one_sided.momentary_lufs == pytest.approx(-3.01, abs=0.1)
    assert np.isnan(one_sided.correlation).all() and one_sided.lowest_correlation is None


@pytest.mark.parametrize(
    ("turned", "expected"), [(0, 1), (np.pi / 3, 0.5), (np.pi / 2, 0), (np.pi, -1)]
)
def test_correlation_is_the_cosine_of_the_angle_between_the_channels(turned, expected):
    found = metered(sound(tone(-10), tone(-16, turned=turned)), RATE)
    assert found.correlation == pytest.approx(expected, abs=0.01)
    assert found.lowest_correlation == pytest.approx(expected, abs=0.01)


def test_readings_begin_after_the_lead_and_hold_the_highest_peak():
    loud = sound(tone(-20), tone(-20))
    loud[lead_frames(RATE) + RATE // 2] = 1.2
    found = metered(loud, RATE)
    assert found.highest_peak_dbfs == pytest.approx(20 * np.log10(1.2), abs=0.01)
    assert np.argmax(found.peak_dbfs) == 5


def test_folds_give_each_speaker_what_they_say():
    both = np.array([[0.5, -0.25], [1.0, 0.5]], "f4")
    left, right = both[:, 0], both[:, 1]
    middle, side = (left + right) / 2, (left - right) / 2
    expected = {
        "stereo": (left, right),
        "mono": (middle, middle),
        "sides": (side, side),
        "left": (left, left),
        "right": (right, right),
        "swapped": (right, left),
    }
    assert set(expected) == set(MONITOR_FOLDS)
    for name, speakers in expected.items():
        assert np.allclose(monitored(both, name), np.stack(speakers, axis=1))
