"""What sessions of 8 to 100 parts take, each in a process of its own: a song of a minute, 24 bits, stereo.

From the first file handed in to the numbers of the whole song, as a server works: two files at a time,
one part's loop, one edit, one step back.
"""

from __future__ import annotations

import statistics
import tempfile
import time
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from multiprocessing import get_context
from pathlib import Path

import numpy as np
import soundfile

from bench.timing import RATE, Row, noise, seconds
from pondel.core.document import Session
from pondel.core.engine.listen import make_plan, plan_region
from pondel.core.operations import parse_operation
from pondel.jobs.tasks import Jobs
from pondel.store.library import Library

PARTS = (8, 24, 50, 100)
SONG_S, LOOP_S = 60.0, 8.0
PATIENCE_S = 900.0
EDITS = 20


def stem(n: int) -> np.ndarray:
    """Notes or hits with some noise, another for each part, float32 (frames, 2)."""
    random = np.random.default_rng(n)
    t = np.arange(round(SONG_S * RATE)) / RATE
    every_s = random.choice([0.25, 0.5, 1.0])
    fall = np.exp(-(t % every_s) / (0.3 * every_s))
    hz = 55.0 * 2 ** random.uniform(0, 6)
    tone = sum(np.sin(2 * np.pi * k * hz * t + k) / k for k in (1, 2, 3))
    sound = 0.1 * fall * tone + 0.05 * noise(SONG_S, 1, n)[:, 0]
    return np.stack([sound, sound * random.uniform(0.5, 1.0)], axis=1).astype(np.float32)


def _until(done: Callable[[], bool]) -> None:
    ends = time.monotonic() + PATIENCE_S
    while not done():
        if time.monotonic() > ends:
            raise TimeoutError("it never came to an end")
        time.sleep(0.02)


def measured(count: int) -> dict[str, float]:
    """Seconds of each step with so many parts, and what the process took of memory in MB."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        for n in range(count):
            soundfile.write(folder / f"part {n + 1:03}.wav", stem(n), RATE, "PCM_24")
        library = Library(folder / "data")
        song = library.create(Session(name="Budget"), rate_known=False)
        jobs = Jobs(library)
        jobs.start()
        found = {"parts": float(count), "import": seconds(lambda: take_in(jobs, song, folder))}
        document = library.head(song).document
        loop = round(LOOP_S * document.rate)
        found["loop"] = seconds(lambda: jobs.desk.loops.table(document, 0, loop))
        found["song"] = seconds(lambda: jobs.desk.analysis.whole_table(document))
        edit, back = _edits(jobs, song)
        found |= {"edit": edit, "undo": back, "memory": _peak_mb()}
        jobs.stop()
        library.close()
        return found


def take_in(jobs: Jobs, song: str, folder: Path) -> None:
    for path in sorted(folder.glob("*.wav")):
        with path.open("rb") as file:
            jobs.intake.take_in(jobs.arrivals.receive(song, path.name, file).id)
    _until(lambda: not jobs.arrivals.of_session(song))


def _edits(jobs: Jobs, song: str) -> tuple[float, float]:
    """From an edit to the half second under the playhead, on disk and made; and a step back."""
    document = jobs.library.head(song).document
    part = document.parts[1].id
    jobs.desk.do(song, [parse_operation({"op": "add move", "part": part, "kind": "compressor"})])
    move = jobs.library.head(song).document.part(part).moves[0].id

    def edit(n: int) -> None:
        change = {"op": "set move", "part": part, "move": move, "field": "threshold_db"}
        revision = jobs.desk.do(song, [parse_operation({**change, "value": -20 - n})])
        now = jobs.desk.now(revision.document)
        plan_region(make_plan(revision.document, "mix"), now, 4 * RATE, RATE // 2)

    edit(0)
    edits = [seconds(lambda n=n: edit(n)) for n in range(1, EDITS)]
    backs = [seconds(lambda: jobs.library.undo(song)) for _ in range(EDITS // 2)]
    return statistics.median(edits), statistics.median(backs)


def _peak_mb() -> float:
    status = Path("/proc/self/status").read_text()
    (line,) = (line for line in status.splitlines() if line.startswith("VmHWM"))
    return int(line.split()[1]) / 1024


def rows() -> list[Row]:
    found = []
    for count in PARTS:
        with ProcessPoolExecutor(1, mp_context=get_context("spawn")) as fresh:
            found.append(fresh.submit(measured, count).result())
    return [_row(one) for one in found] + [_slopes(found)]


def _row(one: dict[str, float]) -> Row:
    count = one["parts"]
    table_share = one["song"] / SONG_S / (count / 24)
    return (
        f"{count:.0f} parts of a minute: files in; fights of a loop; whole song; an edit to its sound; a step back",
        f"{count * SONG_S / one['import']:.0f} x; {one['loop']:.1f} s; {table_share:.3f} of the song per 24 parts; "
        f"{1000 * one['edit']:.0f} ms; {1000 * one['undo']:.0f} ms",
        "over 100 x; 5 s; 0.1; 50 ms; 50 ms",
        f"{one['import']:.1f} s in, {one['song']:.1f} s whole; peak memory {one['memory']:.0f} MB",
    )


def _slopes(found: list[dict[str, float]]) -> Row:
    """How fast each grows with the number of parts: 1 is in proportion, on logarithmic axes.

    Of few parts each has few others to be heard beside; from 24 on each has as many as are ever heard.
    """

    def slope(name: str, among: list[dict[str, float]]) -> str:
        parts, costs = (np.log([one[what] for one in among]) for what in ("parts", name))
        return f"{np.polyfit(parts, costs, 1)[0]:.2f}"

    def slopes(among: list[dict[str, float]]) -> str:
        return "; ".join(slope(name, among) for name in ("import", "loop", "song", "edit", "memory"))

    return (
        "how these grow from 8 to 100 parts (1: in proportion): files in; loop; whole song; edit; memory",
        slopes(found),
        "at most 1",
        f"slope on logarithmic axes; from 24 to 100 parts {slopes(found[1:])}",
    )
