"""The queue: long work in threads of the server, noted on disk before it is begun.

SQLite holds the queue unless PONDEL_REDIS_URL names a Redis server.
"""

from __future__ import annotations

import hashlib
import logging
import os
from collections.abc import Callable

from huey import Huey, SqliteHuey
from huey.consumer import Consumer

from pondel.core.errors import BadRecording, PondelError
from pondel.store.copies import fault_of
from pondel.store.folder import PRIVATE_FILE, DataFolder
from pondel.store.room import is_full

WORKERS = 2
QUEUE = "queue.db"
log = logging.getLogger("pondel.jobs")


def open_queue(folder: DataFolder, *, immediate: bool = False) -> Huey:
    """The queue of one data folder; `immediate` runs work where it is asked for.

    What is to be done is known from arrivals and prints: a damaged file is set aside and made anew.
    """
    address = os.environ.get("PONDEL_REDIS_URL")
    if address and not immediate:
        from huey import RedisHuey

        name = f"pondel-{hashlib.sha256(str(folder.root).encode()).hexdigest()[:12]}"
        return RedisHuey(name, url=address, results=False)
    path = folder.root / QUEUE
    if path.exists() and (fault := fault_of(path)):
        for suffix in ("-wal", "-shm", ""):
            old = path.with_name(QUEUE + suffix)
            if old.exists():
                folder.set_aside(old, f"the queue was damaged: {fault}")
    path.touch(PRIVATE_FILE)
    return SqliteHuey("pondel", filename=str(path), results=False, immediate=immediate)


class Workers(Consumer):
    """The queue's workers as threads of this process; signals stay with the server."""

    def __init__(self, queue: Huey) -> None:
        super().__init__(
            queue, workers=WORKERS, periodic=False, initial_delay=0.02, backoff=1.1, max_delay=0.2
        )

    def _set_signal_handlers(self) -> None:
        pass


def guarded(
    work: Callable[[str], None],
    failed: Callable[[str, str], None],
    hungry: Callable[[str], None],
) -> Callable[[str], None]:
    """Work on one id whose failure is told, so that no worker dies of it.

    What cannot be told, or done, for want of room on the disk waits for it (`hungry`).
    """

    def run(item_id: str) -> None:
        try:
            message = _message_of(work, item_id)
            if message:
                failed(item_id, message)
        except Exception as error:
            if not is_full(error):
                raise
            hungry(item_id)

    return run


def _message_of(work: Callable[[str], None], item_id: str) -> str:
    """Do the work; what to tell when it fails, and an error only when the disk is full."""
    try:
        work(item_id)
    except Exception as error:
        if is_full(error):
            raise
        if isinstance(error, PondelError):
            return error.line() if isinstance(error, BadRecording) else error.message
        log.exception("work on %s failed", item_id)
        return "something went wrong inside Pondel; the log has the details"
    return ""
