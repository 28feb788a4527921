"""Sound rendered before it is asked for, while the edit that needs it is being answered."""

from __future__ import annotations

import logging
import threading
from concurrent.futures import Future, ThreadPoolExecutor

import numpy as np

from pondel.jobs.desk import Desk
from pondel.jobs.ear_first import EarFirst

log = logging.getLogger("pondel.jobs")


class Ahead:
    """Renders one chunk at a time; of those that wait only the newest is rendered.

    Whoever asks for the chunk meanwhile waits for this render and gets its result, or its error.
    """

    def __init__(self, desk: Desk, ear: EarFirst) -> None:
        self._desk = desk
        self._ear = ear
        self._pool = ThreadPoolExecutor(1, "pondel-ahead")
        self._lock = threading.Lock()
        self._newest = 0

    def begin(self, name: str, index: int) -> Future[np.ndarray | None]:
        """Start on chunk `index` of a prepared sound, and return at once.

        The result is the chunk, or None when a newer one was begun before this had its turn or
        when it cannot be rendered: that is told to the one who asks for it.
        """
        with self._lock:
            self._newest += 1
            ticket = self._newest

        def render() -> np.ndarray | None:
            if ticket != self._newest:
                return None
            try:
                with self._ear.hurry():
                    return self._desk.sound(name, index)
            except Exception:
                log.warning("chunk %d of %s was not made ahead of its time", index, name, exc_info=True)
                return None

        return self._pool.submit(render)
