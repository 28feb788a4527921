"""What is rendered from the middle of the song is what is rendered from its start."""

from __future__ import annotations

import numpy as np
import pytest
from conftest import RATE, session_of
from hypothesis import HealthCheck, given, settings
from hypothesis import example as pinned
from hypothesis import strategies as st
from test_moves_in_common import example, other_for

from pondel.core.audio.media import ArrayMedia
from pondel.core.engine import render
from pondel.core.engine.cache import ChunkCache
from pondel.core.engine.chunks import ChunkedSession
from pondel.core.moves.registry import KINDS

SECONDS = 8.0
NODE = ("part", "before fader")


def hovering(seed: int, channels: int, seconds: float = SECONDS) -> np.ndarray:
    """Noise whose level stands at one height for a while, then at another; some of them silence."""
    random = np.random.default_rng(seed)
    frames = round(seconds * RATE)
    levels_db = np.empty(frames)
    at = 0
    while at < frames:
        stay = int(random.uniform(0.05, 2.5) * RATE)
        levels_db[at : at + stay] = random.choice([-200.0, -70, -52, -45, -41, -38, -30, -18, -6])
        at += stay
    smooth = np.convolve(levels_db, np.ones(200) / 200, "same")
    sound = random.uniform(-1, 1, (frames, channels)) * 10 ** (smooth / 20)[:, None]
    return sound.astype(np.float32)


def furthest_db(piece, whole):
    away = np.abs(piece.astype(np.float64) - whole).max()
    return 20 * np.log10(max(away, 1e-12) / max(1.0, float(np.abs(whole).max())))


@given(
    st.lists(st.sampled_from(sorted(KINDS)), min_size=1, max_size=4),
    st.integers(0, 100_000),
    st.floats(0.3, SECONDS - 0.4),
)
@pinned(["spectral duck"], 1673, 1.0)
@settings(max_examples=30, deadline=None, suppress_health_check=[HealthCheck.too_slow])
def test_a_region_of_any_chain_at_any_level_is_the_slice_of_the_whole(kinds, seed, start_s):
    random = np.random.default_rng(seed)
    moves, parts = [], [{"id": "key"}]
    for n, kind in enumerate(kinds):
        move = example(kind, random)
        if KINDS[kind].pair is None:
            move["id"] = f"m{n}"
        elif len(parts) == 1:
            parts.append(other_for(move))
        else:
            continue
        moves.append(move)
    session = session_of({"id": "part", "moves": moves}, *parts)
    media = ArrayMedia({one: hovering(seed + n, 1 + n % 2) for n, one in enumerate(["part", "key"])})
    start, frames = round(start_s * RATE), RATE // 4
    whole = render.region(session, media, NODE, 0, start + frames)[start:]
    assert furthest_db(render.region(session, media, NODE, start, frames), whole) < -90
    heard = ChunkedSession(session, media, ChunkCache()).region(NODE, start, frames)
    assert furthest_db(heard, whole) < -90


@pytest.mark.parametrize("was", [-20.0, -60.0])
@pytest.mark.parametrize(("hold_ms", "hysteresis_db"), [(0, 6), (40, 6), (400, 12)])
def test_a_gate_that_hovers_between_its_thresholds_is_found_as_it_was_left(was, hold_ms, hysteresis_db):
    move = {
        "id": "m",
        "kind": "gate",
        "threshold_db": -40,
        "hysteresis_db": hysteresis_db,
        "hold_ms": hold_ms,
        "range_db": 60,
        "look_ahead_ms": 3,
    }
    steps = np.array([*[was] * 4, *[-42.0] * 60])
    levels_db = np.repeat(steps, RATE // 8)
    sound = (np.sign(np.sin(np.arange(levels_db.size) * 0.1)) * 10 ** (levels_db / 20)).astype("f4")
    media, session = ArrayMedia({"part": sound[:, None]}), session_of({"id": "part", "moves": [move]})
    start = round(7.3 * RATE)
    whole = render.region(session, media, NODE, 0, start + 4800)[start:]
    assert (np.abs(whole).max() > 0.007) == (was > -40)
    assert np.array_equal(render.region(session, media, NODE, start, 4800), whole)
    traces = ChunkedSession(session, media, ChunkCache()).reductions("part", start, 4800)["m"]
    assert traces.high.max() < 0.01 if was > -40 else traces.low.min() > 15


def test_a_hold_renewed_by_lower_peaks_is_the_same_from_the_middle_on():
    """A peak every 100 ms, held for 250, one of them high: the run-up begins after that one."""
    move = {
        "id": "m",
        "kind": "compressor",
        "threshold_db": -40,
        "hold_ms": 250,
        "release_ms": 60,
        "attack_ms": 1,
        "range_db": 60,
    }
    sound = np.zeros((8 * RATE, 1), "f4")
    sound[RATE // 2 :: RATE // 10] = np.linspace(0.2, 0.1, 75)[:, None]
    sound[RATE // 2] = 1.0
    media, session = ArrayMedia({"part": sound}), session_of({"id": "part", "moves": [move]})
    for start in (round(2.43 * RATE), round(5.4 * RATE)):
        whole = render.region(session, media, NODE, 0, start + RATE)[start:]
        assert furthest_db(render.region(session, media, NODE, start, RATE), whole) < -90
