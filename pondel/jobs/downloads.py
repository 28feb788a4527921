"""Downloads that are made while they are sent: so few at a time that other requests find a thread.

Response(downloads.streamed(stream_archive(...)))
"""

from __future__ import annotations

import threading
from collections.abc import Iterable, Iterator

from pondel.core.errors import Busy

MOST_AT_ONCE = 4


class Downloads:
    """The downloads of a server. Thread-safe."""

    def __init__(self) -> None:
        self._places = threading.BoundedSemaphore(MOST_AT_ONCE)

    def streamed(self, blocks: Iterable[bytes]) -> Download:
        """The same blocks, holding a place until they are closed; Busy where there is none."""
        if not self._places.acquire(blocking=False):
            raise Busy(f"{MOST_AT_ONCE} archives are being downloaded: try again when one is done")
        return Download(blocks, self._places)


class Download:
    """Blocks that are sent; its place is free once it is closed, whether any was taken or not."""

    def __init__(self, blocks: Iterable[bytes], places: threading.BoundedSemaphore) -> None:
        self._blocks = iter(blocks)
        self._free = [places.release]

    def __iter__(self) -> Iterator[bytes]:
        return self._blocks

    def close(self) -> None:
        close = getattr(self._blocks, "close", None)
        if close is not None:
            close()
        while self._free:
            self._free.pop()()
