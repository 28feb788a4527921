"""The queue: long work in threads of the server, noted on disk before it is begun.

SQLite holds the queue unless PONDEL_REDIS_URL names a Redis server.
"""

from __future__ import annotations

import logging
import os
from collections.abc import Callable
from pathlib import Path

from huey import Huey, SqliteHuey
from huey.consumer import Consumer

WORKERS = 2
log = logging.getLogger("pondel.jobs")


def open_queue(data_dir: Path, *, immediate: bool = False) -> Huey:
    """The queue of one data folder; `immediate` runs work where it is asked for."""
    address = os.environ.get("PONDEL_REDIS_URL")
    if address and not immediate:
        from huey import RedisHuey

        return RedisHuey("pondel", url=address, results=False)
    return SqliteHuey("pondel", filename=str(data_dir / "queue.db"), results=False, immediate=immediate)


class Workers(Consumer):
    """The queue's workers as threads of this process; signals stay with the server."""

    def __init__(self, queue: Huey) -> None:
        super().__init__(
            queue, workers=WORKERS, periodic=False, initial_delay=0.02, backoff=1.1, max_delay=0.2
        )

    def _set_signal_handlers(self) -> None:
        pass


def guarded(work: Callable[[str], None], failed: Callable[[str, str], None]) -> Callable[[str], None]:
    """Work on one id whose unforeseen failure is logged and told, so that no worker dies of it."""

    def run(item_id: str) -> None:
        try:
            work(item_id)
        except Exception:
            log.exception("work on %s failed", item_id)
            failed(item_id, "something went wrong inside Pondel; the log has the details")

    return run
