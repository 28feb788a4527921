"""The data folder: its places, what may be deleted in it, and work that is under way.

folder = DataFolder(Path("data"))
folder.place("prints")                  # a place of its own, made if need be
folder.remove(folder.place("prints") / "ab12")
with folder.scratch(".wav") as path:    # unfinished work; a later start sweeps what is left of it
    ...
"""

from __future__ import annotations

import logging
import os
import shutil
import time
import uuid
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path

from pondel.core.errors import PondelError
from pondel.store.locks import Held, InUse, hold, unwritable

PRIVATE = 0o700
PRIVATE_FILE = 0o600
INCOMING, ASIDE, CLAIMS = "incoming", "aside", "claims"
PASSING = (INCOMING, CLAIMS, "prints", "analyses", "chunks", "copies")
"""The places that may be deleted at any time; a recording's place is not one of them."""
WORK = "work-"
DAY_S = 24 * 3600
log = logging.getLogger("pondel.store")


class DataFolder:
    """One folder with all that Pondel keeps; nobody else on the machine may read it."""

    def __init__(self, root: Path) -> None:
        try:
            root.mkdir(parents=True, exist_ok=True, mode=PRIVATE)
            self.root = root.resolve()
            if self.root.stat().st_mode & 0o777 != PRIVATE:
                self.root.chmod(PRIVATE)
        except OSError as error:
            raise unwritable(root) from error
        self._work: tuple[Path, Held] | None = None

    def place(self, name: str) -> Path:
        """A folder right inside the data folder."""
        place = self.root / name
        try:
            place.mkdir(exist_ok=True, mode=PRIVATE)
        except OSError as error:
            raise unwritable(place) from error
        return place

    def make_places(self) -> None:
        """Make the places again that may go, where somebody took one away."""
        for name in PASSING:
            self.place(name)

    def remove(self, path: Path) -> None:
        """Delete a file or a folder that lies in one of the places, if it is there.

        PondelError for anything else: the data folder, a place, or what lies outside.
        """
        parent = path.parent.resolve()
        safe = path.name not in ("", ".", "..") and parent != self.root
        if not safe or not parent.is_relative_to(self.root):
            raise PondelError(f"{path.name!r:.60} is not Pondel's to delete")
        whole = parent / path.name
        if whole.is_dir() and not whole.is_symlink():
            shutil.rmtree(whole)
        else:
            whole.unlink(missing_ok=True)

    def set_aside(self, path: Path, why: str) -> Path:
        """Move something that is in the way into `aside/`, where `pondel tidy` empties it."""
        stamp = datetime.now(UTC).strftime("%Y%m%d-%H%M%S")
        target = self.place(ASIDE) / f"{stamp}-{uuid.uuid4().hex[:6]}-{path.name}"
        path.rename(target)
        log.warning("%s was set aside as %s: %s", path.name, target, why)
        return target

    @contextmanager
    def scratch(self, suffix: str = "") -> Iterator[Path]:
        """A path for unfinished work, removed afterwards if there is still something there."""
        path = self._own_work() / f"{uuid.uuid4().hex}{suffix}"
        try:
            yield path
        finally:
            self.remove(path)

    @contextmanager
    def scratch_folder(self) -> Iterator[Path]:
        """A folder for unfinished work, removed afterwards with all that is in it."""
        with self.scratch() as path:
            path.mkdir()
            yield path

    @contextmanager
    def claimed(self, what: str) -> Iterator[None]:
        """Work that no other process, and no other thread, does meanwhile; InUse when one does.

        The system gives the claim back when a process ends, however it ends.
        """
        claim = hold(self.place(CLAIMS) / what, what)
        try:
            yield
        finally:
            claim.release()

    def is_claimed(self, what: str) -> bool:
        """Whether somebody who lives is at this work."""
        if not (self.place(CLAIMS) / what).exists():
            return False
        try:
            with self.claimed(what):
                return False
        except InUse:
            return True

    def sweep_claims(self) -> None:
        """After a start: forget claims that nobody has held for a day."""
        for path in self.place(CLAIMS).iterdir():
            if time.time() - path.stat().st_mtime > DAY_S and not self.is_claimed(path.name):
                path.unlink(missing_ok=True)

    def _own_work(self) -> Path:
        """The folder of this process's unfinished work; its lock ends with the process."""
        if self._work is None or not self._work[0].is_dir():
            path = self.place(INCOMING) / f"{WORK}{uuid.uuid4().hex}"
            lock = hold(path.with_suffix(".lock"), "this work")
            path.mkdir()
            self._work = path, lock
        return self._work[0]

    def sweep(self, keep: set[str]) -> None:
        """After a start: remove what ended processes left in `incoming`, except the named uploads.

        What others are at work on stays; what cannot be removed is set aside, or left with a
        line in the log: nothing found here keeps Pondel from starting.
        """
        for path in sorted(self.place(INCOMING).iterdir()):
            if path.name in keep or not path.exists() or self._is_worked_at(path):
                continue
            try:
                self.remove(path)
            except OSError as error:
                self._leave(path, str(error))

    def _is_worked_at(self, path: Path) -> bool:
        """Whether a process that lives holds the lock of this work."""
        lock = path.with_suffix(".lock")
        if not path.name.startswith(WORK) or not lock.exists():
            return False
        try:
            hold(lock, "this work").release()
        except InUse:
            return True
        return False

    def _leave(self, path: Path, why: str) -> None:
        try:
            self.set_aside(path, why)
        except OSError as error:
            log.warning("%s is in the way and cannot be moved: %s", path, error)

    def close(self) -> None:
        """End this process's work."""
        if self._work is None:
            return
        path, lock = self._work
        self._work = None
        self.remove(path)
        self.remove(path.with_suffix(".lock"))
        lock.release()


def sync(path: Path) -> None:
    """Make a file, or a folder's list of names, safe against a power cut.

    Windows writes only what is open for writing, and keeps its lists of names safe by itself.
    """
    if os.name == "nt" and path.is_dir():
        return
    handle = os.open(path, os.O_RDWR if os.name == "nt" else os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)


def keep_bytes(path: Path, body: bytes) -> None:
    """Write a small private file that is there whole or not at all."""
    unfinished = path.with_name(f"{path.name}.{uuid.uuid4().hex[:8]}.part")
    try:
        handle = os.open(unfinished, os.O_WRONLY | os.O_CREAT | os.O_EXCL, PRIVATE_FILE)
        with os.fdopen(handle, "wb") as file:
            file.write(body)
            file.flush()
            os.fsync(file.fileno())
        unfinished.replace(path)
        sync(path.parent)
    finally:
        unfinished.unlink(missing_ok=True)
