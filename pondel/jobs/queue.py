"""The queue: long work in threads of the server, noted on disk before it is begun.

SQLite holds the queue unless PONDEL_REDIS_URL names a Redis server: then files and prints may be worked
at by processes of their own too (`pondel work`).
"""

from __future__ import annotations

import hashlib
import logging
import os
from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager

from huey import Huey, MemoryHuey, SqliteHuey
from huey.consumer import Consumer
from huey.serializer import SignedSerializer

from pondel.core.errors import BadRecording, PondelError
from pondel.store.copies import fault_of
from pondel.store.folder import PRIVATE_FILE, DataFolder
from pondel.store.locks import InUse
from pondel.store.room import is_full
from pondel.store.secret import secret_key

WORKERS = 2
QUEUE, SALT = "queue.db", "pondel queue"
log = logging.getLogger("pondel.jobs")


def redis_url() -> str | None:
    """The address of the Redis server that holds the queue, where one is named."""
    return os.environ.get("PONDEL_REDIS_URL") or None


def check_shared() -> None:
    """PondelError where no Redis server is named: then the server does all the work itself."""
    if redis_url() is None:
        raise PondelError(
            "no Redis server is named: without one the server takes files in and prints itself",
            where="PONDEL_REDIS_URL",
        )


def open_queue(folder: DataFolder, *, immediate: bool = False) -> Huey:
    """The queue of one data folder; `immediate` runs work where it is asked for.

    What is to be done is known from arrivals and prints: a damaged file is set aside and made again.
    Messages are signed with the secret of the folder: what anybody else wrote is never unpacked.
    """
    signed = SignedSerializer(secret=secret_key(folder.root).hex(), salt=SALT)
    address = redis_url()
    if address and not immediate:
        try:
            from huey import RedisHuey
            from redis.exceptions import RedisError
        except ImportError as error:
            raise PondelError(
                "the package redis is needed: pip install redis", where="PONDEL_REDIS_URL"
            ) from error

        name = f"pondel-{hashlib.sha256(str(folder.root).encode()).hexdigest()[:12]}"
        queue = RedisHuey(name, url=address, results=False, serializer=signed)
        try:
            queue.storage.conn.ping()
        except RedisError as error:
            raise PondelError("no Redis server answers there", where="PONDEL_REDIS_URL") from error
        return queue
    path = folder.root / QUEUE
    if path.exists() and (fault := fault_of(path)):
        for suffix in ("-wal", "-shm", ""):
            old = path.with_name(QUEUE + suffix)
            if old.exists():
                folder.set_aside(old, f"the queue was damaged: {fault}")
    path.touch(PRIVATE_FILE)
    return SqliteHuey(
        "pondel", filename=str(path), results=False, immediate=immediate, serializer=signed
    )


def own_queue(shared: Huey) -> Huey:
    """The queue of what only the server can do, since its pages ask how far it is."""
    return MemoryHuey("pondel-own", results=False) if redis_url() and not shared.immediate else shared


def is_away(error: Exception) -> bool:
    """Whether an error says that the queue's server cannot be reached."""
    return any(kind.__module__.startswith("redis.") for kind in type(error).__mro__)


class OncePerTrouble(logging.Filter):
    """Lets the same trouble with the queue be told once, until it works again or another comes."""

    def __init__(self) -> None:
        super().__init__()
        self._last = ""

    def filter(self, record: logging.LogRecord) -> bool:
        error = record.exc_info[1] if record.exc_info else None
        if not isinstance(error, Exception):
            return True
        is_new, self._last = str(error) != self._last, str(error)
        if isinstance(error, ValueError):
            record.msg, record.exc_info = "a message in the queue was not Pondel's: left out", None
        elif is_away(error):
            record.msg = f"the queue cannot be reached, work waits for it: {error}"
            record.exc_info = None
        return is_new


class Workers(Consumer):
    """A queue's workers as threads of this process; signals stay with the server."""

    def __init__(self, queue: Huey, workers: int = WORKERS) -> None:
        told = logging.getLogger("huey.consumer.Worker")
        if not any(isinstance(one, OncePerTrouble) for one in told.filters):
            told.addFilter(OncePerTrouble())
        super().__init__(
            queue, workers=workers, periodic=False, initial_delay=0.02, backoff=1.1, max_delay=0.2
        )

    def _set_signal_handlers(self) -> None:
        pass


class Errand:
    """What a queue does with things of one kind, each by its id.

    errand = Errand(queue, "print", print_it, tell_why_not, wait_for_room)
    errand("12ab")           # noted on disk, done by a worker

    Work that fails is told, so that no worker dies of it. What cannot be noted, told, or done, for want
    of room on the disk waits for it (`hungry`). Where the queue's server is away it is accepted all the
    same: it is listed on disk, and queued once the server is back.
    """

    def __init__(
        self,
        queue: Huey,
        name: str,
        work: Callable[[str], None],
        failed: Callable[[str, str], None],
        hungry: Callable[[str], None],
    ) -> None:
        self.at_once = queue.task(name=name)(_guarded(work, failed, hungry))
        """Queue an item; an error when the disk is full."""
        self._hungry = hungry

    def __call__(self, item_id: str) -> None:
        try:
            self.at_once(item_id)
        except Exception as error:
            if is_away(error):
                log.warning("the queue cannot be reached, work waits for it: %s", error)
                return
            if not is_full(error):
                raise
            self._hungry(item_id)


@contextmanager
def alone(folder: DataFolder, claim: str) -> Iterator[bool]:
    """Whether nobody else is at some work; nobody comes to be meanwhile."""
    with ExitStack() as held:
        try:
            held.enter_context(folder.claimed(claim))
        except InUse:
            yield False
            return
        yield True


def _guarded(
    work: Callable[[str], None],
    failed: Callable[[str, str], None],
    hungry: Callable[[str], None],
) -> Callable[[str], None]:
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
