"""Sound that goes on from what is heard: halls and echoes ring on, and a change is there at once.

A hall remembers seconds. To begin it in the middle of the song, what goes into it is rendered for
all of them: too long for a change that is to be heard within a blink. Here a hall begins with what
it rang with, at that place, in the sound that was heard before; what goes in is new. So it is what
a hall does when something is turned before it while the song plays. It is heard for as long as
something is turned, and exact sound takes its place after that.

sound = GoingOn(now, heard)
if sound.differs([("mix", "after fader")]):
    sound.node(("mix", "after fader"), 12)
"""

from __future__ import annotations

import secrets
import threading
from collections import defaultdict
from collections.abc import Hashable, Iterable

import numpy as np

from pondel.core.engine import routing
from pondel.core.engine.cache import States
from pondel.core.engine.chunks import ChunkedSession
from pondel.core.engine.routing import Node
from pondel.core.engine.streams import Begun
from pondel.core.errors import NotFound
from pondel.core.moves.registry import kind_of

MOST_BEFORE = 16
NEAR_CHUNKS = 4


class GoingOn(ChunkedSession):
    """A session that goes on from another one, of which chunks were heard.

    Its chunks are its own: `token` tells them from those of any other. What no change reaches, and
    what passes no hall or echo, is what the session itself holds, and exact.
    """

    def __init__(self, now: ChunkedSession, heard: ChunkedSession) -> None:
        super().__init__(now.session, now._media, now._cache, now._step, now._prints)
        self.token = secrets.token_hex(6)
        earlier = heard.before[: MOST_BEFORE - 1] if isinstance(heard, GoingOn) else []
        self.before: list[_Heard] = [_Heard(heard), *earlier]
        self._spaces: dict[Node, bool] = {}
        self._begun_at: defaultdict[Node, set[int]] = defaultdict(set)
        self._beginning = threading.Lock()

    def went_on(self) -> frozenset[Node]:
        """The nodes of which chunks were made that went on from something."""
        with self._beginning:
            return frozenset(self._begun_at)

    def differs(self, nodes: Iterable[Node]) -> bool:
        """Whether some of the nodes pass a hall or an echo, and sounded otherwise before."""
        return any(self._goes_on(node) for node in nodes)

    def _goes_on(self, node: Node) -> bool:
        if not routing.passes_a_space(self.session, node, self._spaces):
            return False
        heard = self.before[0]
        return node in heard.went_on or heard.fingerprint(node) != self.fingerprint(node)

    def _name(self, node: Node) -> Hashable:
        exact = self.fingerprint(node)
        return _name(self.token, exact) if self._goes_on(node) else exact

    def _begun(self, node: Node, start: int) -> Begun:
        part_id, tap = node
        if tap != "before fader" or not self._goes_on(node):
            return super()._begun(node, start)
        begun = self._run_up(node, start, self._done(part_id), spaces_ring_on=True)
        states = self._rang(node, start // self.frames) if begun.ringing else {}
        if all(move in states and one.ring_on(states[move]) for move, one in begun.ringing.items()):
            return begun
        return super()._begun(node, start)

    def _done(self, part_id: str) -> int:
        """Behind how many moves of a chain work begins: none if a hall or an echo is before them."""
        done = self._unchanged_moves(part_id)
        moves = routing.active_moves(self.session.part(part_id))[:done]
        passed = routing.passes_a_space(self.session, (part_id, "source"), self._spaces)
        return 0 if passed or any(kind_of(move.kind).is_space for move in moves) else done

    def _rang(self, node: Node, index: int) -> States:
        """What a node's halls and echoes rang with where a chunk begins, when that was last heard."""
        for heard in self.before:
            for name in heard.names(node):
                states = self._cache.ringing((name, index))
                if states is not None:
                    return states
        return {}

    def _make(self, name: Hashable, node: Node, index: int) -> np.ndarray:
        if not isinstance(name, tuple):
            return super()._make(name, node, index)
        for between in self._since(node, index):
            self.node(node, between)
        return super()._make(name, node, index)

    def _since(self, node: Node, index: int) -> range:
        """The chunks from the last one that was begun shortly before up to one: they come first.

        So what is fetched side by side is one sound all the same.
        """
        with self._beginning:
            begun = self._begun_at[node]
            last = max((at for at in begun if index - NEAR_CHUNKS <= at < index), default=index)
            begun.add(index)
        return range(last, index)


class _Heard:
    """A session of which chunks were heard, and what they are kept under."""

    def __init__(self, heard: ChunkedSession) -> None:
        self._token, self.went_on = None, frozenset[Node]()
        if isinstance(heard, GoingOn):
            self._token, self.went_on = heard.token, heard.went_on()
        self._exact = heard.exactly()

    def fingerprint(self, node: Node) -> str | None:
        """That of a node's exact sound; None where there was no such part."""
        try:
            return self._exact.fingerprint(node)
        except NotFound:
            return None

    def names(self, node: Node) -> list[Hashable]:
        """What its chunks may be kept under."""
        exact = self.fingerprint(node)
        return [] if exact is None else [_name(self._token, exact), exact]


def _name(token: str | None, exact: str) -> Hashable:
    return ("going on", token, exact)
