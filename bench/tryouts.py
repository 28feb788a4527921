"""How long every way of a fight takes: 8 parts, a loop of 8 s, sounds known, nothing judged yet."""

from __future__ import annotations

import tempfile
import time
from pathlib import Path

import numpy as np
import soundfile

from bench.timing import RATE, Row, noise
from pondel.core.document import Session
from pondel.core.reading import parse_session
from pondel.jobs.desk import Desk
from pondel.jobs.sessions import take_file
from pondel.jobs.tryouts import Tried
from pondel.store.library import Library

LOOP_S, SONG_S = 8, 24
WANTED_S, FIRST_S = 6.0, 1.0


def thumps() -> np.ndarray:
    """A drum twice a second."""
    t = np.arange(SONG_S * RATE) / RATE
    since = (t - 0.1) % 0.5
    return (0.6 * np.sin(2 * np.pi * 55 * since) * np.exp(-since / 0.08))[:, None].astype(np.float32)


def _band(library: Library, folder: Path) -> Session:
    """A drum, a bass and six more."""
    parts = []
    for n in range(8):
        samples = thumps() if n == 0 else noise(SONG_S, 2, n)
        soundfile.write(folder / f"{n}.wav", samples, RATE, "PCM_24")
        role = {0: "kick", 1: "bass"}.get(n, "pad")
        file = take_file(library, folder / f"{n}.wav", RATE)
        parts.append({"id": f"p{n}", "name": f"P{n}", "role": role, "file": file})
    return parse_session({"name": "Bench", "rate": RATE, "parts": parts})


def _until_done(tried: Tried, begun: float) -> tuple[float, float]:
    """Seconds to the first point and to the last."""
    while not tried.points():
        time.sleep(0.005)
    first = time.perf_counter() - begun
    tried.finished.wait()
    return first, time.perf_counter() - begun


def rows() -> list[Row]:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        library = Library(folder / "data")
        desk = Desk(library)
        document = _band(library, folder)
        # What Lanes has heard before the ways are opened is known, and the kernels are compiled.
        desk.loops.table(document, 0, LOOP_S * RATE)
        desk.tryouts.begin(document, "p0", "p1", 0, LOOP_S * RATE).finished.wait()
        start = 4 * RATE
        desk.loops.table(document, start, LOOP_S * RATE)
        begun = time.perf_counter()
        tried = desk.tryouts.begin(document, "p0", "p1", start, LOOP_S * RATE)
        first_s, all_s = _until_done(tried, begun)
        count = len(tried.points())
        library.close()
    return [
        (
            f"every way of a fight ({count} settings), 8 parts, a loop of 8 s",
            f"{all_s:.1f} s, the first after {first_s:.2f} s",
            f"{WANTED_S:.0f} s, the first after {FIRST_S:.0f} s",
            f"{1000 * all_s / count:.0f} ms each",
        )
    ]
