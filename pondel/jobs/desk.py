"""The desk: a library with an engine. Everything the command line and the screens ask for."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable
from functools import lru_cache

import numpy as np
from cachetools import LRUCache

from pondel.core.document import Part, Session
from pondel.core.engine.cache import ChunkCache
from pondel.core.engine.chunks import ChunkedSession
from pondel.core.engine.going_on import GoingOn
from pondel.core.engine.graph import song_frames
from pondel.core.engine.listen import (
    Plan,
    make_plan,
    plan_hash,
    plan_nodes,
    without_contrast,
    without_moves,
)
from pondel.core.engine.spill import Spill
from pondel.core.errors import NotFound
from pondel.core.measures.home import Home
from pondel.core.measures.levels import Levels
from pondel.core.measures.spectrum import average_spectrum
from pondel.core.operations import Done, Operation, apply_all
from pondel.core.survival import chunk_of
from pondel.jobs.analysis import Analysis
from pondel.jobs.blind import BlindTests
from pondel.jobs.fights import Fights
from pondel.jobs.leases import checkpoint
from pondel.jobs.loops import Loops
from pondel.jobs.plans import Plans
from pondel.jobs.printing import Printing
from pondel.jobs.recordings import Recording, Recordings
from pondel.jobs.references import References
from pondel.jobs.sides import Sides
from pondel.jobs.thinness import Thinness
from pondel.jobs.tryouts import Tryouts
from pondel.jobs.whole_mix import WholeMix
from pondel.store.library import Library, nobody_waits, nothing_begins
from pondel.store.revisions import Revision

MAX_PLANS = 256
MARK = "_"
"""Between the name of a sound and what tells it from the exact one, where it goes on from another."""
MOST_HELD = 16


def is_exact(name: str) -> bool:
    """Whether the sound of this name is exact, rather than one that goes on from another."""
    return MARK not in name


@lru_cache(maxsize=64)
def _untreated(session_json: str) -> Session:
    return without_moves(Session.model_validate_json(session_json))


class Desk:
    """Renders, measures and advises on the sessions of one library. Thread-safe.

    Long work calls `step` between its chunks, where it may have to wait for the sound. Where
    `eager`, recordings are measured when they are asked for; else NotYet is raised.
    """

    def __init__(
        self, library: Library, step: Callable[[], None] = checkpoint, *, eager: bool = True
    ) -> None:
        self.library = library
        self._cache = ChunkCache(spill=Spill(library.folder.place("chunks"), library.caches))
        self._held: LRUCache[str, Session] = LRUCache(MOST_HELD)
        self._plans: OrderedDict[str, tuple[Plan, ChunkedSession]] = OrderedDict()
        self.recordings = self.media = Recordings(library, step, eager=eager)
        self.analysis = Analysis(library, self.recordings, step)
        self.loops = Loops(self.now, self.analysis.parts, self.hits_s, step)
        self.fights = Fights(self.now, self.recordings, self.analysis, self.loops)
        self.fight = self.fights.measured
        self.tryouts = Tryouts(self.now, self.loops, self.fights)
        self.printing = Printing(self.recordings)
        self.whole_mix = WholeMix(library.measures, self.now, self.frames, step)
        self.references = References(library.measures, self.now, step)
        self.thinness = Thinness(self.now, self.fights, self.home)
        self.plans = Plans(
            self.now, self.analysis, self.loops, self.fights, self.whole_mix, self.thinness
        )
        self.blind = BlindTests(self.now, library.ledger)
        self.sides = Sides(self.now, self.analysis, self.loops, self.fights)
        self._step = step
        self._lock = threading.Lock()

    def now(self, document: Session) -> ChunkedSession:
        """The session as it stands, in chunks."""
        return ChunkedSession(document, self.media, self._cache, self._step)

    def untreated(self, document: Session) -> ChunkedSession:
        """The session with all moves off, in chunks."""
        return self.now(_untreated(document.model_dump_json()))

    def tried(self, name: str) -> Session:
        """A session with a way, or a plan, that is only tried; NotFound when it was forgotten."""
        with self._lock:
            held = self._held.get(name)
        return held or self.plans.document(name) or self.tryouts.document(name)

    def hold(self, name: str, document: Session) -> None:
        """Keep a session that is only tried for a while, so that it can be heard."""
        with self._lock:
            self._held[name] = document

    def frames(self, document: Session) -> int:
        """Length of the song in frames, at least one."""
        return max(1, song_frames(document, self.media, readable=True))

    def recording(self, file: str) -> Recording:
        """The measures of a recording, taken once and kept."""
        return self.recordings.of(file)

    def hits_s(self, part: Part) -> np.ndarray:
        """A part's hits in seconds from the start of the song."""
        return self.recordings.hits_s(part)

    def fall_s(self, part: Part) -> float | None:
        """How long one of a part's hits takes to fall by 20 dB."""
        return self.fights.fall_s(part)

    def home(self, part: Part) -> Home | None:
        """Where a part's energy lies; None without a recording that can be read, or in a silent one."""
        recording = self.recordings.readable(part.file) if part.file else None
        return recording.home if recording else None

    def pitch_hz(self, part: Part) -> float | None:
        """The usual pitch of a part after its hits; None where it is not certain."""
        is_readable = part.file is not None and self.recordings.readable(part.file) is not None
        return self.recordings.pitch_hz(part.file) if is_readable and part.file else None

    def spectrum_db(
        self, document: Session, part: Part, start_s: float, end_s: float | None
    ) -> np.ndarray:
        """A part's average spectrum before its contrast with others, at 24 points to the octave."""
        now, whole = self.now(without_contrast(document)), self.frames(document)
        start = min(round(start_s * document.rate), whole - 1)
        end = whole if end_s is None else min(round(end_s * document.rate), whole)
        blocks = now.blocks((part.id, "before fader"), start, max(end - start, 1))
        return average_spectrum(blocks, document.rate)

    def made_of(self, document: Session, part: Part) -> str:
        """What a part's sound is made of before its contrast with others."""
        return self.now(without_contrast(document)).fingerprint((part.id, "before fader"))[:40]

    def levels(self, part: Part) -> Levels | None:
        """The levels of a part's recording; None without one that can be read."""
        recording = self.recordings.readable(part.file) if part.file else None
        return recording.levels if recording else None

    def do(
        self,
        session_id: str,
        operations: list[Operation],
        *,
        base: int | None = None,
        gesture: str | None = None,
        worked_out: Callable[[Session], None] = nothing_begins,
        prepare: Callable[[Revision, Done], None] = nobody_waits,
    ) -> Revision:
        """Apply operations to a session, all of them or none; the new state is on disk."""
        return self.library.edit(
            session_id,
            base,
            lambda document: apply_all(operations, document, self),
            gesture=gesture,
            worked_out=worked_out,
            prepare=prepare,
        )

    def plan(
        self,
        document: Session,
        hear: str,
        parts: list[str],
        move: str | None,
        zone_hz: tuple[float, float] | None = None,
        *,
        treated: bool,
        heard: str | None = None,
    ) -> tuple[str, Plan]:
        """Prepare something to be heard; its sound is then served by the hash.

        With the name of what is `heard` just now, halls and echoes that a change reaches ring on as
        they did there. The name of such a sound has a mark; exact sound is to be asked for in the end.
        """
        plan = make_plan(document, hear, parts, move, zone_hz)
        chunked = self.now(document) if treated or hear == "key" else self.untreated(document)
        name = plan_hash(plan, chunked)
        with self._lock:
            before = self._plans.get(heard) if heard else None
        if before is not None and before[1].session.rate == document.rate:
            going = GoingOn(chunked, before[1])
            if going.differs(plan_nodes(plan)):
                name, chunked = f"{name}{MARK}{going.token}", going
        with self._lock:
            self._plans[name] = (plan, chunked)
            self._plans.move_to_end(name)
            while len(self._plans) > MAX_PLANS:
                self._plans.popitem(last=False)
        return name, plan

    def sound(self, name: str, index: int) -> np.ndarray:
        """Chunk `index` of a prepared plan, stereo float32; NotFound when it was forgotten."""
        with self._lock:
            found = self._plans.get(name)
        if found is None:
            raise NotFound("this sound is not prepared any more: ask for it again")
        plan, chunked = found
        return self._cache.get(("plan", name, index), lambda: chunk_of(plan, chunked, index))
