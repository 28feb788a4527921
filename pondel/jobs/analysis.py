"""The whole song as it is heard: each part analysed once, and the table of who hides whom.

analysis = Analysis(library, recordings)
analysis.missing(document)        # parts whose sound has not been analysed yet
analysis.part(document, "tuba")   # analyse one of them
analysis.table(document)          # the table, or None while parts are missing
"""

from __future__ import annotations

import logging
import threading
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from contextvars import copy_context

import numpy as np
from cachetools import LRUCache

from pondel.core.document import Part, Session, content_hash
from pondel.core.engine import routing
from pondel.core.engine.ears import EarSource, InTheMix, ear_blocks, heard_parts, in_the_mix_of
from pondel.core.engine.graph import song_frames
from pondel.core.errors import DiskFull
from pondel.core.families import Members, together
from pondel.core.hearing.excitation import excitation_of
from pondel.core.hearing.hidden import near_hits
from pondel.core.hearing.loudness import partial_loudness, total_sone
from pondel.core.hearing.packing import pack, unpack
from pondel.core.hearing.scale import BANDS_HZ, PLACES_HZ
from pondel.core.hearing.spectra import FRAME_S, ear_frames
from pondel.core.hearing.table import HiddenTable
from pondel.core.hearing.table_maker import TableMaker, frames_at_once, parts_between_rests
from pondel.core.side_by_side import CORES, go_on, side_by_side
from pondel.jobs.ear_names import ears_name, hearing_code
from pondel.jobs.recordings import Recordings
from pondel.store.library import Library

log = logging.getLogger("pondel.jobs")
BLOCK_FRAMES = 1000
NO_FAMILIES: Members = {}
TABLE_BYTES = 256 << 20


class Analysis:
    """Analyses of whole songs, kept by content. Thread-safe."""

    def __init__(
        self, library: Library, recordings: Recordings, step: Callable[[], None] = go_on
    ) -> None:
        self._library = library
        self._recordings = recordings
        self._step = step
        self._files = library.analyses
        self._locks: dict[str, threading.Lock] = {}
        self._lock = threading.Lock()
        self._tables: LRUCache[str, HiddenTable] = LRUCache(TABLE_BYTES, HiddenTable.nbytes)

    def sweep(self) -> None:
        """After a start: what is not an analysis goes."""
        self._files.sweep()

    def parts(self, document: Session) -> list[Part]:
        """The parts that the ear tells apart in the mix, as far as their sound can be made."""
        faults = self._library.media.faults(document)
        heard = heard_parts(document)
        if not faults:
            return heard
        return [part for part in heard if not routing.upstream(document, part.id) & faults.keys()]

    def _heard(self, document: Session) -> dict[str, InTheMix]:
        memo: dict = {}
        return {
            part.id: in_the_mix_of(document, self._recordings, part, memo)
            for part in self.parts(document)
        }

    def _rows(self, source: EarSource) -> np.ndarray | None:
        return self._files.rows(ears_name(source), BANDS_HZ.size)

    def _all_rows(self, heard: Iterable[InTheMix]) -> dict[str, np.ndarray] | None:
        """The analyses of everything that is heard, by name; None while one is missing."""
        found: dict[str, np.ndarray] = {}
        for source in _sources(heard):
            rows = self._rows(source)
            if rows is None:
                return None
            found[source.name] = rows
        return found

    def missing(self, document: Session) -> list[str]:
        """Ids of the parts that are not analysed as they sound now."""
        return [
            part
            for part, heard in self._heard(document).items()
            if any(self._rows(source) is None for source in heard.sources())
        ]

    def part(self, document: Session, part_id: str) -> None:
        """Analyse one part over the whole song, and the groups it passes, unless that was done."""
        heard = self._heard(document).get(part_id)
        for source in heard.sources() if heard else ():
            self._analyse(document, source)

    def _analyse(self, document: Session, source: EarSource) -> None:
        with self._only_once(ears_name(source)):
            if self._rows(source) is not None:
                return
            frames = song_frames(document, self._recordings)
            blocks = self._in_steps(ear_blocks(document, self._recordings, source, 0, frames))
            rows = (pack(found) for found in ear_frames(blocks, document.rate))
            self._files.keep_rows(ears_name(source), rows, BANDS_HZ.size)

    def _in_steps(self, blocks: Iterator[np.ndarray]) -> Iterator[np.ndarray]:
        for block in blocks:
            self._step()
            yield block

    @contextmanager
    def _only_once(self, name: str) -> Iterator[None]:
        with self._lock:
            lock = self._locks.setdefault(name, threading.Lock())
        with lock:
            yield
        with self._lock:
            self._locks.pop(name, None)

    def _key(self, document: Session, heard: dict[str, InTheMix], families: Members) -> str:
        hits = {part.id: self._recordings.hits_s(part).tolist() for part in self.parts(document)}
        sections = [[s.id, s.start_s, s.end_s] for s in document.sections]
        return content_hash(
            [
                hearing_code(),
                [[part, one.facts()] for part, one in heard.items()],
                hits,
                sections,
                document.listening_level_db_spl,
                *([sorted((f, list(p)) for f, p in families.items())] if families else []),
            ]
        )

    def table(self, document: Session, families: Members = NO_FAMILIES) -> HiddenTable | None:
        """Who hides whom over the whole song, if every part is analysed; else None.

        With families the parts of each count as one sound.
        """
        known = self.known_table(document, families)
        if known is not None:
            return known
        parts = self._heard(document)
        made = self._make_table(document, parts, families)
        if made is None:
            return None
        key = self._key(document, parts, families)
        self._keep_table(key, made)
        return self._hold(key, HiddenTable(_rows_of(parts, families), **made))

    def known_table(self, document: Session, families: Members = NO_FAMILIES) -> HiddenTable | None:
        """The table if it was made before, else None: nothing is added up for it."""
        parts = self._heard(document)
        key = self._key(document, parts, families)
        with self._lock:
            found = self._tables.get(key)
        if found is not None:
            return found
        kept = self._files.arrays(key)
        rows = _rows_of(parts, families)
        return None if kept is None else self._hold(key, HiddenTable(rows, **kept))

    def _hold(self, key: str, table: HiddenTable) -> HiddenTable:
        if table.nbytes() <= TABLE_BYTES:
            with self._lock:
                self._tables[key] = table
        return table

    def _keep_table(self, key: str, arrays: dict[str, np.ndarray]) -> None:
        """Keep a table on disk if there is room; it is told all the same if there is none."""
        try:
            self._files.keep_arrays(key, arrays)
        except DiskFull as error:
            log.warning("a table was not kept: %s", error)

    def is_ready(self, document: Session) -> bool:
        """Whether the table can be had without rendering, or adding up, anything."""
        return self.known_table(document) is not None

    def losses(
        self, document: Session, hidden: str, by: str, places: np.ndarray | slice = slice(None)
    ) -> np.ndarray:
        """What one part takes of another by itself in each frame, in sones; empty while unheard."""
        parts = self._heard(document)
        if not {hidden, by} <= parts.keys():
            return np.empty(0)
        pair = [parts[hidden], parts[by]]
        rows = self._all_rows(pair)
        if rows is None:
            return np.empty(0)
        frames = max(one.shape[0] for one in rows.values())
        found = [np.empty(0)]
        for first in range(0, frames, BLOCK_FRAMES):
            self._step()
            size = min(BLOCK_FRAMES, frames - first)
            own, masker = (_excited(one, rows, document, first, size) for one in pair)
            alone = partial_loudness(own)
            lost = np.maximum(alone - partial_loudness(own, masker), 0.0)
            found.append(total_sone(lost[:, places]))
        return np.concatenate(found)

    def whole_table(self, document: Session, families: Members = NO_FAMILIES) -> HiddenTable:
        """The table, with everything analysed that it needs."""
        with ThreadPoolExecutor(CORES) as pool:
            work = [
                pool.submit(copy_context().run, self.part, document, part)
                for part in self.missing(document)
            ]
            for one in work:
                one.result()
        table = self.table(document, families)
        assert table is not None
        return table

    def _make_table(
        self, document: Session, parts: dict[str, InTheMix], families: Members
    ) -> dict | None:
        rows = self._all_rows(parts.values())
        if rows is None:
            return None
        frames = max((row.shape[0] for row in rows.values()), default=0)
        on_hits = [near_hits(self._recordings.hits_s(document.part(part)), frames) for part in parts]
        segments = [(round(s.start_s / FRAME_S), round(s.end_s / FRAME_S)) for s in document.sections]
        with ThreadPoolExecutor(CORES) as pool:
            maker = TableMaker(_rows_of(parts, families), segments, pool, step=self._step)
            block = frames_at_once(len(parts))
            for first in range(0, frames, block):
                size = min(block, frames - first)
                powers = self._powers(pool, list(parts.values()), rows, document, first, size)
                after_hits = np.stack([at[first : first + size] for at in on_hits])
                maker.add(first, *together(list(parts), powers, after_hits, families)[1:])
        return maker.table().arrays

    def _powers(
        self,
        pool: ThreadPoolExecutor,
        heard: list[InTheMix],
        rows: dict[str, np.ndarray],
        document: Session,
        first: int,
        size: int,
    ) -> np.ndarray:
        """Excitation by all parts in `size` frames from `first` on, float32 (parts, frames, places)."""
        powers = np.empty((len(heard), size, PLACES_HZ.size), np.float32)

        def hear(n: int) -> None:
            powers[n] = _excited(heard[n], rows, document, first, size)

        every = parts_between_rests(size)
        for _ in side_by_side(pool, hear, range(len(heard)), self._step, every):
            pass
        return powers


def _rows_of(parts: dict[str, InTheMix], families: Members) -> list[str]:
    nothing = np.zeros((len(parts), 0))
    return together(list(parts), nothing, nothing, families)[0] if parts else []


def _sources(heard: Iterable[InTheMix]) -> Iterator[EarSource]:
    for one in heard:
        yield from one.sources()


def _excited(
    heard: InTheMix, rows: dict[str, np.ndarray], document: Session, first: int, size: int
) -> np.ndarray:
    """Excitation by a part in `size` frames from `first` on, silent after its end."""

    def of(source: EarSource) -> np.ndarray:
        bands = np.zeros((size, BANDS_HZ.size), np.float32)
        found = unpack(rows[source.name][first : first + size])
        bands[: found.shape[0]] = found
        return bands if source.gain == 1.0 else bands * np.float32(source.gain)

    return excitation_of(heard.power(of), document.listening_level_db_spl).power
