"""Contrast EQ: the gain that was asked for, the same loudness, spectra that stay, bands near it."""

from __future__ import annotations

import numpy as np
import pytest
from conftest import RATE, session_of, sine
from doing import do
from moves_tools import noise, pulse_response_db, run
from scipy.signal import sosfilt

from pondel.core.audio.media import ArrayMedia
from pondel.core.dsp.tone import TONE_HZ
from pondel.core.dsp.weighting import k_weighting
from pondel.core.engine import render
from pondel.core.errors import BadDocument
from pondel.core.measures.spectrum import average_spectrum, axis_hz
from pondel.core.moves.contrast_eq import ContrastEq, asked_db
from pondel.core.moves.eq import Eq, output_gain_db, response_db
from pondel.core.operations import parse_operation
from pondel.core.operations.base import NothingKnown

FLAT = np.full(TONE_HZ.size, -40.0)


def hump(hz: float, db: float, octaves: float = 1.0) -> np.ndarray:
    return db * np.exp(-((np.log2(TONE_HZ / hz) / octaves) ** 2))


def contrast(own=FLAT, other=FLAT, **more) -> ContrastEq:
    spectra = {"own_db": np.round(own, 1).tolist(), "other_db": np.round(other, 1).tolist()}
    return ContrastEq(id="m", **{"against": "Drum", **spectra, **more})


def pink(seconds: float) -> np.ndarray:
    """Noise of as much power in every octave, float32 (frames, 2)."""
    bins = np.fft.rfft(noise(seconds, 1.0), axis=0)
    bins[1:] /= np.sqrt(np.arange(1, len(bins)))[:, None]
    sound = np.fft.irfft(bins, axis=0)
    return (0.1 * sound / sound.std()).astype("f4")


def test_the_axis_of_tones_is_that_of_spectra():
    assert pytest.approx(axis_hz()) == TONE_HZ


@pytest.mark.parametrize("smoothing", ["sixth", "third", "octave"])
@pytest.mark.parametrize("rate", [44100, 96000])
@pytest.mark.parametrize("hz", [63.0, 250.0, 9000.0])
def test_the_gain_is_the_one_that_was_asked_for(smoothing, rate, hz):
    move = contrast(FLAT + hump(hz, 12, 0.5), FLAT + hump(4 * hz, 6), amount=-0.7, smoothing=smoothing)
    move = move.model_copy(update={"low_hz": 30.0, "high_hz": 20_000.0, "most_db": 9.0})
    at, found = pulse_response_db(move, rate, frames=1 << 18)
    wanted = asked_db(move, rate)
    inside = (TONE_HZ > 25) & (TONE_HZ < 18_000)
    assert np.interp(TONE_HZ, at, found)[inside] == pytest.approx(wanted[inside], abs=0.5)
    assert np.abs(wanted).max() > 2


def test_apart_raises_what_is_its_own_and_together_what_is_the_others():
    own, other = FLAT + hump(200, 10), FLAT + hump(2000, 10)
    near = lambda hz: int(np.argmin(np.abs(TONE_HZ - hz)))  # noqa: E731
    apart = asked_db(contrast(own, other, amount=-0.4), RATE)
    together = asked_db(contrast(own, other, amount=0.4), RATE)
    assert apart[near(200)] > apart[near(2000)] + 5
    assert together[near(2000)] > together[near(200)] + 5
    capped = asked_db(contrast(own, other, amount=-1.0, most_db=3), RATE)
    assert capped.max() - capped.min() == pytest.approx(6.0, abs=0.1)
    outside = asked_db(contrast(own, other, low_hz=1000, high_hz=4000), RATE)
    assert np.ptp(outside[TONE_HZ < 700]) < 0.01 and np.ptp(outside[TONE_HZ > 5200]) < 0.01


def test_how_loud_a_part_is_as_a_whole_is_no_difference():
    assert np.abs(asked_db(contrast(FLAT, FLAT - 20), RATE)).max() < 1e-6


@pytest.mark.parametrize("amount", [-1.0, -0.4, 0.6])
def test_the_loudness_stays(amount):
    sound = pink(4.0) + 0.3 * np.repeat(sine(180, 4.0, -10), 2, axis=1)
    own = average_spectrum([sound], RATE)
    move = contrast(own, FLAT + hump(1500, 14), amount=amount, most_db=9)
    out = run(move, sound)
    late = slice(RATE, None)
    power = [float((sosfilt(k_weighting(RATE), one[late], axis=0) ** 2).mean()) for one in (sound, out)]
    assert 10 * np.log10(power[1] / power[0]) == pytest.approx(0.0, abs=0.15)


def test_from_the_first_moment_it_is_as_loud():
    """No level is felt for: a part that has only begun is treated as it is later."""
    sound = noise(2.0, 0.1)
    move = contrast(average_spectrum([sound], RATE), FLAT + hump(300, 10), amount=1.0)
    early, late = (run(move, sound)[at : at + 4800] for at in (2400, RATE))
    given = [sound[at : at + 4800] for at in (2400, RATE)]
    change = [20 * np.log10(a.std() / b.std()) for a, b in zip((early, late), given, strict=True)]
    assert change[0] == pytest.approx(change[1], abs=0.7)


def test_without_spectra_it_lets_all_pass():
    sound = noise(0.3, 0.3)
    assert np.array_equal(run(ContrastEq(id="m"), sound), sound)


@pytest.mark.parametrize("seed", range(4))
def test_a_few_bands_come_near_to_it(seed):
    random = np.random.default_rng(seed)
    humps = [hump(hz, random.uniform(-9, 9), 0.8) for hz in (90, 300, 1200, 5000)]
    other = FLAT + np.sum(humps, axis=0)
    move = contrast(FLAT, other, amount=0.5, smoothing="half")
    song = session_of({"id": "tuba", "moves": [move.model_dump()]})
    done = do(song, "act on move", part="tuba", move="m", action="fit", index=0)
    (eq,) = done.document.part("tuba").moves
    assert isinstance(eq, Eq) and eq.id == "m" and len(eq.bands) <= 8
    hz = TONE_HZ[(TONE_HZ > 40) & (TONE_HZ < 14_000)]
    wanted = np.interp(hz, TONE_HZ, asked_db(move, RATE))
    found = response_db(eq.bands, hz, RATE) + output_gain_db(eq, RATE)
    assert np.abs(found - wanted).max() < 0.8


class Sounding(NothingKnown):
    """Spectra as they are made up, and what parts are made of."""

    def __init__(self, **more):
        made_up = {"tuba": FLAT + hump(100, 12), "drum": FLAT + hump(60, 9), "mute": FLAT - 300}
        self.spectra = {**made_up, **more}

    def spectrum_db(self, document, part, start_s, end_s):
        return self.spectra[part.id]

    def made_of(self, document, part):
        return f"{part.id}-{len(part.moves)}"


def song():
    return session_of({"id": "drum"}, {"id": "tuba"}, {"id": "mute"})


def asked(document, **more):
    return parse_operation({"op": "contrast", **more}).apply(document, Sounding())


def test_a_contrast_takes_both_spectra_and_begins_apart():
    done = asked(song(), part="tuba", against="drum", start_s=1, end_s=4)
    (move,) = done.document.part("tuba").moves
    assert move.amount == -0.4 and move.against == "Drum" and move.taken == "1.0 s to 4.0 s"
    assert move.own_db == pytest.approx(FLAT + hump(100, 12), abs=0.06)
    assert move.sources == {"tuba": "tuba-0", "drum": "drum-0"}
    assert not done.document.part("drum").moves and "pushed apart" in done.said[0]


def test_mirrored_lays_the_opposite_on_the_other_part():
    left = asked(song(), part="tuba", against="drum", mirrored=True, amount=-0.6).document
    (tuba,), (drum,) = left.part("tuba").moves, left.part("drum").moves
    assert tuba.amount == drum.amount == -0.3
    assert tuba.own_db == drum.other_db and tuba.other_db == drum.own_db
    one, other = (asked_db(move, RATE) for move in (tuba, drum))
    opposite = (one - one.mean()) + (other - other.mean())
    assert np.abs(opposite).max() < 0.05


def test_a_spectrum_from_elsewhere_is_approached():
    kept = {"name": "Warm brass", "levels_db": FLAT.tolist()}
    (move,) = asked(song(), part="tuba", spectrum=kept).document.part("tuba").moves
    assert move.amount == 0.5 and move.against == "Warm brass" and set(move.sources) == {"tuba"}


@pytest.mark.parametrize(
    ("wrong", "why"),
    [
        ({"part": "tuba"}, "against a part, or against a spectrum"),
        ({"part": "tuba", "against": "tuba"}, "no contrast with itself"),
        ({"part": "tuba", "against": "drum", "start_s": 3, "end_s": 3.05}, "a tenth of a second"),
        ({"part": "tuba", "against": "mute"}, "nothing to be heard"),
        ({"part": "tuba", "spectrum": {"name": "x", "levels_db": [0.0] * 3}}, "levels_db"),
    ],
)
def test_what_cannot_stand_against_each_other_is_told(wrong, why):
    with pytest.raises(BadDocument) as told:
        asked(song(), **wrong)
    assert why in f"{told.value.where} {told.value.message}"


def test_spectra_are_taken_anew():
    left = asked(song(), part="tuba", against="drum").document
    changed = Sounding(drum=FLAT + hump(900, 9))
    again = {"op": "take spectra", "part": "tuba", "move": "m1", "start_s": 2, "end_s": 6}
    (move,) = parse_operation(again).apply(left, changed).document.part("tuba").moves
    assert move.other_db == pytest.approx(FLAT + hump(900, 9), abs=0.06)
    assert move.taken == "2.0 s to 6.0 s" and move.amount == -0.4


def test_a_region_is_the_slice():
    move = contrast(FLAT, FLAT + hump(300, 12), amount=0.9).model_dump()
    session = session_of({"id": "tuba", "moves": [move]})
    media = ArrayMedia({"tuba": noise(4.0, 0.2)})
    whole = render.region(session, media, ("tuba", "before fader"), 0, 4 * RATE)
    part = render.region(session, media, ("tuba", "before fader"), 100_001, RATE)
    assert np.abs(part - whole[100_001 : 100_001 + RATE]).max() < 3e-5
