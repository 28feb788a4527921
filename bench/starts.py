"""How long somebody waits for Pondel itself: a first start, a later one, a first move of each kind, help."""

from __future__ import annotations

import os
import statistics
import subprocess
import sys
import tempfile
import time
import urllib.error
import urllib.request
from collections.abc import Iterator
from concurrent.futures import ProcessPoolExecutor
from contextlib import contextmanager
from dataclasses import dataclass
from multiprocessing import get_context
from pathlib import Path

from bench.ear import ROOT, free_port
from bench.timing import Row, seconds
from pondel.core.dsp.compiled import CACHE_SETTING
from pondel.core.moves.base import MoveKind
from pondel.core.moves.registry import KINDS
from pondel.demo.session import DEMO

PATIENCE_S = 300.0
ROUNDS = 5
TICKS = os.sysconf("SC_CLK_TCK")


@dataclass(frozen=True)
class Reached:
    """When something was reached: by the clock, and in processor time of all processes together."""

    wall_s: float
    processor_s: float


def _spent_s(first: int) -> float:
    """Processor time of a process and of all that came of it: /proc/*/stat, proc(5)."""
    parents, ticks = {}, {}
    for path in Path("/proc").glob("[0-9]*/stat"):
        try:
            fields = path.read_text().rpartition(")")[2].split()
        except OSError:
            continue
        parents[int(path.parent.name)] = int(fields[1])
        ticks[int(path.parent.name)] = sum(map(int, fields[11:15]))
    family = {first}
    while found := {one for one, parent in parents.items() if parent in family} - family:
        family |= found
    return sum(ticks.get(one, 0) for one in family) / TICKS


@contextmanager
def _demo(data_dir: Path, cache: Path | None) -> Iterator[tuple[int, str, float]]:
    """A demo server in a process of its own: the process, its address and when it was begun."""
    port = free_port()
    environment = {**os.environ, **({CACHE_SETTING: str(cache)} if cache else {})}
    command = [sys.executable, "-m", "pondel", "demo", "--data", str(data_dir), "--port", str(port)]
    begun = time.perf_counter()
    with subprocess.Popen(
        command, env=environment, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
    ) as server:
        try:
            yield server.pid, f"http://127.0.0.1:{port}/", begun
        finally:
            server.terminate()


def _starts(data_dir: Path, cache: Path | None) -> tuple[Reached, Reached]:
    """When the first page answers, and when the demo is open at Lanes."""
    with _demo(data_dir, cache) as (process, address, begun):
        first: Reached | None = None
        while time.perf_counter() - begun < PATIENCE_S:
            try:
                with urllib.request.urlopen(address, timeout=10) as page:
                    is_open = page.url.endswith("/lanes")
            except urllib.error.HTTPError:
                is_open = False
            except OSError:
                time.sleep(0.02)
                continue
            now = Reached(time.perf_counter() - begun, _spent_s(process))
            first = first or now
            if is_open:
                return first, now
            time.sleep(0.2)
    raise TimeoutError("the demo did not open")


def first_uses(data_dir: Path) -> dict[str, float]:
    """Seconds from a move's click to the half second under the playhead, each kind for the first time.

    In a process that has only loaded what a server loads; plain settings, so that no fight is measured,
    but where a kind ties two parts: there is nothing plain to it.
    """
    sys.path.insert(0, str(ROOT / "tests"))
    from web_tools import Caller, jobs_of

    from pondel.core.loading import load
    from pondel.web import create_app

    app = create_app(data_dir, testing=True)
    jobs_of(app).start()
    load()
    caller = Caller(app.test_client(), f"/sessions/{DEMO}/lanes")

    def heard() -> None:
        name = caller.client.get(f"/sessions/{DEMO}/listen?hear=mix").json["hash"]
        assert caller.client.get(f"/sound/{name}/9").status_code == 200

    def used(kind: MoveKind) -> None:
        ties = "tied_to" in kind.params.model_fields
        way = {"op": "give way", "leader": "bass-drum"} if ties else {"op": "add move"}
        answer = caller.edit(DEMO, part="tuba", kind=kind.name, **way)
        assert answer.status_code == 200, answer.text
        heard()

    heard()
    try:
        waited = {}
        for kind in sorted(KINDS.values(), key=lambda kind: kind.place):
            waited[kind.name] = seconds(lambda kind=kind: used(kind))
            caller.post(f"/sessions/{DEMO}/undo")
        return waited
    finally:
        jobs_of(app).stop()


def rows() -> Iterator[Row]:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        page, lanes = _starts(folder / "data", folder / "kernels")
        yield (
            "`pondel demo` with nothing compiled, played or measured, to its open page",
            f"{page.processor_s:.1f} s of processor time",
            "at most 17 s",
            f"{page.wall_s:.1f} s by the clock; to Lanes, all played and measured, {lanes.processor_s:.1f} s of "
            f"processor time, compiling beside it included, and {lanes.wall_s:.1f} s by the clock",
        )
        subprocess.run([sys.executable, "-m", "pondel.core.warming"], check=True)
        _starts(folder / "data", None)
        later = [_starts(folder / "data", None)[1] for _ in range(ROUNDS)]
        yield (
            "`pondel demo` once all is there, to Lanes",
            f"{statistics.median(one.wall_s for one in later):.1f} s",
            "under 2.5 s",
            f"{statistics.median(one.processor_s for one in later):.1f} s of processor time",
        )
        with ProcessPoolExecutor(1, mp_context=get_context("spawn")) as fresh:
            waited = fresh.submit(first_uses, folder / "data").result()
    slowest = max(waited, key=waited.__getitem__)
    yield (
        f"first use of a move in a server, kernels compiled, {len(waited)} kinds: click to sound, the slowest",
        f"{waited[slowest]:.2f} s",
        "at most 0.3 s",
        f"{slowest}; median {statistics.median(waited.values()):.2f} s",
    )
    command = [sys.executable, "-m", "pondel", "--help"]
    helped = [
        seconds(lambda: subprocess.run(command, check=True, stdout=subprocess.DEVNULL))
        for _ in range(ROUNDS)
    ]
    yield "`pondel --help`", f"{statistics.median(helped):.2f} s", "under 0.3 s", ""
