"""From an input event to new sound in a real browser: the demo session, four moves on each part.

Median and 95th percentile over 100 changes while an 8 s loop plays, beside the bare time of the same
work in the core. Left out, with a word, where Debian's chromium is not installed.
"""

from __future__ import annotations

import statistics
import sys
import tempfile
import time
from pathlib import Path

from bench.timing import Row
from pondel.core import move_edits
from pondel.core.document import Session, parse_session, to_json
from pondel.core.engine.chunks import ChunkCache, ChunkedSession
from pondel.core.engine.listen import make_plan, plan_region
from pondel.demo.session import ensure_demo
from pondel.jobs.desk import Desk
from pondel.store.library import Library

ROOT = Path(__file__).parents[1]
CHANGES = 100
CHAIN = (
    {"kind": "eq", "bands": [{"hz": 250, "gain_db": -2}, {"hz": 3000, "gain_db": 1.5}]},
    {"kind": "compressor", "threshold_db": -24, "ratio": 2.5},
    {"kind": "dynamic eq", "bands": [{"hz": 400, "range_db": -4}]},
)
CHANGE = """async (key) => {
  const track = document.querySelector('[aria-labelledby="name-threshold_db"]');
  const before = pondel.player.lastSwap?.hash;
  const begun = performance.now();
  track.dispatchEvent(new KeyboardEvent('keydown', { key, bubbles: true }));
  while (pondel.player.lastSwap?.hash === before) {
    if (performance.now() - begun > 5000) return null;
    await new Promise((next) => setTimeout(next, 1));
  }
  return pondel.player.lastSwap.scheduled - begun;
}"""


def chained(document: Session) -> Session:
    """Four moves on every part; the last one ducks for the drum."""
    leader = document.parts[0].id
    for part in document.parts:
        key = {"source": leader if part.id != leader else document.parts[1].id}
        for settings in (*CHAIN, {"kind": "compressor", "key": key, "threshold_db": -30}):
            document = move_edits.add_move(document, part.id, dict(settings))[1](document)
    return document


def bare_ms(desk: Desk, document: Session) -> float:
    """The chunk under the playhead after a change, in the core alone, everything else warm."""
    cache = ChunkCache()
    plan = make_plan(document, "mix")
    size = document.rate // 2
    plan_region(plan, ChunkedSession(document, desk.media, cache), 36 * size, 18 * size)
    data, times = to_json(document), []
    for n in range(20):
        data["parts"][1]["moves"][3]["threshold_db"] = -31 - n / 10
        begun = time.perf_counter()
        chunked = ChunkedSession(parse_session(data), desk.media, cache)
        plan_region(plan, chunked, (40 + n % 8) * size, size)
        times.append((time.perf_counter() - begun) * 1000)
    return statistics.median(times[4:])


def rows() -> list[Row]:
    if not Path("/usr/bin/chromium").exists():
        return [("edit to ear in the browser", "–", "for the record", "chromium is not installed")]
    sys.path.insert(0, str(ROOT / "tests"))
    from browser_tools import browsing, open_page, served

    with tempfile.TemporaryDirectory() as name:
        desk = Desk(Library(Path(name)))
        session_id = ensure_demo(desk)
        document = chained(desk.library.head(session_id).document)
        busy = desk.library.create(document, rate_known=True)
        bare = bare_ms(desk, document)
        tuba = document.parts[1]
        with served(Path(name)) as (address, _), browsing() as browser:
            path = f"{address}/sessions/{busy}/moves?part={tuba.id}&move={tuba.moves[3].id}"
            page, _ = open_page(browser, path)
            page.evaluate("localStorage.setItem('pondel-lower', 'hit')")
            page.keyboard.press("Space")
            page.wait_for_timeout(14_000)
            found = []
            for n in range(CHANGES):
                found.append(page.evaluate(CHANGE, "ArrowRight" if n % 40 < 20 else "ArrowLeft"))
                page.wait_for_timeout(120)
        times = sorted(ms for ms in found if ms is not None)
    lost = CHANGES - len(times)
    p95 = times[int(0.95 * (len(times) - 1))]
    return [
        (
            "input event to new sound scheduled in the browser, 8 parts x 4 moves, 100 changes, median and 95th percentile",
            f"{statistics.median(times):.0f} and {p95:.0f} ms",
            "for the record",
            f"bare work in the core {bare:.1f} ms; {lost} without an answer in 5 s",
        )
    ]
