"""Sound in half-second chunks, kept by fingerprint, so that an edit renders only what it changed.

A chunk of a part is rendered from the chunks of the parts it listens to. The streams that made
it are kept at its end: when the next chunk is asked for they go on, without a new run-up. Of a chain
that was changed, what leaves the moves before the change is kept in chunks too: while a value is
turned, only that move and those behind it work.
"""

from __future__ import annotations

import threading
from collections import OrderedDict, deque
from collections.abc import Callable, Hashable, Iterator
from contextlib import contextmanager
from weakref import WeakKeyDictionary

import numpy as np
from cachetools import LRUCache
from pydantic import BaseModel

from pondel.core.audio.media import Media
from pondel.core.document import Part, Session
from pondel.core.engine import routing
from pondel.core.engine.ears import EarSource, InTheMix, ear_blocks, in_the_mix_of
from pondel.core.engine.graph import Graph, TraceLogs
from pondel.core.engine.routing import Node
from pondel.core.engine.run_up import stand_at
from pondel.core.engine.spill import Spill
from pondel.core.engine.streams import Stream
from pondel.core.errors import BadRecording
from pondel.core.moves.base import TRACE_RATE, Traced

CHUNKS_PER_SECOND = 2
MAX_BYTES = 512 << 20
PASSING_BYTES = 96 << 20
MOST_STREAM_BYTES = 256 << 20
STREAMS_PER_PART = 4
"""Of each part: before and after its fader, as they are and as they were before the last change."""
LEAST_STREAMS = 96
MOST_TRACES = 256
MOST_CHAINS = 1024
Traces = dict[tuple[int, str], Traced]
"""By the place of a move among those at work, and its band: "" for the whole, "/0" for the first."""
WAIT_S = 0.02
SHARED = ("_chunked", "_session", "_media", "_reader", "_design")
"""What streams hold together with others: it is not theirs to count."""


def _go_on() -> None:
    """Nothing waits."""


def chunk_frames(rate: int) -> int:
    """Frames in one chunk."""
    return rate // CHUNKS_PER_SECOND


class ChunkCache:
    """Arrays and unfinished streams by key, least recently used first out. Thread-safe.

    Chunks of sound that fall out of memory go to `spill`, if there is one, and come back from it.
    """

    def __init__(self, max_bytes: int = MAX_BYTES, spill: Spill | None = None) -> None:
        self._max_bytes = max_bytes
        self._spill = spill
        self._bytes = 0
        self._arrays: OrderedDict[Hashable, np.ndarray] = OrderedDict()
        self._streams: OrderedDict[Hashable, tuple[Stream, int]] = OrderedDict()
        self._stream_bytes = 0
        # What a stream holds does not grow while it goes on: it is counted once.
        self._sizes: WeakKeyDictionary[Stream, int] = WeakKeyDictionary()
        self._traces: LRUCache[Hashable, Traces] = LRUCache(MOST_TRACES)
        self._chains: LRUCache[str, tuple[tuple[str, ...], int]] = LRUCache(MOST_CHAINS)
        self._lock = threading.Lock()
        self._making: dict[Hashable, threading.Lock] = {}

    def unchanged_moves(self, prints: tuple[str, ...]) -> int:
        """How many moves of a chain are as they were in the chain that was made before it.

        prints: `routing.chain_prints`. It stays the same for as long as the chain does.
        """
        with self._lock:
            last, unchanged = self._chains.get(prints[0], ((), 0))
            if last != prints:
                unchanged = _alike(last, prints)
                self._chains[prints[0]] = prints, unchanged
            return unchanged

    def get(
        self, key: Hashable, make: Callable[[], np.ndarray], step: Callable[[], None] | None = None
    ) -> np.ndarray:
        """The array under `key`, made at most once even when several threads ask.

        Where `make` may stand still for others, who waits for it calls `step` now and then, so that
        it does not keep the maker from going on.
        """
        found = self._look(key)
        if found is not None:
            return found
        with self._maker(key, step or _go_on):
            found = self._look(key)
            if found is None:
                found = self._spilled(key)
                if found is None:
                    found = make()
                self._put(key, found)
            return found

    def _spilled(self, key: Hashable) -> np.ndarray | None:
        return self._spill.get(key) if self._spill and _is_sound(key) else None  # type: ignore[arg-type]

    def traces(
        self,
        key: Hashable,
        make: Callable[[], Traces],
        step: Callable[[], None] | None = None,
    ) -> Traces:
        """The traces under `key`, made at most once even when several threads ask."""
        with self._lock:
            found = self._traces.get(key)
        if found is not None:
            return found
        with self._maker(key, step or _go_on):
            with self._lock:
                found = self._traces.get(key)
            if found is None:
                found = make()
                with self._lock:
                    self._traces[key] = found
            return found

    def take_stream(self, key: Hashable) -> Stream | None:
        """Hand over the stream that stands at `key`, if one was left there."""
        with self._lock:
            found, size = self._streams.pop(key, (None, 0))
            self._stream_bytes -= size
            return found

    def leave_stream(self, key: Hashable, stream: Stream, parts: int) -> None:
        """Keep a stream where it stands; of a session with so many parts each keeps its place."""
        most = max(LEAST_STREAMS, STREAMS_PER_PART * parts)
        with self._lock:
            size = self._sizes.get(stream)
        if size is None:
            size = held_bytes(stream)
        with self._lock:
            self._sizes[stream] = size
            _, replaced = self._streams.pop(key, (None, 0))
            self._streams[key] = stream, size
            self._stream_bytes += size - replaced
            while len(self._streams) > most or (
                self._stream_bytes > MOST_STREAM_BYTES and len(self._streams) > 1
            ):
                _, (_, gone) = self._streams.popitem(last=False)
                self._stream_bytes -= gone

    @contextmanager
    def _maker(self, key: Hashable, step: Callable[[], None]) -> Iterator[None]:
        with self._lock:
            making = self._making.setdefault(key, threading.Lock())
        while not making.acquire(timeout=WAIT_S):
            step()
        try:
            yield
        finally:
            making.release()
            with self._lock:
                self._making.pop(key, None)

    def _look(self, key: Hashable) -> np.ndarray | None:
        with self._lock:
            found = self._arrays.get(key)
            if found is not None:
                self._arrays.move_to_end(key)
            return found

    def _put(self, key: Hashable, array: np.ndarray) -> None:
        array.setflags(write=False)
        fallen: list[tuple[Hashable, np.ndarray]] = []
        with self._lock:
            replaced = self._arrays.pop(key, None)
            self._bytes -= replaced.nbytes if replaced is not None else 0
            self._arrays[key] = array
            self._bytes += array.nbytes
            while self._bytes > self._max_bytes and len(self._arrays) > 1:
                fallen.append(self._arrays.popitem(last=False))
                self._bytes -= fallen[-1][1].nbytes
        if self._spill is not None:
            for one, old in fallen:
                if _is_sound(one):
                    self._spill.put(one, old)  # type: ignore[arg-type]


def _alike(last: tuple[str, ...], prints: tuple[str, ...]) -> int:
    """How many moves two chains have in common from their beginning, but not all of the second one."""
    most = min(len(last), len(prints) - 1)
    same = next((n for n in range(most) if last[n] != prints[n]), most)
    return max(same - 1, 0)


class PassingCache(ChunkCache):
    """Reads what a cache holds, and keeps what is made through it to itself: it goes with its owner.

    So what is only tried takes no place from what is played, in memory and on disk.
    """

    def __init__(self, shared: ChunkCache, max_bytes: int = PASSING_BYTES) -> None:
        super().__init__(max_bytes)
        self._shared = shared

    def _look(self, key: Hashable) -> np.ndarray | None:
        found = super()._look(key)
        return self._shared._look(key) if found is None else found

    def unchanged_moves(self, prints: tuple[str, ...]) -> int:
        """How many moves are those of the chain that is played."""
        with self._shared._lock:
            last, _ = self._shared._chains.get(prints[0], ((), 0))
        return _alike(last, prints)

    def leave_stream(self, key: Hashable, stream: Stream, parts: int) -> None:
        """Keep it where it stands; the few there are go with this cache, and need not be weighed."""
        self._streams[key] = stream, 0


def held_bytes(thing: object) -> int:
    """Bytes of the arrays that a stream holds, in itself and in what it is made of."""
    seen: set[int] = set()
    waiting, total = [thing], 0
    while waiting:
        one = waiting.pop()
        if id(one) in seen:
            continue
        seen.add(id(one))
        if isinstance(one, np.ndarray):
            total += one.nbytes
        elif isinstance(one, dict):
            waiting += one.values()
        elif isinstance(one, list | tuple | deque):
            waiting += one
        elif type(one).__module__.startswith("pondel.core.") and not isinstance(one, BaseModel):
            waiting += [
                value for name, value in getattr(one, "__dict__", {}).items() if name not in SHARED
            ]
    return total


def _is_sound(key: Hashable) -> bool:
    """Whether a key names a chunk of a node: its fingerprint and its number."""
    return isinstance(key, tuple) and len(key) == 2 and isinstance(key[1], int)


class ChunkedSession:
    """One revision of a session, served in chunks from a shared cache.

    Work on a whole region calls `step` between its chunks: there it can wait for what is more
    urgent, or end by an error. A single chunk is never held up.
    """

    def __init__(
        self, session: Session, media: Media, cache: ChunkCache, step: Callable[[], None] = _go_on
    ) -> None:
        self.session = session
        self.frames = chunk_frames(session.rate)
        self._media = media
        self._cache = cache
        self._step = step
        self._prints: dict[Node, str] = {}
        self._is_whole = True
        """Whether chains are as they are in the song, rather than cut for another's beginning."""

    def in_passing(self) -> ChunkedSession:
        """The same session for whoever only tries it: what it makes is not kept for others."""
        return ChunkedSession(self.session, self._media, PassingCache(self._cache), self._step)

    def fingerprint(self, node: Node) -> str:
        return routing.fingerprint(self.session, self._media, node, self._prints)

    def node(self, node: Node, index: int) -> np.ndarray:
        """Chunk `index` of a node: read-only float32 (frames, channels)."""
        key = (self.fingerprint(node), index)
        return self._cache.get(key, lambda: self._make(node, index))

    def key_heard(self, part_id: str, move_id: str, index: int) -> np.ndarray:
        """Chunk `index` of what a move's detector hears."""
        part = self.session.part(part_id)
        move = next(m for m in part.moves if m.id == move_id)
        key = routing.key_of(self.session, move)
        if key is None:
            return self.node((part_id, "source"), index)
        start = index * self.frames
        lead = routing.key_run_up_frames(self.session, key)

        def build(begin: int) -> tuple[Graph, list[Stream]]:
            graph = self._graph(begin, None)
            stream = graph.key(part, move)
            assert stream is not None
            return graph, [stream]

        return stand_at(build, start, min(lead, start))[0].read(self.frames)

    def reductions(self, part_id: str, start: int, frames: int) -> dict[str, Traced]:
        """Reduction of each of a part's moves over a region, by move id, 200 points a second.

        A move with bands has one for each besides, by id and number: "m1/0". Whatever asks for the
        traces of one state and region gets those that were rendered first.
        """
        node: Node = (part_id, "before fader")
        key = ("traces", self.fingerprint(node), start, frames)
        found = self._cache.traces(key, lambda: self._trace(node, start, frames), self._step)
        moves = self._moves_at_work(part_id)
        return {moves[place] + band: trace for (place, band), trace in found.items()}

    def _moves_at_work(self, part_id: str) -> list[str]:
        return [move.id for move in routing.active_moves(self.session.part(part_id))]

    def _trace(self, node: Node, start: int, frames: int) -> Traces:
        """The traces of a node's moves."""
        part_id = node[0]
        moves = self._moves_at_work(part_id)
        lead = min(start, routing.run_up_frames(self.session, node))
        traces = TraceLogs()

        def build(begin: int) -> tuple[Graph, list[Stream]]:
            traces.clear()
            graph = self._graph(begin, node, traces, start - begin)
            return graph, [graph.node(node)]

        (stream,) = stand_at(build, start, lead, self._step)
        for done in range(0, frames, self.frames):
            self._step()
            stream.read(min(self.frames, frames - done))
        points = frames * TRACE_RATE // self.session.rate
        found: Traces = {}
        for (part, name), log in traces.items():
            if part == part_id:
                move, slash, band = name.partition("/")
                found[moves.index(move), slash + band] = log.traced().first(points)
        return found

    def in_the_mix(self, part_id: str) -> InTheMix:
        """Which sounds the hearing model needs to have a part as it reaches the mix."""
        return in_the_mix_of(self.session, self._media, self.session.part(part_id), self._prints)

    def recording_frames(self, part: Part) -> int:
        """Length of a part's recording; 0 where it has none that can be read."""
        try:
            return self._media.frames(part.file) if part.file else 0
        except BadRecording:
            return 0

    def kept(self, key: Hashable, make: Callable[[], np.ndarray]) -> np.ndarray:
        """An array that is made once and kept among the chunks."""
        return self._cache.get(key, make, self._step)

    def ear_blocks(self, source: EarSource, start: int, frames: int) -> Iterator[np.ndarray]:
        """The sound of an ear's source, in blocks."""
        if source.file is None:
            yield from self.blocks(source.node, start, frames)
            return
        for block in ear_blocks(self.session, self._media, source, start, frames):
            self._step()
            yield block

    def blocks(self, node: Node, start: int, frames: int) -> Iterator[np.ndarray]:
        """A region of a node in blocks of at most one chunk."""
        stream = _Chunks(self, node, start)
        for done in range(0, frames, self.frames):
            self._step()
            yield stream.read(min(self.frames, frames - done))

    def region(self, node: Node, start: int, frames: int) -> np.ndarray:
        """float32 (frames, channels) of a node from `start`, put together from chunks."""
        pieces = list(self.blocks(node, start, frames))
        if not pieces:
            return _Chunks(self, node, start).read(0)
        return pieces[0] if len(pieces) == 1 else np.concatenate(pieces)

    def _graph(
        self,
        position: int,
        own: Node | None,
        traces: TraceLogs | None = None,
        trace_from: int = 0,
        chain_from: tuple[int, Stream] | None = None,
    ) -> Graph:
        return Graph(
            self.session,
            self._media,
            position,
            own=own,
            chain_from=chain_from,
            borrow=self._borrow,
            traces=traces,
            trace_from=trace_from,
        )

    def _begun(self, node: Node, start: int) -> Stream:
        """The stream of a node that stands at `start`."""
        part_id, tap = node
        if tap != "before fader":
            return self._graph(start, node).node(node)
        done = self._unchanged_moves(part_id)
        before, lead = None, routing.run_up_frames(self.session, node)
        if done:
            before = self._without_moves_after(part_id, done)
            lead = routing.run_up_frames_after(self.session, part_id, done)

        def build(begin: int) -> tuple[Graph, list[Stream]]:
            chain_from = (done, _Chunks(before, node, begin)) if before else None
            graph = self._graph(begin, node, chain_from=chain_from)
            return graph, [graph.node(node)]

        return stand_at(build, start, min(start, lead))[0]

    def _unchanged_moves(self, part_id: str) -> int:
        """Behind how many moves of a part's chain its work begins."""
        if not self._is_whole:
            return 0
        return self._cache.unchanged_moves(
            routing.chain_prints(self.session, self._media, part_id, self._prints)
        )

    def _without_moves_after(self, part_id: str, moves: int) -> ChunkedSession:
        """The session with nothing but the first moves of a part's chain."""
        first = routing.active_moves(self.session.part(part_id))[:moves]
        parts = [
            part.model_copy(update={"moves": first}) if part.id == part_id else part
            for part in self.session.parts
        ]
        cut = self.session.model_copy(update={"parts": parts})
        found = ChunkedSession(cut, self._media, self._cache, self._step)
        found._is_whole = False
        return found

    def _borrow(self, node: Node, position: int) -> Stream | None:
        return _Chunks(self, node, position) if node[1] != "source" else None

    def _make(self, node: Node, index: int) -> np.ndarray:
        start = index * self.frames
        stream = self._cache.take_stream((self.fingerprint(node), index))
        if stream is None:
            stream = self._begun(node, start)
        block = stream.read(self.frames)
        parts = len(self.session.parts)
        self._cache.leave_stream((self.fingerprint(node), index + 1), stream, parts)
        return np.ascontiguousarray(block)


class _Chunks:
    """A node's chunks as a stream."""

    def __init__(self, chunked: ChunkedSession, node: Node, position: int) -> None:
        self._chunked = chunked
        self._node = node
        self._position = position
        self.channels = chunked.node(node, position // chunked.frames).shape[1]

    def read(self, frames: int) -> np.ndarray:
        size = self._chunked.frames
        pieces = []
        while frames > 0:
            index, offset = divmod(self._position, size)
            piece = self._chunked.node(self._node, index)[offset : offset + frames]
            pieces.append(piece)
            frames -= piece.shape[0]
            self._position += piece.shape[0]
        if not pieces:
            return np.empty((0, self.channels), np.float32)
        return pieces[0] if len(pieces) == 1 else np.concatenate(pieces)
