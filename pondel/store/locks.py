"""Locks on files, which the system releases when a process ends, however it ends."""

from __future__ import annotations

from pathlib import Path
from typing import IO

import portalocker
from portalocker import LockFlags

from pondel.core.errors import PondelError


def unwritable(path: Path) -> PondelError:
    """What to say of a folder or file that cannot be written."""
    return PondelError(
        "cannot be written to: change its permissions, or choose another folder with --data",
        where=str(path),
    )


class InUse(PondelError):
    """Somebody else holds the lock."""


class Held:
    """A lock that is held until it is released or the process ends."""

    def __init__(self, file: IO[bytes]) -> None:
        self._file = file

    def release(self) -> None:
        """Give the lock back."""
        self._file.close()


def hold(path: Path, what: str, *, shared: bool = False, wait: bool = False) -> Held:
    """Hold a lock alone, or with others that share it; InUse says that `what` is in use.

    With `wait` it waits until the others have released theirs.
    """
    try:
        file = path.open("ab")
    except OSError as error:
        raise unwritable(path) from error
    kind = LockFlags.SHARED if shared else LockFlags.EXCLUSIVE
    try:
        portalocker.lock(file, kind if wait else kind | LockFlags.NON_BLOCKING)
    except portalocker.LockException as error:
        file.close()
        raise InUse(f"{what} is in use") from error
    return Held(file)
