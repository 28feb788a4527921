"""Fair timing: both sides in turn, the median of several rounds."""

from __future__ import annotations

import statistics
import time
from collections.abc import Callable


def seconds(work: Callable[[], object]) -> float:
    """Wall time of one call."""
    begun = time.perf_counter()
    work()
    return time.perf_counter() - begun


def side_by_side(
    ours: Callable[[], object], theirs: Callable[[], object], rounds: int = 9
) -> tuple[float, float]:
    """Median seconds of both, measured in turn after a warm-up."""
    ours(), theirs()
    pairs = [(seconds(ours), seconds(theirs)) for _ in range(rounds)]
    return statistics.median(p[0] for p in pairs), statistics.median(p[1] for p in pairs)
