"""A hundred parts in a real browser: played while their first fights are made, then scrolled through.

The parts of `bench.budget`, 15 s each. A second after Lanes was asked for somebody presses play. Told are
how long after that sound begins, how far ahead of the ear it is scheduled at least until ten seconds
after the fights are shown (below 0 it breaks off), and the frames while all rows pass by.
"""

from __future__ import annotations

import statistics
import sys
import tempfile
import time
from pathlib import Path

from bench import budget
from bench.ear import ROOT, serving
from bench.timing import Row

PARTS, SONG_S = 100, 15.0
BEFORE_PLAY_MS, WATCHED_MS = 1000, 10_000
PATIENCE_S = 120.0
WATCH = """
window.ahead_s = [];
setInterval(() => {
  const player = window.pondel?.player;
  if (player?.playing) ahead_s.push(player.layer.until - player.context.currentTime);
}, 25);
"""
SCROLL = """() => new Promise((done) => {
  const rows = document.getElementById('lanes-rows');
  const frames = [];
  const pass = (at) => {
    frames.push(at);
    const end = rows.scrollTop;
    rows.scrollTop += 24;
    if (rows.scrollTop > end) return requestAnimationFrame(pass);
    done(frames.slice(1).map((one, n) => one - frames[n]));
  };
  requestAnimationFrame(pass);
})"""


def rows() -> list[Row]:
    sys.path.insert(0, str(ROOT / "tests"))
    from browser_tools import browsing, open_page

    with tempfile.TemporaryDirectory() as name, browsing() as browser:
        folder = Path(name)
        budget.write_stems(folder, PARTS, SONG_S)
        with budget.at_work(folder / "data") as (jobs, song):
            budget.take_in(jobs, song, folder)
        with serving(str(folder / "data")) as address:
            page, _ = open_page(browser, f"{address}/sessions/{song}/intake")
            page.add_init_script(WATCH)
            asked = time.monotonic()
            page.goto(
                f"{address}/sessions/{song}/lanes?loop_start_s=0&loop_end_s=8", wait_until="commit"
            )
            page.wait_for_timeout(BEFORE_PLAY_MS)
            page.click("#play")
            pressed = time.monotonic()
            budget.until(lambda: page.evaluate("Boolean(window.pondel?.player?.playing)"))
            begun_s = time.monotonic() - pressed
            page.locator("#fights .fight").nth(3).wait_for(timeout=1000 * PATIENCE_S)
            shown_s = time.monotonic() - asked
            page.wait_for_timeout(WATCHED_MS)
            ahead_s = page.evaluate("ahead_s")
            page.click("#play")
            page.locator("#fights [data-again]").wait_for(state="detached", timeout=1000 * PATIENCE_S)
            frames_ms = page.evaluate(SCROLL)
    late = statistics.quantiles(frames_ms, n=20)[-1]
    return [
        (
            f"{PARTS} parts of {SONG_S:.0f} s, play pressed while their first fights are made: to sound; to the fights",
            f"{begun_s:.2f} s; {shown_s:.1f} s",
            "1 s; for the record",
            f"scheduled {1000 * min(ahead_s):.0f} ms ahead of the ear at least (no gap: over 0)",
        ),
        (
            f"a frame while the rows of {PARTS} parts pass by, median and 95th percentile",
            f"{statistics.median(frames_ms):.1f} and {late:.1f} ms",
            "16.7 ms in the median",
            f"{len(frames_ms)} frames",
        ),
    ]
