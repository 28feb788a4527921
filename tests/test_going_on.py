"""After a change halls and echoes ring on with what was heard, and exact sound comes after that."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor

import numpy as np
import pytest
from conftest import RATE, session_of

from pondel.core.audio.media import ArrayMedia
from pondel.core.engine import render
from pondel.core.engine.cache import ChunkCache
from pondel.core.engine.chunks import ChunkedSession
from pondel.core.engine.going_on import GoingOn
from pondel.core.moves.registry import kind_of

SPACES = {
    "hall": {"id": "m", "kind": "reverb", "space": "hall", "decay_s": 2.0, "mix": 1.0},
    "echo": {"id": "m", "kind": "delay", "time_ms": 300, "feedback": 0.6, "mix": 1.0},
    "echo in quavers": {"id": "m", "kind": "delay", "time_beats": 0.5, "feedback": 0.6, "mix": 1.0},
}
RETURN = ("space", "before fader")
CHUNK = RATE // 2
SENT_DB, LATER_DB = -6.0, -14.0


def sent(space, level_db=SENT_DB, **fields):
    """A voice that sends to a space, and an organ beside it."""
    part = {"id": "space", "source": "sends", "file": None, "moves": [space]}
    sends = [{"to": "space", "level_db": level_db}]
    return session_of({"id": "voice", "sends": sends, **fields}, {"id": "organ"}, part)


@pytest.fixture(scope="module")
def media():
    rng = np.random.default_rng(5)
    noise = {name: rng.normal(0, 0.05, (8 * RATE, 2)) for name in ("voice", "organ")}
    return ArrayMedia({name: one.astype(np.float32) for name, one in noise.items()})


@pytest.fixture
def cache():
    return ChunkCache()


def heard(session, media, cache, chunks=range(12)):
    """A session of which chunks were heard."""
    chunked = ChunkedSession(session, media, cache)
    for index in chunks:
        chunked.node(RETURN, index)
    return chunked


def level_db(sound):
    return 20 * np.log10(max(float(np.abs(sound).max()), 1e-10))


def chunk_of(sound, index):
    return sound[index * CHUNK : (index + 1) * CHUNK]


def by_hand(session, media, *sent_db):
    """The space itself, driven by the voice at these levels from these chunks on."""
    move = session.part("space").moves[0]
    gains = np.zeros(8 * RATE)
    for first, level in sent_db:
        gains[first * CHUNK :] = 10 ** (level / 20)
    given = media.open("voice").read(0, 8 * RATE) * gains[:, np.newaxis]
    processor = kind_of(move.kind).at_work(move, RATE, 2, None)
    return processor.process(given.astype(np.float32), None)


@pytest.mark.parametrize("name", SPACES)
def test_what_rang_rings_on_and_what_goes_in_is_new(media, cache, name):
    was = heard(sent(SPACES[name]), media, cache)
    now = ChunkedSession(sent(SPACES[name], LATER_DB), media, cache)
    going = GoingOn(now, was)
    assert going.differs([RETURN])
    assert not going.differs([("organ", "after fader"), ("voice", "after fader")])
    wanted = by_hand(now.session, media, (0, SENT_DB), (6, LATER_DB))
    for index in (6, 7, 8):
        assert level_db(going.node(RETURN, index) - chunk_of(wanted, index)) < -110
    assert level_db(going.node(RETURN, 6) - now.node(RETURN, 6)) > -60


def test_one_change_after_another_goes_on_from_what_was_heard_in_between(media, cache):
    space = SPACES["hall"]
    was = heard(sent(space), media, cache)
    one = GoingOn(ChunkedSession(sent(space, LATER_DB), media, cache), was)
    one.node(RETURN, 6)
    other = GoingOn(ChunkedSession(sent(space, -30.0), media, cache), one)
    wanted = by_hand(one.session, media, (0, SENT_DB), (6, LATER_DB), (7, -30.0))
    assert level_db(other.node(RETURN, 7) - chunk_of(wanted, 7)) < -110


def test_exact_sound_is_never_touched_and_comes_at_last(media, cache):
    was = heard(sent(SPACES["hall"]), media, cache)
    now = ChunkedSession(sent(SPACES["hall"], LATER_DB), media, cache)
    going = GoingOn(now, was)
    for index in (5, 6, 7):
        going.node(RETURN, index)
    whole = render.region(now.session, media, RETURN, 0, 8 * CHUNK)
    for index in (5, 6, 7):
        assert level_db(now.node(RETURN, index) - chunk_of(whole, index)) < -90


def test_chunks_that_are_fetched_side_by_side_are_one_sound(media, cache):
    space = SPACES["hall"]
    going = GoingOn(
        ChunkedSession(sent(space, LATER_DB), media, cache), heard(sent(space), media, cache)
    )
    going.node(RETURN, 6)
    with ThreadPoolExecutor(3) as pool:
        pieces = list(pool.map(lambda index: going.node(RETURN, index), (9, 8, 7)))
    wanted = by_hand(going.session, media, (0, SENT_DB), (6, LATER_DB))
    for index, piece in zip((9, 8, 7), pieces, strict=True):
        assert level_db(piece - chunk_of(wanted, index)) < -110


@pytest.mark.parametrize(
    ("change", "chunks"),
    [({"space": "plate"}, range(12)), ({"id": "another"}, range(12)), ({"decay_s": 2.5}, ())],
    ids=["walls in other places", "a space that was not there", "what was never heard"],
)
def test_what_cannot_ring_on_begins_exactly(media, cache, change, chunks):
    was = heard(sent(SPACES["hall"]), media, cache, chunks)
    now = ChunkedSession(sent({**SPACES["hall"], **change}), media, cache)
    whole = render.region(now.session, media, RETURN, 0, 7 * CHUNK)
    assert level_db(GoingOn(now, was).node(RETURN, 6) - chunk_of(whole, 6)) < -90


@pytest.mark.parametrize("change", [{"pre_delay_ms": 60}, {"decay_s": 3.0}, {"high_cut_hz": 3000}])
def test_a_space_that_is_turned_itself_rings_on(media, cache, change):
    was = heard(sent(SPACES["hall"]), media, cache)
    now = ChunkedSession(sent({**SPACES["hall"], **change}), media, cache)
    first = slice(0, RATE // 100)
    before, after = was.node(RETURN, 6)[first], GoingOn(now, was).node(RETURN, 6)[first]
    assert abs(level_db(after) - level_db(before)) < 6
