"""What sessions of 8 to 100 parts take, each in a process of its own: a song of a minute, 24 bits, stereo.

From the first file handed in to the numbers of the whole song, as a server works: two files at a time,
one part's loop, one edit, one step back. How the loop and the table grow is measured apart, on the first
parts of the largest session in turn: minutes lie between the sessions, and the machine is not the same.
"""

from __future__ import annotations

import statistics
import tempfile
import time
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ProcessPoolExecutor
from contextlib import contextmanager
from functools import partial
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
SONG_S, LOOP_S, LOOP_APART_S = 60.0, 8.0, 2.1
PATIENCE_S = 900.0
EDITS = 20
ROUNDS = 15
Growth = dict[int, list[tuple[float, float]]]
"""Seconds of a loop's fights, and of adding the whole table up, in each round, by the number of parts."""


def _stem(n: int, song_s: float) -> np.ndarray:
    """Notes or hits with some noise, another for each part, float32 (frames, 2)."""
    random = np.random.default_rng(n)
    t = np.arange(round(song_s * RATE)) / RATE
    every_s = random.choice([0.25, 0.5, 1.0])
    fall = np.exp(-(t % every_s) / (0.3 * every_s))
    hz = 55.0 * 2 ** random.uniform(0, 6)
    tone = sum(np.sin(2 * np.pi * k * hz * t + k) / k for k in (1, 2, 3))
    sound = 0.1 * fall * tone + 0.05 * noise(song_s, 1, n)[:, 0]
    return np.stack([sound, sound * random.uniform(0.5, 1.0)], axis=1).astype(np.float32)


def until(done: Callable[[], bool]) -> None:
    """Wait for a condition; TimeoutError when it never comes true."""
    ends = time.monotonic() + PATIENCE_S
    while not done():
        if time.monotonic() > ends:
            raise TimeoutError("it never came to an end")
        time.sleep(0.02)


def write_stems(folder: Path, count: int, song_s: float = SONG_S) -> None:
    """So many parts as files."""
    for n in range(count):
        soundfile.write(folder / f"part {n + 1:03}.wav", _stem(n, song_s), RATE, "PCM_24")


@contextmanager
def at_work(data_dir: Path) -> Iterator[tuple[Jobs, str]]:
    """A data folder's jobs, and the id of an empty session there."""
    library = Library(data_dir)
    song = library.create(Session(name="Budget"), rate_known=False)
    jobs = Jobs(library)
    jobs.start()
    try:
        yield jobs, song
    finally:
        jobs.stop()
        library.close()


def measured(count: int) -> tuple[dict[str, float], Growth]:
    """Seconds of each step with so many parts, and what the process took of memory in MB; of most, the growth."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        write_stems(folder, count)
        with at_work(folder / "data") as (jobs, song):
            found = {"parts": float(count), "import": seconds(lambda: take_in(jobs, song, folder))}
            document = jobs.library.head(song).document
            loop = round(LOOP_S * document.rate)
            found["loop"] = seconds(lambda: jobs.desk.loops.table(document, 0, loop))
            found["song"] = seconds(lambda: jobs.desk.analysis.whole_table(document))
            edit, back = _edits(jobs, song)
            found |= {"edit": edit, "undo": back, "memory": _peak_mb()}
            return found, _in_turn(jobs, document) if count == max(PARTS) else {}


def _in_turn(jobs: Jobs, document: Session) -> Growth:
    """Sessions of the first parts of one, each measured in every round, each with a level and a loop of its
    own: loops that shared some of the song would spare the later one some of the work."""
    times: Growth = {count: [] for count in PARTS}
    for n in range(ROUNDS):
        for at, count in enumerate(PARTS):
            level = {"listening_level_db_spl": document.listening_level_db_spl + 0.01 * (n + 1)}
            few = document.model_copy(update={"parts": document.parts[:count], **level})
            start_s = (n * len(PARTS) + at) * SONG_S / (ROUNDS * len(PARTS))
            start, frames = round(start_s * RATE), round(LOOP_APART_S * RATE)
            loop_s = seconds(partial(jobs.desk.loops.table, few, start, frames))
            times[count].append((loop_s, seconds(partial(jobs.desk.analysis.table, few))))
    return times


def take_in(jobs: Jobs, song: str, folder: Path) -> None:
    """Take all files of a folder in, and wait for it."""
    for path in sorted(folder.glob("*.wav")):
        with path.open("rb") as file:
            jobs.intake.take_in(jobs.arrivals.receive(song, path.name, file).id)
    until(lambda: not jobs.arrivals.of_session(song))


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
    backs = [seconds(lambda: jobs.library.history.undo(song)) for _ in range(EDITS // 2)]
    return statistics.median(edits), statistics.median(backs)


def _peak_mb() -> float:
    status = Path("/proc/self/status").read_text()
    (line,) = (line for line in status.splitlines() if line.startswith("VmHWM"))
    return int(line.split()[1]) / 1024


def rows() -> list[Row]:
    found, growth = [], {}
    for count in PARTS:
        with ProcessPoolExecutor(1, mp_context=get_context("spawn")) as fresh:
            one, growth = fresh.submit(measured, count).result()
            found.append(one)
    return [_row(one) for one in found] + [_slopes(found), _growth(growth)]


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


def _slope(parts: Sequence[float], costs: Sequence[float]) -> float:
    """How fast costs grow with the number of parts: 1 is in proportion, on logarithmic axes."""
    return float(np.polyfit(np.log(parts), np.log(costs), 1)[0])


def _slopes(found: list[dict[str, float]]) -> Row:
    parts = [one["parts"] for one in found]
    return (
        "how these grow from 8 to 100 parts (1: in proportion): files in; edit; memory",
        "; ".join(
            f"{_slope(parts, [one[name] for one in found]):.2f}"
            for name in ("import", "edit", "memory")
        ),
        "at most 1",
        "slope on logarithmic axes",
    )


def _growth(growth: Growth) -> Row:
    """Of few parts each has few others to be heard beside; from 24 on as many as are ever heard apart.

    The median of the rounds' slopes, and between which half of them lie: between two rounds the machine
    is not the same.
    """
    counts = sorted(growth)

    def slopes(counts: Sequence[int], what: int) -> str:
        costs = [[growth[count][n][what] for count in counts] for n in range(ROUNDS)]
        low, middle, high = statistics.quantiles([_slope(counts, one) for one in costs], n=4)
        return f"{middle:.2f} ({low:.2f} to {high:.2f})"

    def seconds_of(count: int) -> str:
        loops, songs = zip(*growth[count], strict=True)
        return f"{count}: {statistics.median(loops):.2f} and {statistics.median(songs):.2f} s"

    return (
        "how a loop's fights and the whole table grow from 24 to 100 parts, measured in turn (between these lie half of the rounds)",
        f"{slopes(counts[1:], 0)}; {slopes(counts[1:], 1)}",
        "at most 1",
        f"from 8 parts on, where each has seven others, {slopes(counts, 0)}; {slopes(counts, 1)}; "
        + "; ".join(seconds_of(count) for count in counts),
    )
