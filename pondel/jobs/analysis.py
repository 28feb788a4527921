"""The whole song as it is heard: each part analysed once, and the table of who hides whom.

analysis = Analysis(library, recordings)
analysis.missing(document)        # parts whose sound has not been analysed yet
analysis.part(document, "tuba")   # analyse one of them
analysis.table(document)          # the table, or None while parts are missing
"""

from __future__ import annotations

import logging
import threading
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager

import numpy as np
from cachetools import LRUCache

from pondel.core.document import Part, Session, content_hash
from pondel.core.engine.ears import EarSource, ear_blocks, ear_source
from pondel.core.engine.graph import song_frames
from pondel.core.errors import DiskFull
from pondel.core.hearing.excitation import excitation_of
from pondel.core.hearing.hidden import near_hits
from pondel.core.hearing.loudness import partial_loudness, total_sone
from pondel.core.hearing.packing import pack, unpack
from pondel.core.hearing.scale import BANDS_HZ, PLACES_HZ
from pondel.core.hearing.spectra import FRAME_S, ear_frames
from pondel.core.hearing.table import HiddenTable, TableMaker
from pondel.core.made_by import made_by
from pondel.jobs.recordings import Recordings
from pondel.store.analyses import Analyses
from pondel.store.library import Library

log = logging.getLogger("pondel.jobs")
BLOCK_FRAMES = 1000
CORES = 2
TABLE_BYTES = 256 << 20


def hearing_code() -> str:
    """Which code hears a part, and adds parts up."""
    return made_by("pondel.core.hearing", "pondel.core.engine.ears")


class Analysis:
    """Analyses of whole songs, kept by content. Thread-safe."""

    def __init__(
        self, library: Library, recordings: Recordings, step: Callable[[], None] = lambda: None
    ) -> None:
        self._library = library
        self._recordings = recordings
        self._step = step
        self._files = Analyses(library.folder)
        self._locks: dict[str, threading.Lock] = {}
        self._lock = threading.Lock()
        self._tables: LRUCache[str, HiddenTable] = LRUCache(TABLE_BYTES, HiddenTable.nbytes)

    def sweep(self) -> None:
        """After a start: what is not an analysis goes."""
        self._files.sweep()

    def parts(self, document: Session) -> list[Part]:
        """The parts that reach the mix and have sound of their own, as far as it can be read."""
        faults = self._library.media.faults(document)
        return [part for part in document.audible() if part.source == "file" and part.id not in faults]

    def _sources(self, document: Session) -> dict[str, EarSource]:
        memo: dict = {}
        return {
            part.id: ear_source(document, self._recordings, part, memo) for part in self.parts(document)
        }

    @staticmethod
    def _name(source: EarSource) -> str:
        return f"ears {hearing_code()} {source.name}"

    def missing(self, document: Session) -> list[str]:
        """Ids of the parts that are not analysed as they sound now."""
        sources = self._sources(document)
        return [
            part
            for part, source in sources.items()
            if self._files.rows(self._name(source), BANDS_HZ.size) is None
        ]

    def part(self, document: Session, part_id: str) -> None:
        """Analyse one part over the whole song, unless that was done."""
        source = self._sources(document).get(part_id)
        if source is None:
            return
        name = self._name(source)
        with self._only_once(name):
            if self._files.rows(name, BANDS_HZ.size) is not None:
                return
            frames = song_frames(document, self._recordings)
            blocks = self._in_steps(ear_blocks(document, self._recordings, source, 0, frames))
            rows = (pack(found) for found in ear_frames(blocks, document.rate))
            self._files.keep_rows(name, rows, BANDS_HZ.size)

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

    def _key(self, document: Session, sources: dict[str, EarSource]) -> str:
        hits = {part.id: self._recordings.hits_s(part).tolist() for part in self.parts(document)}
        sections = [[s.id, s.start_s, s.end_s] for s in document.sections]
        return content_hash(
            [
                hearing_code(),
                [[part, source.name, source.gain] for part, source in sources.items()],
                hits,
                sections,
                document.listening_level_db_spl,
            ]
        )

    def table(self, document: Session) -> HiddenTable | None:
        """Who hides whom over the whole song, if every part is analysed; else None."""
        known = self.known_table(document)
        if known is not None:
            return known
        sources = self._sources(document)
        made = self._make_table(document, sources)
        if made is None:
            return None
        key = self._key(document, sources)
        self._keep_table(key, made)
        return self._hold(key, HiddenTable(list(sources), **made))

    def known_table(self, document: Session) -> HiddenTable | None:
        """The table if it was made before, else None: nothing is added up for it."""
        sources = self._sources(document)
        key = self._key(document, sources)
        with self._lock:
            found = self._tables.get(key)
        if found is not None:
            return found
        kept = self._files.arrays(key)
        return None if kept is None else self._hold(key, HiddenTable(list(sources), **kept))

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
        sources = self._sources(document)
        level = document.listening_level_db_spl
        heard: list[tuple[np.ndarray, float]] = []
        for part in (hidden, by):
            source = sources.get(part)
            rows = self._files.rows(self._name(source), BANDS_HZ.size) if source else None
            if source is None or rows is None:
                return np.empty(0)
            heard.append((rows, source.gain))
        frames = min(rows.shape[0] for rows, _ in heard)
        found = [np.empty(0)]
        for first in range(0, frames, BLOCK_FRAMES):
            self._step()
            block = slice(first, min(first + BLOCK_FRAMES, frames))
            own, masker = (
                excitation_of(unpack(rows[block]), level, gain).power for rows, gain in heard
            )
            alone = partial_loudness(own)
            lost = np.maximum(alone - partial_loudness(own, masker), 0.0)
            found.append(total_sone(lost[:, places]))
        return np.concatenate(found)

    def whole_table(self, document: Session) -> HiddenTable:
        """The table, with everything analysed that it needs."""
        with ThreadPoolExecutor(CORES) as pool:
            list(pool.map(lambda part: self.part(document, part), self.missing(document)))
        table = self.table(document)
        assert table is not None
        return table

    def _make_table(self, document: Session, sources: dict[str, EarSource]) -> dict | None:
        names = [self._name(source) for source in sources.values()]
        rows = [self._files.rows(name, BANDS_HZ.size) for name in names]
        if any(row is None for row in rows):
            return None
        frames = max((row.shape[0] for row in rows if row is not None), default=0)
        at = {part.id: self._recordings.hits_s(part) for part in self.parts(document)}
        on_hits = [near_hits(at[part], frames) for part in sources]
        segments = [(round(s.start_s / FRAME_S), round(s.end_s / FRAME_S)) for s in document.sections]
        gains = [source.gain for source in sources.values()]
        level = document.listening_level_db_spl
        with ThreadPoolExecutor(CORES) as pool:
            maker = TableMaker(list(sources), segments, pool)
            for first in range(0, frames, BLOCK_FRAMES):
                self._step()
                size = min(BLOCK_FRAMES, frames - first)

                def heard(n: int, first: int = first, size: int = size) -> np.ndarray:
                    out = np.zeros((size, PLACES_HZ.size), np.float32)
                    bands = unpack(rows[n][first : first + size])  # type: ignore[index]
                    out[: bands.shape[0]] = excitation_of(bands, level, gains[n]).power
                    return out

                powers = np.stack(list(pool.map(heard, range(len(rows)))))
                maker.add(first, powers, np.stack([at[first : first + size] for at in on_hits]))
        return maker.table().arrays
