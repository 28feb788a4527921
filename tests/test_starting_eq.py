"""Starting EQ: modest, placed by the part's own sound, and never taking its fundamentals."""

from __future__ import annotations

import numpy as np
import pytest
from conftest import session_of
from hypothesis import given, settings
from hypothesis import strategies as st

from pondel.core.advice.starting_eq import HABITS, starting_eq
from pondel.core.document import ROLES
from pondel.core.dsp.tone import TONE_HZ
from pondel.core.errors import BadDocument
from pondel.core.measures.home import home_of
from pondel.core.moves.eq import EqBand, response_db
from pondel.core.operations import parse_operation
from pondel.core.operations.base import NothingKnown


def sounding(fundamental_hz: float, fall_db_oct: float = -6.0) -> np.ndarray:
    """The spectrum of something that begins at a frequency and falls above it."""
    octaves = np.log2(TONE_HZ / fundamental_hz)
    return np.where(octaves < 0, 48 * octaves, fall_db_oct * octaves) - 20.0


def begun(role: str, spectrum, pitch_hz=None):
    part = session_of({"id": "one", "role": role}).part("one")
    return starting_eq(part, home_of(spectrum), spectrum, pitch_hz)


@settings(max_examples=150, deadline=None)
@given(st.sampled_from(ROLES), st.floats(28, 900), st.floats(-18, -1), st.booleans())
def test_no_cut_takes_a_parts_own_fundamentals_and_every_band_is_modest(role, hz, fall, is_pitched):
    spectrum = sounding(hz, fall)
    bands, why = begun(role, spectrum, hz if is_pitched else None)
    assert len(why) == len(bands) <= 4 and all(line.endswith(".") for line in why)
    lowest = min(home_of(spectrum).low_hz, hz) if is_pitched else home_of(spectrum).low_hz
    cuts = [EqBand(**band) for band in bands if band.get("shape") == "low cut"]
    at = np.array([lowest, 2 * lowest])
    assert response_db(cuts, at, 48000).min() > -0.6
    assert all(abs(band.get("gain_db", 0.0)) <= 3.0 for band in bands)


def test_a_bass_keeps_its_fundamental_and_is_told_by_small_speakers():
    bands, why = begun("bass", sounding(41.0), 41.2)
    cut, mud, harmonics = bands
    lowest = min(41.2, home_of(sounding(41.0)).low_hz)
    assert cut["shape"] == "low cut" and cut["hz"] == pytest.approx(0.6 * lowest, abs=0.1)
    assert 180 <= mud["hz"] <= 380 and mud["gain_db"] < 0
    assert 600 <= harmonics["hz"] <= 1400 and harmonics["gain_db"] > 0
    assert "small speakers" in why[2] and f"{lowest:.0f} Hz" in why[0]


def test_a_band_lies_where_the_part_is_strongest_in_its_range():
    spectrum = sounding(60.0, -9.0)
    spectrum[int(np.argmin(np.abs(TONE_HZ - 3100)))] += 30
    spectrum[int(np.argmin(np.abs(TONE_HZ - 290)))] += 9
    bands, _ = begun("kick", spectrum, 55.0)
    assert [band["hz"] for band in bands[1:]] == pytest.approx([55, 290, 3100], rel=0.03)
    assert [band["gain_db"] for band in bands[1:]] == [1.5, -3.0, 2.0]


def test_where_there_is_nothing_nothing_is_raised():
    spectrum = np.where(TONE_HZ > 1500, -200.0, sounding(60.0))
    bands, _ = begun("kick", spectrum)
    assert all(band["hz"] < 1500 for band in bands)


def test_every_role_with_habits_is_a_role():
    assert set(HABITS) <= set(ROLES)


class Known(NothingKnown):
    def home(self, part):
        return home_of(sounding(70.0)) if part.file else None

    def spectrum_db(self, document, part, start_s, end_s):
        return sounding(70.0)

    def pitch_hz(self, part):
        return 70.0


def test_it_is_laid_with_its_reasons_and_refused_where_there_is_no_sound():
    song = session_of({"id": "tuba", "role": "bass"}, {"id": "hall", "file": None, "source": "sends"})
    done = parse_operation({"op": "starting eq", "part": "tuba"}).apply(song, Known())
    (move,) = done.document.part("tuba").moves
    assert len(move.bands) == 3 and move.why == done.said and "Tuba begins at" in done.said[0]
    with pytest.raises(BadDocument, match="no sound of its own"):
        parse_operation({"op": "starting eq", "part": "hall"}).apply(song, Known())
