"""From an input event to new sound in a real browser: the demo session, four moves on each part.

A control's handle is dragged 100 times while an 8 s loop plays: press, twelve moves of the mouse at
60 a second, release. Two times are taken of each drag, both up to the moment the sound is scheduled
in the audio context: from the first move to the first new sound, and from the last move to the
sound of the last value, which has to be the sound of what is stored; where a hall rings on from the
sound before, that is heard first, and the exact one has to come by itself. The bare time of the same
work in the core stands beside them. Left out, with a word, where Debian's chromium is not installed.
"""

from __future__ import annotations

import socket
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import NamedTuple

from playwright.sync_api import Page

from bench.timing import Host, Row
from pondel.core.document import Session
from pondel.core.engine.cache import ChunkCache
from pondel.core.engine.chunks import ChunkedSession
from pondel.core.engine.going_on import GoingOn
from pondel.core.engine.listen import make_plan, plan_region
from pondel.core.operations.chain import laid
from pondel.core.reading import parse_session, to_json
from pondel.demo.session import ensure_demo
from pondel.jobs.desk import MARK, Desk
from pondel.store.library import Library

ROOT = Path(__file__).parents[1]
STEPS = 12
STEP_MS = 16
REST_MS = 150
LOST_MS = 5000
CHAIN = (
    {"kind": "eq", "bands": [{"hz": 250, "gain_db": -2}, {"hz": 3000, "gain_db": 1.5}]},
    {"kind": "compressor", "threshold_db": -24, "ratio": 2.5},
    {"kind": "dynamic eq", "bands": [{"hz": 400, "range_db": -4}]},
)
WATCH = """() => {
  const track = document.querySelector('[aria-labelledby="name-threshold_db"]');
  window.seen = { inputs: [], swaps: [] };
  performance.setResourceTimingBufferSize(100000);
  track.addEventListener('pointermove', (e) => e.buttons && seen.inputs.push(e.timeStamp), true);
  const { player } = pondel;
  let last = player.lastSwap;
  Object.defineProperty(player, 'lastSwap', {
    get: () => last,
    set: (swap) => { last = swap; seen.swaps.push(swap); },
  });
  const { left, top, width, height } = track.getBoundingClientRect();
  return { left, width, middle: top + height / 2 };
}"""
ASKED = """() => performance.getEntriesByType('resource').filter((one) => one.name.endsWith('/edit')).map((one) => ({
  begun: one.startTime, sent: one.requestStart, first: one.responseStart, whole: one.responseEnd,
  spans: Object.fromEntries(one.serverTiming.map((each) => [each.name, each.duration])),
}))"""
STORED = """async () => {
  const { facts } = pondel.state;
  const sound = await fetch(`/sessions/${facts.id}/listen?hear=mix&revision=${facts.revision}`);
  const shown = document.querySelector('[aria-labelledby="name-threshold_db"]').ariaValueNow;
  return [(await sound.json()).hash, Number(shown)];
}"""
SETTLED = "() => document.getElementById('saved').ariaBusy === 'false'"


def chained(document: Session) -> Session:
    """Four moves on every part; the last one ducks for the drum."""
    leader = document.parts[0].id
    for part in document.parts:
        key = {"source": leader if part.id != leader else document.parts[1].id}
        for settings in (*CHAIN, {"kind": "compressor", "key": key, "threshold_db": -30}):
            document = laid(document, part.id, dict(settings), [])
    return document


def with_halls(document: Session) -> Session:
    """Each part sends to a hall of its own that rings for three seconds."""
    data = to_json(document)
    halls = []
    for part in data["parts"]:
        if part["source"] != "file":
            continue
        name = f"hall-{part['id']}"
        part["sends"] = [*part["sends"], {"to": name, "level_db": -14.0}]
        hall = {"id": "h", "kind": "reverb", "space": "hall", "decay_s": 3.0}
        halls.append(
            {
                "id": name,
                "name": f"Hall {part['name']}",
                "source": "sends",
                "file": None,
                "moves": [hall],
            }
        )
    data["parts"] += halls
    return parse_session(data)


def forty(document: Session) -> Session:
    """As many copies of the parts as make forty of them."""
    data = to_json(document)
    own = [part for part in data["parts"] if part["source"] == "file"]
    while len(data["parts"]) < 40:
        n = len(data["parts"])
        copy = {
            **own[n % len(own)],
            "id": f"copy{n}",
            "name": f"Copy {n}",
            "tag": None,
            "sends": [],
            "fader_db": -20.0,
        }
        data["parts"].append({**copy, "moves": []})
    return parse_session(data)


def bare_ms(desk: Desk, document: Session) -> float:
    """The chunk under the playhead after a change, in the core alone, everything else warm."""
    cache = ChunkCache()
    plan = make_plan(document, "mix")
    size = document.rate // 2
    plan_region(plan, ChunkedSession(document, desk.media, cache), 36 * size, 18 * size)
    data, times = to_json(document), []
    heard = ChunkedSession(document, desk.media, cache)
    for n in range(20):
        data["parts"][1]["moves"][3]["threshold_db"] = -31 - n / 10
        begun = time.perf_counter()
        chunked = ChunkedSession(parse_session(data), desk.media, cache)
        heard = GoingOn(chunked, heard)
        plan_region(plan, heard, (40 + n % 8) * size, size)
        times.append((time.perf_counter() - begun) * 1000)
    return statistics.median(times[4:])


class Drag(NamedTuple):
    """Times of one drag in milliseconds; `last` is none when the last value was never heard.

    `way` is what the last value's time is made of, step by step.
    """

    first: float
    last: float | None
    heard: int
    way: dict[str, float] | None = None


def _way(moved: float, scheduled: float, asked: list[dict]) -> dict[str, float]:
    """Where the time from the last move to its sound went, in milliseconds."""
    one = max((each for each in asked if each["whole"] <= scheduled), key=lambda each: each["begun"])
    spans = one["spans"]
    return {
        "behind the change before it": one["begun"] - moved,
        "to the server and back, and in its queue": one["whole"] - one["begun"] - spans["all"],
        "state on disk": spans["state"] - spans["facts"],
        "facts for the page": spans["facts"],
        "sound": spans.get("sound", 0.0),
        "rest of the answer": spans["all"] - spans["state"] - spans.get("sound", 0.0),
        "answer to schedule": scheduled - one["whole"],
    }


def _drag(page: Page, track: dict[str, float], n: int, stored_db: Callable[[], float]) -> Drag:
    """Drag the handle up or down in turn, each time to another value."""
    page.evaluate(
        "() => { seen.inputs.length = 0; seen.swaps.length = 0; performance.clearResourceTimings(); }"
    )
    span = track["width"] * (0.3 + 0.002 * n)
    begin, way = (0.2, 1) if n % 2 else (0.8, -1)
    at = [
        track["left"] + track["width"] * begin + way * span * step / STEPS for step in range(STEPS + 1)
    ]
    page.mouse.move(at[0], track["middle"])
    page.mouse.down()
    begun = time.perf_counter()
    for step, x in enumerate(at[1:], 1):
        time.sleep(max(0.0, begun + step * STEP_MS / 1000 - time.perf_counter()))
        page.mouse.move(x, track["middle"])
    page.mouse.up()
    ends = time.perf_counter() + LOST_MS / 1000
    while True:
        page.wait_for_timeout(REST_MS)
        inputs, swaps = page.evaluate("() => [seen.inputs, seen.swaps]")
        if len(inputs) < STEPS / 2:
            raise AssertionError(f"the control followed {len(inputs)} of {STEPS} moves")
        name, shown_db = page.evaluate(STORED)
        heard = [swap["scheduled"] for swap in swaps if swap["hash"].partition(MARK)[0] == name]
        if page.evaluate(SETTLED) and heard and swaps[-1]["hash"] == name:
            break
        if time.perf_counter() > ends:
            return Drag(swaps[0]["scheduled"] - inputs[0] if swaps else LOST_MS, None, len(swaps))
    if stored_db() != shown_db:
        raise AssertionError(f"{shown_db} dB is shown, {stored_db()} dB is stored")
    way = _way(inputs[-1], heard[0], page.evaluate(ASKED))
    return Drag(swaps[0]["scheduled"] - inputs[0], heard[0] - inputs[-1], len(swaps), way)


def free_port() -> int:
    """A port of this machine that nobody listens at."""
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        return free.getsockname()[1]


@contextmanager
def serving(data_dir: str) -> Iterator[str]:
    """The address of a server in a process of its own, as users have it."""
    port = free_port()
    command = [sys.executable, "-m", "pondel", "serve", "--data", data_dir, "--port", str(port)]
    with subprocess.Popen(command, stderr=subprocess.DEVNULL) as server:
        try:
            _until_open(port)
            yield f"http://127.0.0.1:{port}"
        finally:
            server.terminate()


def _until_open(port: int) -> None:
    ends = time.monotonic() + 60
    while True:
        with socket.socket() as probe:
            if probe.connect_ex(("127.0.0.1", port)) == 0:
                return
        if time.monotonic() > ends:
            raise TimeoutError("the server did not start")
        time.sleep(0.1)


AT_MOST = "at most 90 and 170 ms"
SCENES: dict[str, tuple[Callable[[Session], Session], int, str]] = {
    "8 parts x 4 moves": (chained, 100, AT_MOST),
    "the same with a hall of 3 s on every part": (
        lambda document: with_halls(chained(document)),
        100,
        AT_MOST,
    ),
    "40 parts x 4 moves": (lambda document: chained(forty(document)), 50, "at most 1.5 x the first"),
}
"""What is played, how many drags are made of it, and what is wanted."""


def _drags(made: Callable[[Session], Session], count: int) -> tuple[list[Drag], float, float]:
    """The drags, the bare time of the same work in ms, and what the host took of the time meanwhile."""
    sys.path.insert(0, str(ROOT / "tests"))
    from browser_tools import browsing, open_page

    with tempfile.TemporaryDirectory() as name:
        desk = Desk(Library(Path(name)))
        session_id = ensure_demo(desk)
        document = made(desk.library.head(session_id).document)
        busy = desk.library.create(document, rate_known=True)
        bare = bare_ms(desk, document)
        tuba = document.parts[1]

        def stored_db() -> float:
            return desk.library.head(busy).document.parts[1].moves[3].threshold_db

        with serving(name) as address, browsing() as browser:
            path = f"{address}/sessions/{busy}/moves?part={tuba.id}&move={tuba.moves[3].id}"
            page, _ = open_page(browser, path)
            page.evaluate("localStorage.setItem('pondel-lower', 'hit')")
            page.keyboard.press("Space")
            page.wait_for_timeout(14_000)
            track = page.evaluate(WATCH)
            host = Host()
            return [_drag(page, track, n, stored_db) for n in range(count)], bare, host.took()


def rows() -> list[Row]:
    if not Path("/usr/bin/chromium").exists():
        return [("edit to ear in the browser", "–", AT_MOST, "chromium is not installed")]
    return [row for scene in SCENES for row in _rows_of(scene)]


def _rows_of(scene: str) -> list[Row]:
    made, count, wanted = SCENES[scene]
    drags, bare, took = _drags(made, count)
    last = [drag.last for drag in drags if drag.last is not None]
    where = f"{scene}, {count} drags, median and 95th percentile"
    heard = statistics.median(drag.heard for drag in drags)
    return [
        (
            f"last move of a drag to its sound scheduled in the browser, {where}",
            _spread(last),
            wanted,
            f"bare work in the core {bare:.1f} ms; the last value was not heard in {count - len(last)} drags; "
            f"the host took {took:.0%} of the processor time meanwhile",
        ),
        (
            f"first move of a drag to the first new sound, {scene}",
            _spread([drag.first for drag in drags]),
            "for the record",
            f"{heard:.0f} sounds heard in a drag of {STEPS} moves at 60 a second (median)",
        ),
        *_trace(scene, drags),
    ]


def _trace(scene: str, drags: list[Drag]) -> list[Row]:
    """What the time of the last value is made of, each step by itself."""
    ways = [drag.way for drag in drags if drag.way]
    return [
        (
            f"of the last move's time, {scene}: {step}",
            _spread([way[step] for way in ways]),
            "for the record",
            "",
        )
        for step in (ways[0] if ways else {})
    ]


def _spread(times_ms: list[float]) -> str:
    times = sorted(times_ms)
    return f"{statistics.median(times):.0f} and {times[int(0.95 * (len(times) - 1))]:.0f} ms"
