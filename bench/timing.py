"""Fair timing: both sides in turn, the median of several rounds."""

from __future__ import annotations

import statistics
import time
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from multiprocessing import get_context
from pathlib import Path

import numpy as np

RATE = 48000
Row = tuple[str, str, str, str]
"""What was done, the ratio, what is wanted, and the times."""


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


class Host:
    """How much of the processor time that was asked for the host of this machine gave to others.

    Times of a busy hour say little: what a run was given stands beside them. From /proc/stat,
    proc(5): user, nice and system time, and what was stolen.
    """

    def __init__(self) -> None:
        self._begun = self._ticks()

    def _ticks(self) -> tuple[int, int]:
        names = Path("/proc/stat").read_text().split(maxsplit=9)[1:9]
        user, nice, system, _, _, _, _, stolen = map(int, names)
        return user + nice + system, stolen

    def took(self) -> float:
        """The share that was not given, 0 to 1, since this was made."""
        used, stolen = (now - then for now, then in zip(self._ticks(), self._begun, strict=True))
        return stolen / max(used + stolen, 1)


def noise(seconds_long: float, channels: int = 2, seed: int = 1) -> np.ndarray:
    """Noise that swells and fades, as float32 (frames, channels)."""
    frames = round(seconds_long * RATE)
    swell = 0.5 + 0.5 * np.sin(2 * np.pi * 0.9 * np.arange(frames) / RATE)
    random = np.random.default_rng(seed)
    return (random.standard_normal((frames, channels)) * 0.2 * swell[:, None]).astype(np.float32)


def peak_mb(work: Callable[..., None], *given: object) -> float:
    """Peak memory, in MB, of a process that does nothing but this."""
    with ProcessPoolExecutor(1, mp_context=get_context("spawn")) as fresh:
        return fresh.submit(_peak_after, work, *given).result()


def _peak_after(work: Callable[..., None], *given: object) -> float:
    work(*given)
    status = Path("/proc/self/status").read_text()
    (line,) = (line for line in status.splitlines() if line.startswith("VmHWM"))
    return int(line.split()[1]) / 1024
