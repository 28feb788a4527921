"""Snap and ring against what they promise: any level alike, a steady tone untouched, no click."""

from __future__ import annotations

import numpy as np
import pytest
from conftest import RATE, sine
from moves_tools import run

from pondel.core.moves.registry import kind_of
from pondel.core.moves.snap_and_ring import SnapAndRing


def shaped(**more) -> SnapAndRing:
    return SnapAndRing(id="m", kind="snap and ring", **more)


def struck(hz: float = 180.0, seconds: float = 2.0, fall_s: float = 0.12) -> np.ndarray:
    """A tone struck every half second that falls by e in `fall_s`."""
    t = np.arange(round(seconds * RATE)) / RATE
    since = t % 0.5
    return (0.5 * np.sin(2 * np.pi * hz * since) * np.exp(-since / fall_s)).astype("f4")[:, None]


def gains_db(move, sound) -> np.ndarray:
    """The furthest gain of all bands."""
    found: dict = {}
    run(move, sound, trace=lambda values, band=None: found.setdefault(band, []).append(-values))
    return np.concatenate(found[None])


@pytest.mark.parametrize("bands", [1, 2, 3])
def test_a_part_that_is_20_db_quieter_is_shaped_alike(bands):
    more = {"second_snap_db": 5, "second_ring_db": -4, "third_snap_db": -3, "third_ring_db": 2}
    move = shaped(bands=bands, snap_db=8, ring_db=-9, **more)
    sound = struck()
    # The first millisecond comes out of digital silence, where only the louder one is yet to be told.
    away = (gains_db(move, sound) - gains_db(move, sound * np.float32(0.1)))[RATE // 1000 :]
    assert np.abs(away).max() < 0.1


@pytest.mark.parametrize("hz", [30, 97, 1000, 5003])
def test_a_steady_tone_is_untouched(hz):
    sound = sine(hz, 3.0, -14)
    out = run(shaped(snap_db=12, ring_db=12), sound)
    late = slice(2 * RATE, None)
    change_db = 20 * np.log10(np.sqrt((out[late] ** 2).mean() / (sound[late] ** 2).mean()))
    assert (
        abs(change_db) < 0.05
        and np.abs(gains_db(shaped(snap_db=12, ring_db=12), sound)[late]).max() < 0.05
    )


def test_a_snap_is_as_much_louder_as_was_asked_and_soon_over():
    gain = gains_db(shaped(snap_db=9, snap_ms=20), struck())
    after = gain[RATE // 2 :][: RATE // 2]
    assert after[round(0.004 * RATE) : round(0.008 * RATE)].max() == pytest.approx(9.0, abs=0.3)
    assert np.abs(after[round(0.2 * RATE) :]).max() < 0.1


def test_a_ring_steps_back_and_the_snap_stays():
    gain = gains_db(shaped(ring_db=-10, ring_ms=400), struck(fall_s=0.08))
    hit = gain[RATE // 2 :][: RATE // 2]
    assert hit[round(0.3 * RATE) :].min() == pytest.approx(-10.0, abs=0.3)
    assert np.abs(hit[round(0.01 * RATE) : round(0.03 * RATE)]).max() < 1.0


def test_its_gain_moves_without_a_click():
    """Nothing jumps: the gain takes 0.7 ms for 63 % of its way."""
    gain = gains_db(shaped(snap_db=18, ring_db=-18), struck())
    assert np.abs(np.diff(gain)).max() < 36.0 / (0.0007 * RATE) * 1.01


def test_bands_at_rest_add_up_to_an_all_pass():
    pulse = np.zeros((1 << 15, 1), "f4")
    pulse[0] = 1.0
    out = run(shaped(bands=3), pulse)
    magnitude_db = 20 * np.log10(np.abs(np.fft.rfft(out[:, 0].astype(float))))
    assert np.abs(magnitude_db[10:-10]).max() < 0.01


def test_it_listens_to_a_key_where_it_has_one():
    pad, key = sine(300, 2.0, -20), struck()
    out = run(shaped(snap_db=12), pad, key)
    level = np.abs(out[:, 0]).reshape(-1, 480).max(axis=1)
    assert level[51] > 2.5 * level[90]


def test_each_band_is_drawn_by_its_own_gain():
    """Snap up below, down above: the picture at a moment is what both gains make of the bands."""
    move = shaped(bands=2, snap_db=9, second_snap_db=-9, crossover_hz=500)
    found: dict = {}
    run(move, struck(), trace=lambda values, band=None: found.setdefault(band, []).append(values))
    at = RATE // 2 + round(0.004 * RATE)
    now_db = {f"/{band}": -np.concatenate(found[band])[at] for band in (0, 1)}
    assert now_db["/0"] > 5 and now_db["/1"] == pytest.approx(-now_db["/0"], abs=4)
    hz = np.array([60.0, 5000.0])
    picture = kind_of(move.kind).picture(move, hz, RATE)
    drawn_db = 20 * np.log10(np.abs(picture.gain(lambda band: now_db[band.trace], hz.size)))
    assert drawn_db == pytest.approx([now_db["/0"], now_db["/1"]], abs=0.1)
