"""Sub and noise layers: no click, as loud as the key asks for, the same from anywhere in the song."""

from __future__ import annotations

import numpy as np
import pytest
from conftest import RATE, hits, session_of, sine
from hypothesis import given, settings
from hypothesis import strategies as st
from moves_tools import at_work, noise, rms_db

from pondel.core.advice.tuning import tunings
from pondel.core.audio.media import ArrayMedia
from pondel.core.dsp.tone import tone_of
from pondel.core.engine import render
from pondel.core.moves.base import Place
from pondel.core.moves.describe import Key
from pondel.core.moves.noise_layer import NoiseLayer, colouring, white
from pondel.core.moves.registry import kind_of
from pondel.core.moves.sub_layer import SubLayer
from pondel.core.notes import in_octave_from, note_hz, note_name
from pondel.core.operations import AddMove, SetSession
from pondel.core.operations.base import NothingKnown
from pondel.core.units import parse

STRUCK_S = (0.2, 0.9, 1.6)


def sub(**more) -> SubLayer:
    return SubLayer(id="m", kind="sub layer", **more)


def layer_of(move, key, hits_s=STRUCK_S, tone=None) -> np.ndarray:
    """What a layer adds to silence, its latency made up for, float64 (frames,)."""
    processor = at_work(move, RATE, 1, hits_s=hits_s)
    if tone is not None:
        processor.start_at(Place(hits_s=np.array(hits_s), tone=lambda: tone))
    padded = np.concatenate([key, np.zeros((processor.latency, 1), "f4")])
    silence = np.zeros((len(padded), 1), "f4")
    return processor.process(silence, padded)[processor.latency :, 0].astype(np.float64)


def struck(levels_db, at_s=STRUCK_S, seconds: float = 2.2) -> np.ndarray:
    """Short thumps of given peak levels."""
    out = np.zeros((round(seconds * RATE), 1), "f4")
    thump = np.exp(-np.arange(4800) / 900) * np.cos(2 * np.pi * 200 * np.arange(4800) / RATE)
    for at, db in zip(at_s, levels_db, strict=True):
        out[round(at * RATE) :][:4800, 0] = 10 ** (db / 20) * thump
    return out


@pytest.mark.parametrize("opened_by", ["hits", "gate"])
@pytest.mark.parametrize("attack_ms", [8, 30])
@pytest.mark.parametrize("hz", [31.0, 55.0])
def test_no_edge_clicks(opened_by, attack_ms, hz):
    """Above 1 kHz an edge has 60 dB less than the sine."""
    move = sub(
        hz=hz, opened_by=opened_by, attack_ms=attack_ms, release_ms=8, length_ms=120, level_db=-6
    )
    added = layer_of(move, struck([-6, -6, -6]))
    spectrum = np.abs(np.fft.rfft(added))
    at = np.fft.rfftfreq(added.size, 1 / RATE)
    high = np.fft.irfft(np.where(at > 1000, np.fft.rfft(added), 0), added.size)
    assert spectrum.max() > 100
    assert 20 * np.log10(np.abs(high).max() / np.abs(added).max()) < -60


def test_two_hits_close_together_do_not_click():
    move = sub(hz=50, attack_ms=12, length_ms=300, release_ms=60, level_db=-6)
    added = layer_of(move, struck([-6, -20], (0.2, 0.26)), (0.2, 0.26))
    high = np.fft.rfft(added)
    high[np.fft.rfftfreq(added.size, 1 / RATE) < 1000] = 0
    assert 20 * np.log10(np.abs(np.fft.irfft(high, added.size)).max() / np.abs(added).max()) < -60


@pytest.mark.parametrize(("follow", "wanted"), [(0.0, 0.0), (0.5, -6.0), (1.0, -12.0), (2.0, -24.0)])
@pytest.mark.parametrize("opened_by", ["hits", "gate"])
def test_a_ghost_note_opens_it_less(follow, wanted, opened_by):
    move = sub(
        hz=60, follow=follow, full_at_db=-10, length_ms=250, opened_by=opened_by, threshold_db=-40
    )
    added = layer_of(move, struck([-10, -22, -4]))
    tops = [
        np.abs(added[round((at + 0.08) * RATE) : round((at + 0.13) * RATE)]).max() for at in STRUCK_S
    ]
    ghost, loud = (20 * np.log10(one / tops[0]) for one in tops[1:])
    assert ghost == pytest.approx(wanted, abs=0.3) and loud == pytest.approx(0.0, abs=0.2)


def test_the_sine_is_in_tune_as_loud_as_it_says_and_begins_with_the_hit():
    move = sub(hz=55, level_db=-12, length_ms=600, release_ms=50, follow=0)
    added = layer_of(move, struck([-6, -6, -6]))
    middle = added[round(0.3 * RATE) : round(0.7 * RATE)]
    t = np.arange(middle.size) / RATE
    fitted = np.stack([np.sin(2 * np.pi * 55 * t), np.cos(2 * np.pi * 55 * t)], axis=1)
    amounts, left, *_ = np.linalg.lstsq(fitted, middle, rcond=None)
    assert 20 * np.log10(np.hypot(*amounts)) == pytest.approx(-12, abs=0.01)
    assert float(left[0]) / float((middle**2).sum()) < 1e-8
    assert not added[: round(0.2 * RATE)].any()
    # It crosses zero where it is struck: a whole period later it does so again.
    period = round(0.2 * RATE) + np.arange(3, 20) * RATE / 55
    assert np.abs(np.interp(period, np.arange(added.size), added)).max() < 1e-3


def test_a_silent_key_opens_nothing():
    assert not layer_of(sub(follow=0), np.zeros((RATE, 1), "f4"), (0.2, 0.6)).any()


@settings(max_examples=25, deadline=None)
@given(st.integers(0, 2**40), st.integers(1, 4000))
def test_noise_is_a_function_of_the_frame(first, frames):
    assert np.array_equal(white(first, frames, 0)[1:], white(first + 1, frames - 1, 0))


def test_noise_is_white_even_and_of_power_one():
    sound = white(10**9, 1 << 17, 0)
    assert np.mean(sound**2) == pytest.approx(1.0, abs=0.01) and abs(sound.mean()) < 0.01
    power = np.abs(np.fft.rfft(sound)) ** 2 / sound.size
    bands = [float(part.mean()) for part in np.array_split(power[1:], 16)]
    assert bands == pytest.approx([1.0] * 16, abs=0.08)
    assert abs(np.corrcoef(sound, white(10**9, 1 << 17, 1))[0, 1]) < 0.01


@pytest.mark.parametrize("start_s", [1.234, 2.0, 3.71])
@pytest.mark.parametrize("opened_by", ["hits", "gate"])
def test_any_region_of_noise_is_the_slice(start_s, opened_by):
    move = {"id": "m", "kind": "noise layer", "opened_by": opened_by, "wide": True, "colour": "part"}
    session = session_of({"id": "drum", "moves": [move]})
    media = ArrayMedia({"drum": np.repeat(hits(5), 2, axis=1)}, {"drum": list(np.arange(0.1, 5, 0.5))})
    whole = render.region(session, media, ("drum", "before fader"), 0, 5 * RATE)
    start = round(start_s * RATE)
    part = render.region(session, media, ("drum", "before fader"), start, RATE)
    assert np.abs(part - whole[start : start + RATE]).max() < 1e-6
    assert np.abs(whole[:, 0] - whole[:, 1]).max() > 0.01


@pytest.mark.parametrize("tilt", [-6.0, -3.0, 0.0])
def test_the_tilt_is_what_it_says_between_the_cuts(tilt):
    move = NoiseLayer(id="m", kind="noise layer", tilt_db_oct=tilt, low_cut_hz=200, high_cut_hz=16000)
    taps = colouring(move, RATE, tone_of([noise(1.0)], RATE))
    gain = lambda hz: abs(np.sum(taps * np.exp(-2j * np.pi * hz / RATE * np.arange(taps.size))))  # noqa: E731
    assert 20 * np.log10(gain(4000) / gain(1000)) == pytest.approx(2 * tilt, abs=0.3)
    # An octave under the cut the tilt ends: what is left there is Butterworth's.
    below = -10 * np.log10((1 + (200 / 50) ** 4) / (1 + (200 / 100) ** 4))
    assert 20 * np.log10(gain(50) / gain(100)) == pytest.approx(below, abs=1.0)
    assert float(np.sum(taps**2)) == pytest.approx(1.0)


def test_noise_takes_the_colour_of_the_part():
    part = sine(3000, 2.0, -6) + 0.03 * noise(2.0, 0.1, 1)
    move = NoiseLayer(
        id="m", kind="noise layer", colour="part", low_cut_hz=100, high_cut_hz=20000, length_ms=1500
    )
    added = layer_of(move, struck([-6, -6, -6]), tone=tone_of([part.astype("f4")], RATE))
    power = np.abs(np.fft.rfft(added)) ** 2
    at = np.fft.rfftfreq(added.size, 1 / RATE)
    near = power[np.abs(at - 3000) < 200].sum()
    assert near / power.sum() > 0.9


def test_its_level_is_that_of_the_noise():
    move = NoiseLayer(id="m", kind="noise layer", level_db=-20, length_ms=1500, follow=0)
    added = layer_of(move, struck([-6, -6, -6]))
    assert rms_db(added[round(0.3 * RATE) : round(0.85 * RATE)]) == pytest.approx(-20, abs=0.5)


def test_notes_are_typed_and_told():
    assert parse("A1", "Hz") == 55.0 and parse("a4", "Hz") == 440.0
    assert note_hz("C4") == pytest.approx(261.6256, abs=1e-4)
    assert note_hz("F#1") == pytest.approx(46.2493, abs=1e-4) == note_hz("Gb1")
    assert note_hz("H1") is None and note_hz("1k") is None
    assert note_name(note_hz("B♭0 +12 ct")) == "B♭0 +12 ct"
    assert in_octave_from("A", 40) == pytest.approx(55) and in_octave_from("E", 40) == pytest.approx(
        41.2034, abs=1e-3
    )


class Sounding(NothingKnown):
    def pitch_hz(self, part):
        return {"drum": 51.9, "snare": 190.0}.get(part.id)


def test_a_sub_layer_begins_at_the_parts_own_pitch_and_is_offered_others():
    song = session_of({"id": "drum"}, {"id": "snare"}, {"id": "tuba"}, key_note="A")
    done = AddMove(part="drum", kind="sub layer").apply(song, Sounding())
    move = done.document.part("drum").moves[0]
    assert move.hz == 51.9 and move.why == ["A♭1, 52 Hz: Drum."]
    keyed = move.model_copy(update={"key": Key(source="snare")})
    offered = tunings(song, song.part("drum"), kind_of("sub layer"), keyed, Sounding().pitch_hz)
    assert [(one.title, one.hz) for one in offered] == [
        ("Drum", 51.9),
        ("Snare", 190.0),
        ("the song's key", 55.0),
    ]
    untuned = AddMove(part="tuba", kind="sub layer").apply(song, Sounding()).document
    assert untuned.part("tuba").moves[0].hz == 55.0
    given_one = AddMove(part="drum", kind="sub layer", values={"hz": 44}).apply(song, Sounding())
    assert given_one.document.part("drum").moves[0].hz == 44
    assert SetSession(field="key_note", value="").apply(song).document.key_note is None
