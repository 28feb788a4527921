"""Who hides whom in a stretch of the song, kept by content: every figure of a loop comes from here.

table = desk.loops.table(document, start, frames)
"""

from __future__ import annotations

import threading
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor

import numpy as np
from cachetools import LRUCache

from pondel.core.document import Part, Session, content_hash
from pondel.core.dsp.fold import Side
from pondel.core.engine.chunks import ChunkedSession
from pondel.core.errors import BadDocument
from pondel.core.evidence import within
from pondel.core.families import Members, together
from pondel.core.hearing.hidden import near_hits
from pondel.core.hearing.in_the_mix import in_the_mix
from pondel.core.hearing.table import HiddenTable
from pondel.core.hearing.table_maker import TableMaker, frames_at_once
from pondel.core.side_by_side import CORES, side_by_side

NO_FAMILIES: Members = {}
POWERS_BYTES, TABLES_BYTES = 128 << 20, 128 << 20


def why_nothing_is_heard(document: Session) -> str:
    """What to do where no part is heard in the mix."""
    if not document.parts:
        return "no part is here yet: import some files first"
    return "no part is heard in the mix: all are muted, references or sidechain only; unmute one"


class Loops:
    """Tables of stretches. Thread-safe; long work calls `step` now and then."""

    def __init__(
        self,
        now: Callable[[Session], ChunkedSession],
        parts: Callable[[Session], list[Part]],
        hits_s: Callable[[Part], np.ndarray],
        step: Callable[[], None],
    ) -> None:
        self._now, self.parts, self._hits_s, self._step = now, parts, hits_s, step
        self._powers: LRUCache[str, np.ndarray] = LRUCache(POWERS_BYTES, lambda one: one.nbytes)
        self._tables: LRUCache[str, HiddenTable] = LRUCache(TABLES_BYTES, HiddenTable.nbytes)
        self._lock = threading.Lock()

    def table(
        self,
        document: Session,
        start: int,
        frames: int,
        side: Side = "both",
        families: Members = NO_FAMILIES,
    ) -> HiddenTable:
        """The table of one stretch; of one side alone with a `side`."""
        parts = self.parts(document)
        if not parts:
            raise BadDocument(why_nothing_is_heard(document))
        now = self._now(document)
        names = {part.id: _name(now, part.id, start, frames, side) for part in parts}
        hits = {part.id: within(self._hits_s(part), start, frames, document.rate) for part in parts}
        at_s = {part: at.tolist() for part, at in hits.items()}
        key = content_hash(
            [list(names.items()), at_s, sorted((f, list(p)) for f, p in families.items())]
        )
        with self._lock:
            found = self._tables.get(key)
        if found is not None:
            return found
        powers = self._all_powers(now, names, start, frames, side)
        on_hits = np.stack([near_hits(at, powers[0].shape[0]) for at in hits.values()])
        made = self._added_up(*together(list(names), np.stack(powers), on_hits, families))
        with self._lock:
            if made.nbytes() <= TABLES_BYTES:
                self._tables[key] = made
        return made

    def power(
        self, document: Session, part: str, start: int, frames: int, side: Side = "both"
    ) -> np.ndarray:
        """Excitation by one part in a stretch, float32 (frames, places)."""
        now = self._now(document)
        name = _name(now, part, start, frames, side)
        return self._power(now, part, name, start, frames, side)

    def _all_powers(
        self, now: ChunkedSession, names: dict[str, str], start: int, frames: int, side: Side
    ) -> list[np.ndarray]:
        """Excitation by each part. What is not known is made side by side, as urgent as the caller."""
        with self._lock:
            missing = [part for part, name in names.items() if name not in self._powers]

        def make(part: str) -> np.ndarray:
            return self._power(now, part, names[part], start, frames, side)

        with ThreadPoolExecutor(CORES) as pool:
            found = side_by_side(pool, make, missing, self._step, CORES)
            made = dict(zip(missing, found, strict=True))
        return [made[part] if part in made else make(part) for part in names]

    def _power(
        self, now: ChunkedSession, part: str, name: str, start: int, frames: int, side: Side
    ) -> np.ndarray:
        with self._lock:
            found = self._powers.get(name)
        if found is None:
            self._step()
            found = in_the_mix(now, part, start, frames, side).power
            with self._lock:
                if found.nbytes <= POWERS_BYTES:
                    self._powers[name] = found
        return found

    def _added_up(self, ids: list[str], powers: np.ndarray, on_hits: np.ndarray) -> HiddenTable:
        frames = powers.shape[1]
        with ThreadPoolExecutor(CORES) as pool:
            maker = TableMaker(ids, pool=pool, step=self._step)
            size = frames_at_once(len(ids))
            for first in range(0, frames, size):
                block = slice(first, first + size)
                maker.add(first, powers[:, block], on_hits[:, block])
        return maker.table()


def _name(now: ChunkedSession, part: str, start: int, frames: int, side: Side) -> str:
    document = now.session
    where = [start, frames, side, document.listening_level_db_spl, document.rate]
    return content_hash([now.in_the_mix(part).facts(side), where])
