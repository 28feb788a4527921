"""How far work is, told a few times a second; work that nobody wants any more ends."""

from __future__ import annotations

import time
from collections.abc import Callable

REPORT_EVERY_S = 0.15


class Cancelled(Exception):
    """Somebody stopped this work."""


class Every:
    """Passes progress on a few times a second; raises Cancelled when it is not wanted any more."""

    def __init__(self, report: Callable[[float], bool]) -> None:
        self._report = report
        self._last = 0.0

    def __call__(self, share: float) -> None:
        if time.monotonic() - self._last < REPORT_EVERY_S:
            return
        self._last = time.monotonic()
        if not self._report(share):
            raise Cancelled
