"""A full disk, told as such whoever meets it: the system, SQLite or the audio library."""

from __future__ import annotations

import errno
import shutil
import sqlite3
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import peewee
import soundfile

from pondel.core.errors import DiskFull, PondelError

FULL = {errno.ENOSPC, errno.EDQUOT}
LEAST_FREE_BYTES = 8 << 20
"""With less than this free, a write that failed is believed to have failed for want of room."""


def is_full(error: BaseException | None) -> bool:
    """Whether an error, or what it came of, is the system or SQLite saying that the disk is full."""
    while error is not None:
        if isinstance(error, DiskFull) or (isinstance(error, OSError) and error.errno in FULL):
            return True
        database = isinstance(error, sqlite3.OperationalError | peewee.OperationalError)
        if database and "disk is full" in str(error):
            return True
        error = error.__cause__ or error.__context__
    return False


def has_room(folder: Path, wanted_bytes: int = LEAST_FREE_BYTES) -> bool:
    """Whether so many bytes can be written in a folder."""
    return shutil.disk_usage(folder).free >= wanted_bytes


@contextmanager
def written_in(folder: Path) -> Iterator[None]:
    """What is done inside writes into a folder: DiskFull when it fails for want of room.

    The audio library does not say why a write failed, so the room that is left is looked at.
    """
    try:
        yield
    except DiskFull:
        raise
    except (OSError, peewee.OperationalError, sqlite3.OperationalError) as error:
        if is_full(error):
            raise DiskFull from error
        raise
    except (PondelError, soundfile.LibsndfileError) as error:
        if is_full(error) or not has_room(folder):
            raise DiskFull from error
        raise
