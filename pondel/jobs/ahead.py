"""Sound rendered before it is asked for: an edit's answer and the render of its sound overlap."""

from __future__ import annotations

import threading
from concurrent.futures import ThreadPoolExecutor

from pondel.core.errors import PondelError
from pondel.jobs.desk import Desk
from pondel.jobs.ear_first import EarFirst


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

    def begin(self, name: str, index: int) -> None:
        """Start on chunk `index` of a prepared sound, and return at once."""
        with self._lock:
            self._newest += 1
            ticket = self._newest

        def render() -> None:
            if ticket != self._newest:
                return
            try:
                with self._ear.hurry():
                    self._desk.sound(name, index)
            except PondelError:
                # It will be met again, and told, by the one who asks for this chunk.
                return

        self._pool.submit(render)
