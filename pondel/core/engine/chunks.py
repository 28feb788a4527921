"""Sound in half-second chunks, kept by fingerprint, so that an edit renders only what it changed.

A chunk of a part is rendered from the chunks of the parts it listens to. The streams that made
it are kept at its end: when the next chunk is asked for they go on, without a new run-up. Of a chain
that was changed, what leaves the moves before the change is kept in chunks too: while a value is
turned, only that move and those behind it work.
"""

from __future__ import annotations

from collections.abc import Callable, Hashable, Iterator

import numpy as np

from pondel.core.audio.media import Media
from pondel.core.document import Part, Session
from pondel.core.engine import routing
from pondel.core.engine.cache import ChunkCache, PassingCache, Traces
from pondel.core.engine.ears import EarSource, InTheMix, ear_blocks, in_the_mix_of
from pondel.core.engine.graph import Graph, TraceLogs
from pondel.core.engine.routing import Node
from pondel.core.engine.run_up import stand_at
from pondel.core.engine.streams import Begun, Stream
from pondel.core.errors import BadRecording
from pondel.core.moves.base import TRACE_RATE, Ringing, Traced
from pondel.core.side_by_side import go_on

CHUNKS_PER_SECOND = 2


def chunk_frames(rate: int) -> int:
    """Frames in one chunk."""
    return rate // CHUNKS_PER_SECOND


class ChunkedSession:
    """One revision of a session, served in chunks from a shared cache.

    Work on a whole region calls `step` between its chunks: there it can wait for what is more
    urgent, or end by an error. A single chunk is never held up.
    """

    def __init__(
        self,
        session: Session,
        media: Media,
        cache: ChunkCache,
        step: Callable[[], None] = go_on,
        prints: dict[Node, str] | None = None,
    ) -> None:
        self.session = session
        self.frames = chunk_frames(session.rate)
        self._media = media
        self._cache = cache
        self._step = step
        self._prints: dict[Node, str] = {} if prints is None else prints
        self._is_whole = True
        """Whether chains are as they are in the song, rather than cut for another's beginning."""

    def in_passing(self) -> ChunkedSession:
        """The same session for whoever only tries it: what it makes is not kept for others."""
        return ChunkedSession(self.session, self._media, PassingCache(self._cache), self._step)

    def exactly(self) -> ChunkedSession:
        """The same session as exact sound, whatever was heard before it."""
        return ChunkedSession(self.session, self._media, self._cache, self._step, self._prints)

    def fingerprint(self, node: Node) -> str:
        return routing.fingerprint(self.session, self._media, node, self._prints)

    def node(self, node: Node, index: int) -> np.ndarray:
        """Chunk `index` of a node: read-only float32 (frames, channels)."""
        name = self._name(node)
        return self._cache.get((name, index), lambda: self._make(name, node, index))

    def _name(self, node: Node) -> Hashable:
        """What a node's chunks are kept under."""
        return self.fingerprint(node)

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
        lead = min(start, routing.chain_run_up_frames(self.session, part_id))
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

    def _begun(self, node: Node, start: int) -> Begun:
        """The stream of a node that stands at `start`."""
        part_id, tap = node
        if tap != "before fader":
            return Begun(self._graph(start, node).node(node), {})
        return self._run_up(node, start, self._unchanged_moves(part_id))

    def _run_up(self, node: Node, start: int, done: int, *, spaces_ring_on: bool = False) -> Begun:
        """A chain's stream that stands at `start`, begun behind `done` of its moves.

        Where `spaces_ring_on`, no time is given to its halls and echoes to fill.
        """
        part_id, _ = node
        before = self._without_moves_after(part_id, done) if done else None
        lead = routing.chain_run_up_frames(self.session, part_id, done, spaces_ring_on=spaces_ring_on)
        ringing: dict[str, Ringing] = {}

        def build(begin: int) -> tuple[Graph, list[Stream]]:
            nonlocal ringing
            chain_from = (done, _Chunks(before, node, begin)) if before else None
            graph = self._graph(begin, node, chain_from=chain_from)
            stream, ringing = graph.node(node), graph.ringing
            return graph, [stream]

        return Begun(stand_at(build, start, min(start, lead))[0], ringing)

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

    def _make(self, name: Hashable, node: Node, index: int) -> np.ndarray:
        stream = self._cache.take_stream((name, index))
        if stream is None:
            stream = self._begun(node, index * self.frames)
            self._cache.keep_ringing((name, index), stream)
        block = stream.read(self.frames)
        self._cache.keep_ringing((name, index + 1), stream)
        self._cache.leave_stream((name, index + 1), stream, len(self.session.parts))
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
