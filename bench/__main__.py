"""`make bench`: prints the ratios and writes docs/benchmarks.md."""

from __future__ import annotations

import os
import platform
import resource
import statistics
import time
from collections.abc import Iterator
from datetime import date
from pathlib import Path

from bench import budget, crowd, ear, hearing, history, moves, printing, starts, tryouts
from bench.timing import RATE, Host, Row, noise, seconds, side_by_side
from pondel.core.audio.media import ArrayMedia
from pondel.core.document import Session
from pondel.core.engine import render
from pondel.core.engine.cache import ChunkCache
from pondel.core.engine.chunks import ChunkedSession
from pondel.core.engine.listen import make_plan, plan_region
from pondel.core.moves.compressor import CompressorProcessor
from pondel.core.reading import parse_session, to_json

SONG_S = 60
BLOCK = 16384
DOCS = Path(__file__).parents[1] / "docs" / "benchmarks.md"


def song(parts: int, moves: int, seconds_long: float) -> tuple[Session, ArrayMedia]:
    """Parts that all duck for the first one."""
    sounds = {f"p{n}": noise(seconds_long, 1 + n % 2, n) for n in range(parts)}
    data = {"name": "Bench", "rate": RATE, "parts": []}
    for n in range(parts):
        chain = [
            {
                "id": f"m{k}",
                "kind": "compressor",
                "key": {"source": "p0", "high_cut_hz": 120} if n else None,
                "threshold_db": -30 - k,
                "release_ms": 90,
            }
            for k in range(moves)
        ]
        data["parts"].append({"id": f"p{n}", "name": f"P{n}", "file": f"p{n}", "moves": chain})
    return parse_session(data), ArrayMedia(sounds)


def change() -> Row:
    """From a changed parameter to the next second of the mix, everything else unchanged."""
    session, media = song(12, 4, 10)
    cache = ChunkCache()
    start, frames = 3 * RATE, RATE
    base = ChunkedSession(session, media, cache)
    plan_region(make_plan(session, "mix"), base, RATE, 8 * RATE)
    data = to_json(session)
    times, bare = [], []
    source = base.region(("p3", "source"), start, frames)
    key = base.region(("p0", "source"), start, frames)
    for n in range(25):
        data["parts"][3]["moves"][1]["threshold_db"] = -40 - n / 10
        begun = time.perf_counter()
        edited = parse_session(data)
        chunked = ChunkedSession(edited, media, cache)
        plan_region(make_plan(edited, "mix"), chunked, start, frames)
        times.append(time.perf_counter() - begun)
        chain = edited.part("p3").moves

        def alone(chain=chain) -> None:
            block = source
            for move in chain:
                block = CompressorProcessor(move, RATE, block.shape[1]).process(block, key)

        bare.append(seconds(alone))
    whole, least = statistics.median(times[5:]), statistics.median(bare[5:])
    return (
        "changed parameter to the next second of the mix, 12 parts x 4 moves, caches warm",
        f"{whole / least:.1f} x",
        "3 x the moves alone, or 15 ms",
        f"{whole * 1000:.1f} ms; the changed part's moves alone {least * 1000:.1f} ms",
    )


def growth() -> Row:
    session, media = song(6, 2, 20)
    wide, wide_media = song(12, 2, 20)
    for one, recordings in ((session, media), (wide, wide_media)):
        render.region(one, recordings, "mix", 0, RATE)

    def whole(one: Session, recordings: ArrayMedia, frames: int) -> None:
        for _ in render.blocks(one, recordings, ["mix"], 0, frames):
            pass

    def plain() -> None:
        whole(session, media, 10 * RATE)

    once, more = side_by_side(plain, lambda: whole(wide, wide_media, 10 * RATE))
    again, longer = side_by_side(plain, lambda: whole(session, media, 20 * RATE))
    return (
        "cost of twice the parts, and of twice the length",
        f"{more / once:.2f} x, {longer / again:.2f} x",
        "at most 2.2 x",
        f"{more * 1000:.0f} against {once * 1000:.0f} ms, {longer * 1000:.0f} against {again * 1000:.0f} ms",
    )


def measured() -> Iterator[Row]:
    """Everything that is measured, as it becomes known."""
    yield printing.memory()
    yield from hearing.rows()
    yield from moves.rows()
    yield change()
    yield growth()
    for others in (tryouts, starts, ear, history, budget, crowd):
        yield from others.rows()


def main() -> None:
    host = Host()
    rows: list[Row] = []
    for row in measured():
        rows.append(row)
        print(" | ".join(row), flush=True)
    cores = len(os.sched_getaffinity(0))
    head = (
        "# Benchmarks\n\n"
        "    make bench\n\n"
        "prints these ratios; both sides of each are measured in turn in one run, medians.\n\n"
        f"{date.today()}, {platform.machine()}, {cores} cores, Python {platform.python_version()}, "
        f"peak memory of the run {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss // 1024} MB; "
        f"the host took {host.took():.0%} of the processor time for others.\n\n"
        "| work | measured | wanted | times |\n|---|---|---|---|\n"
    )
    text = head + "".join(f"| {' | '.join(row)} |\n" for row in rows)
    DOCS.write_text(text)


if __name__ == "__main__":
    main()
