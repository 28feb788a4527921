"""What was rendered, kept for whoever asks next: chunks of sound, streams where they stand, traces.

cache = ChunkCache()
cache.get((fingerprint, 12), make)                    # made once, however many ask
cache.leave_stream((fingerprint, 13), stream, parts)  # the next chunk goes on from here
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

from pondel.core.engine.spill import Spill
from pondel.core.engine.streams import Begun
from pondel.core.moves.base import Traced
from pondel.core.waiting import waiting_for_another

MAX_BYTES = 512 << 20
PASSING_BYTES = 96 << 20
MOST_STREAM_BYTES = 256 << 20
STREAMS_PER_PART = 4
"""Of each part: before and after its fader, as they are and as they were before the last change."""
LEAST_STREAMS = 96
MOST_RINGING_BYTES = 128 << 20
MOST_TRACES = 256
MOST_CHAINS = 1024
States = dict[str, tuple[np.ndarray, ...]]
"""What halls and echoes ring with at one moment, by the move that each is."""
Traces = dict[tuple[int, str], Traced]
"""By the place of a move among those at work, and its band: "" for the whole, "/0" for the first."""
WAIT_S = 0.02
SHARED = ("_chunked", "_session", "_media", "_reader", "_design")
"""What streams hold together with others: it is not theirs to count."""


class ChunkCache:
    """Arrays and unfinished streams by key, least recently used first out. Thread-safe.

    Chunks of sound that fall out of memory go to `spill`, if there is one, and come back from it.
    """

    def __init__(self, max_bytes: int = MAX_BYTES, spill: Spill | None = None) -> None:
        self._max_bytes = max_bytes
        self._spill = spill
        self._bytes = 0
        self._arrays: OrderedDict[Hashable, np.ndarray] = OrderedDict()
        self._streams: OrderedDict[Hashable, tuple[Begun, int]] = OrderedDict()
        self._stream_bytes = 0
        self._ringing: LRUCache[Hashable, States] = LRUCache(MOST_RINGING_BYTES, _states_bytes)
        # What a stream holds does not grow while it goes on: it is counted once.
        self._sizes: WeakKeyDictionary[Begun, int] = WeakKeyDictionary()
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
        with self._maker(key, step):
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
        with self._maker(key, step):
            with self._lock:
                found = self._traces.get(key)
            if found is None:
                found = make()
                with self._lock:
                    self._traces[key] = found
            return found

    def take_stream(self, key: Hashable) -> Begun | None:
        """Hand over the stream that stands at `key`, if one was left there."""
        with self._lock:
            found, size = self._streams.pop(key, (None, 0))
            self._stream_bytes -= size
            return found

    def leave_stream(self, key: Hashable, stream: Begun, parts: int) -> None:
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

    def keep_ringing(self, key: Hashable, stream: Begun) -> None:
        """Keep what the halls and echoes of a node's stream ring with where a chunk begins."""
        if not stream.ringing or self.ringing(key) is not None:
            return
        states = {move: space.ringing() for move, space in stream.ringing.items()}
        if _states_bytes(states) <= MOST_RINGING_BYTES:
            with self._lock:
                self._ringing[key] = states

    def ringing(self, key: Hashable) -> States | None:
        """What they ring with there, if it was kept."""
        with self._lock:
            return self._ringing.get(key)

    @contextmanager
    def _maker(self, key: Hashable, step: Callable[[], None] | None) -> Iterator[None]:
        with self._lock:
            making = self._making.setdefault(key, threading.Lock())
        if step is None:
            making.acquire()
        elif not making.acquire(blocking=False):
            with waiting_for_another():
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

    def leave_stream(self, key: Hashable, stream: Begun, parts: int) -> None:
        """Keep it where it stands; the few there are go with this cache, and need not be weighed."""
        self._streams[key] = stream, 0

    def keep_ringing(self, key: Hashable, stream: Begun) -> None:
        """Nobody goes on from what is only tried."""


def _states_bytes(states: States) -> int:
    return sum(array.nbytes for state in states.values() for array in state) + 1


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
    return (
        isinstance(key, tuple) and len(key) == 2 and isinstance(key[0], str) and isinstance(key[1], int)
    )
