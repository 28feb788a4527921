"""What survives of a part, as it is played."""

from __future__ import annotations

import numpy as np
import pytest
from conftest import RATE, session_of, sine
from hearing_tools import band

from pondel.core.audio.media import ArrayMedia
from pondel.core.engine.cache import ChunkCache
from pondel.core.engine.chunks import ChunkedSession
from pondel.core.engine.listen import make_plan, plan_hash
from pondel.core.hearing.in_the_mix import in_the_mix
from pondel.core.hearing.scale import PLACES_HZ
from pondel.core.survival import chunk_of, gains_of, kept, sound_of

FRAMES = 2 * RATE


def chunked_of(**sounds):
    media = ArrayMedia({name: np.asarray(sound, "f4") for name, sound in sounds.items()})
    session = session_of(*({"id": name} for name in sounds))
    return ChunkedSession(session, media, ChunkCache())


def level_db(sound: np.ndarray) -> float:
    return float(10 * np.log10(np.square(sound[RATE // 2 : -RATE // 2]).mean() + 1e-20))


def test_a_part_against_silence_survives_whole_and_nothing_is_lost():
    chunked = chunked_of(part=band(200, 2000, -20, 1)[:FRAMES], other=np.zeros((FRAMES, 1)))
    plain = sound_of(make_plan(chunked.session, "part", ["part"]), chunked, 0, FRAMES)
    heard = sound_of(make_plan(chunked.session, "heard", ["part"]), chunked, 0, FRAMES)
    lost = sound_of(make_plan(chunked.session, "lost", ["part"]), chunked, 0, FRAMES)
    assert np.abs(heard - plain)[RATE // 4 : -RATE // 4].max() < 0.02 * np.abs(plain).max()
    assert level_db(lost) < level_db(plain) - 45


@pytest.mark.parametrize("louder_db", [-10, 0, 6])
def test_a_tone_is_played_at_ten_log2_of_the_share_that_is_left(louder_db):
    """Of the place at which it is loudest, as far as the model says it is heard."""
    chunked = chunked_of(part=sine(1000, 2, -20), other=band(500, 2000, -20 + louder_db, 2)[:FRAMES])
    gains = gains_of(chunked, "part", 0, FRAMES, is_lost=False)[50:150]
    own = in_the_mix(chunked, "part", 0, FRAMES).power[50:150]
    at_tone = gains[:, int(np.argmax(own.mean(axis=0)))]
    plain = sound_of(make_plan(chunked.session, "part", ["part"]), chunked, 0, FRAMES)
    heard = sound_of(make_plan(chunked.session, "heard", ["part"]), chunked, 0, FRAMES)
    assert level_db(heard) - level_db(plain) == pytest.approx(10 * np.log10(np.mean(at_tone**2)), abs=2)


def test_nine_tenths_hidden_are_33_db_down():
    gains = np.full((400, PLACES_HZ.size), 10 ** (0.5 * np.log2(0.1)), "f4")
    sound = np.repeat(sine(1000, 2, -6), 2, axis=1)
    assert level_db(kept(sound, gains, RATE)) - level_db(sound) == pytest.approx(-33.2, abs=0.1)


def test_in_place_it_stands_in_the_mix_and_chunks_fit_together():
    chunked = chunked_of(part=band(100, 4000, -20, 1)[:FRAMES], other=band(200, 900, -15, 2)[:FRAMES])
    alone, placed = (make_plan(chunked.session, how, ["part"]) for how in ("heard", "heard in place"))
    mix = sound_of(make_plan(chunked.session, "mix"), chunked, 0, FRAMES)
    plain = sound_of(make_plan(chunked.session, "part", ["part"]), chunked, 0, FRAMES)
    both = sound_of(placed, chunked, 0, FRAMES)
    assert np.abs(both - (mix - plain + sound_of(alone, chunked, 0, FRAMES))).max() < 1e-5
    whole = sound_of(alone, chunked, 0, FRAMES)
    pieces = np.concatenate([chunk_of(alone, chunked, n) for n in range(FRAMES // chunked.frames)])
    inside = slice(RATE // 2, -RATE // 2)
    assert np.abs(pieces - whole[: pieces.shape[0]])[inside].max() < 0.02 * np.abs(whole).max()
    assert plan_hash(alone, chunked) != plan_hash(placed, chunked)
