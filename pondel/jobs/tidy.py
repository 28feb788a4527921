"""Tidying the data folder: check everything, empty what was set aside, give room back.

Nothing that a session names is deleted, nor what came in within the last day.
"""

from __future__ import annotations

import logging
import re
import sqlite3
import time
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path

from pondel.core.errors import PondelError
from pondel.jobs.recordings import MEASURES, measuring_code
from pondel.jobs.tasks import SERVING_LOCK
from pondel.store.copies import DATABASE, fault_of
from pondel.store.folder import ASIDE
from pondel.store.library import Library
from pondel.store.locks import InUse, hold

log = logging.getLogger("pondel.jobs")
GRACE_S = 24 * 3600
_NAMED = re.compile(r"media/[0-9a-f]{32}\.wav")


def tidy_up(library: Library) -> Iterator[str]:
    """Do it, telling what was done line by line. PondelError while a server works on the folder."""
    try:
        serving = hold(library.data_dir / SERVING_LOCK, str(library.data_dir))
    except InUse as error:
        raise PondelError("stop the Pondel that serves this folder first") from error
    try:
        fault = fault_of(library.data_dir / DATABASE)
        if fault:
            raise PondelError(
                f"the database is damaged ({fault}): put a copy back with `pondel restore` first"
            )
        yield from _check_recordings(library)
        elsewhere = _named_elsewhere(library)
        before = _named(library)
        removed = library.empty_removed()
        if removed:
            yield f"emptied {len(removed)} sessions that were set aside: {', '.join(removed)}"
        yield from _remove_unnamed(library, before, elsewhere)
        forgotten = library.measures.forget(measuring_code(), MEASURES)
        if forgotten:
            yield f"forgot {forgotten} measures taken by an older Pondel"
        library.compact()
        yield "the database is sound and compacted"
    finally:
        serving.release()


def _check_recordings(library: Library) -> Iterator[str]:
    """Read every recording; those that are damaged are named, and stay."""
    for card in library.sessions():
        document = library.head(card.id).document
        for part, message in library.media.faults(document, read_again=True).items():
            yield f"{card.name}, {document.part(part).name}: {message}"


def _named(library: Library) -> set[str]:
    """The recordings that some state of some session names."""
    return {file for text in library.all_documents() for file in _NAMED.findall(text)}


def _named_elsewhere(library: Library) -> set[str]:
    """The recordings that a copy of the database, or one that was set aside, names."""
    found: set[str] = set()
    for database in library.copies.databases():
        try:
            with closing(sqlite3.connect(f"file:{database}?mode=ro", uri=True)) as opened:
                for (text,) in opened.execute("select document from revision"):
                    found.update(_NAMED.findall(text))
        except sqlite3.Error as error:
            log.warning("%s cannot be read: %s", database, error)
    return found


def _remove_unnamed(library: Library, named_before: set[str], elsewhere: set[str]) -> Iterator[str]:
    """Recordings that no state of any session names, prints of no order, and what was set aside.

    What a copy of the database names stays: that copy may be put back.
    """
    named, orders = _named(library) | elsewhere, library.all_prints()
    freed = 0
    for path in library.folder.place("media").iterdir():
        file = f"media/{path.name}"
        if file not in named and (file in named_before or _is_old(path)):
            freed += _remove(library, path)
    for path in library.folder.place("prints").iterdir():
        if path.name not in orders:
            freed += _remove(library, path)
    for path in library.folder.place(ASIDE).iterdir():
        freed += _remove(library, path)
    if freed:
        yield f"gave {max(1, freed >> 20)} MB back"


def _is_old(path: Path) -> bool:
    return time.time() - path.stat().st_mtime > GRACE_S


def _remove(library: Library, path: Path) -> int:
    """Delete it; the bytes that were freed."""
    inside = [one for one in path.rglob("*") if one.is_file()] if path.is_dir() else [path]
    size = sum(one.stat().st_size for one in inside)
    library.folder.remove(path)
    return size
