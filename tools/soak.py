"""A long soak: what a year of bad luck does to one folder, in some minutes; prints a table.

make soak                 # about a quarter of an hour
make soak SOAK=0.2        # a fifth of it
"""

from __future__ import annotations

import json
import os
import random
import sys
import tempfile
import threading
import time
from collections import Counter
from pathlib import Path

import numpy as np
import soundfile

TESTS = Path(__file__).parents[1] / "tests"
sys.path.insert(0, str(TESTS))
os.environ["PYTHONPATH"] = str(TESTS)

from attacks import test_bodies, test_kills  # noqa: E402
from attacks.test_archives import CASES  # noqa: E402
from attacks.test_disk import fill  # noqa: E402
from conftest import hits, sine  # noqa: E402
from test_uploads import NAMES, damaged  # noqa: E402
from web_tools import Caller, audio, jobs_of, until  # noqa: E402

from pondel.core.audio import files  # noqa: E402
from pondel.core.document import Session  # noqa: E402
from pondel.core.errors import PondelError  # noqa: E402
from pondel.jobs import sessions  # noqa: E402
from pondel.store.library import Library  # noqa: E402
from pondel.web import create_app  # noqa: E402

SIZE = float(os.environ.get("SOAK", "1"))
RATE = 48000


def times(count: int) -> int:
    return max(1, round(count * SIZE))


def uploads(folder: Path) -> str:
    """Damaged uploads: each becomes a part or a message."""
    app = create_app(folder)
    jobs, caller = jobs_of(app), Caller(app.test_client())
    jobs.start()
    song = jobs.library.create(Session(name="Song"))
    rng, tone = random.Random(7), sine(200, 0.1)
    kinds = [
        ("WAV", "PCM_24"),
        ("WAV", "FLOAT"),
        ("FLAC", "PCM_16"),
        ("AIFF", "PCM_24"),
        ("OGG", "VORBIS"),
    ]
    goods = [audio(tone, format=f, subtype=s) for f, s in [*kinds, ("MP3", "MPEG_LAYER_III")]]
    seen: Counter[str] = Counter()
    for _ in range(times(3000)):
        body = damaged(rng, goods)
        if len(jobs.library.head(song).document.parts) > 400:
            song = jobs.library.create(Session(name="Song"))
        answer = caller.upload(song, (rng.choice(NAMES), body))
        seen[str(answer.status_code)] += 1
    until(lambda: not jobs.arrivals.unfinished(), 600)
    table = jobs.library.tables.Arrival
    odd = [
        row.message
        for row in table.select()
        if row.state == "failed" and "inside Pondel" in row.message
    ]
    jobs.stop()
    assert set(seen) <= {"202", "400"} and not odd, (seen, odd[:3])
    return f"{sum(seen.values())} uploads, {seen['400']} refused at once, none failed inside"


def bodies(folder: Path) -> str:
    """Hostile edits from several seeds."""
    app = create_app(folder, immediate=True)
    app.config["PROPAGATE_EXCEPTIONS"] = False
    caller, library = Caller(app.test_client()), jobs_of(app).library
    song = library.create(Session(name="Song"))
    caller.upload(song, ("kick.wav", audio(hits(1.5))), ("tuba.wav", audio(sine(70, 1.5))))
    for kind in test_bodies.KINDS:
        caller.edit(song, op="give way", leader="kick", part="tuba", kind=kind)
    whole, seen = library.head(song).id, Counter[int]()
    for seed in range(times(5)):
        rng = random.Random(1000 + seed)
        for n in range(10_000):
            if n % 25 == 0:
                library.history.go_to(song, whole)
            head = library.head(song)
            body = test_bodies.hostile_body(rng, head.document, head.id)
            seen[caller.post(f"/sessions/{song}/edit", json=body).status_code] += 1
    assert not [status for status in seen if status >= 500], seen
    return f"{sum(seen.values())} edits, {seen[200]} made, the others refused in words"


def kills(folder: Path) -> str:
    """Kills during import, edits, prints and analysis; told against what is there afterwards."""
    given = folder / "given"
    given.mkdir()
    (given / "a.wav").write_bytes(audio(hits(20.0)))
    (given / "session.zip").write_bytes(test_kills.archive(20.0))
    rounds = times(6)
    for n in range(rounds):
        place = folder / f"round {n}"
        place.mkdir()
        test_kills.kill_in_a_loop(place, given, seed=n)
    return f"{rounds * test_kills.KILLS} kills, nothing lost that was answered"


def full_disks(folder: Path) -> str:
    """The disk runs full in the middle of arrivals and edits, again and again."""
    from attacks.servers import Server

    server = Server(folder / "small", disk_mb=64)
    disk, taken = server.inside(server.data_dir), 0
    try:
        server._ask(server._request("/sessions", b"name=Song", "application/x-www-form-urlencoded"))
        song = "/sessions/song"
        facts = lambda: json.loads(server.get(f"{song}/facts")[1])  # noqa: E731
        server.upload(f"{song}/arrivals", "first.wav", audio(sine(80, 1.0)))
        until(lambda: facts()["parts"], 60)
        last, rounds = 0.0, times(25)
        for n in range(rounds):
            ballast = fill(disk, leave_bytes=random.Random(n).choice([0, 1 << 14, 1 << 18, 1 << 20]))
            if n < 6:
                server.upload(f"{song}/arrivals", f"{n}.wav", audio(sine(90 + n, 1.0)))
            for k in range(30):
                now = facts()
                edit = {"op": "set part", "part": now["parts"][0]["id"], "field": "fader_db"}
                status, _ = server.post(
                    f"{song}/edit",
                    {"do": {**edit, "value": -k / 10 - n / 100}, "base": now["revision"]},
                )
                if status == 200:
                    taken, last = taken + 1, -k / 10 - n / 100
            for page in ("intake", "lanes", "hand-off"):
                assert server.get(f"{song}/{page}")[0] == 200
            ballast.unlink()
        document = json.loads(until(lambda: server.get(f"{song}/session.json"))[1])
        found = document["parts"][0]["fader_db"]
        assert abs(found - last) < 1e-9, (found, last)
        assert server.get("/sessions")[0] == 200
    finally:
        server.stop()
    return f"{rounds} full disks, {taken} edits taken meanwhile, the last one is there"


def archives(folder: Path) -> str:
    """Hostile archives, and good ones with a byte changed somewhere."""
    library = Library(folder)
    rng, good = random.Random(3), test_kills.archive(0.5)
    seen: Counter[str] = Counter()
    path = folder / "x.zip"
    for n in range(times(600)):
        body = bytearray(good)
        for _ in range(rng.choice([1, 3, 20])):
            body[rng.randrange(len(body))] = rng.randrange(256)
        path.write_bytes(bytes(body[: rng.randrange(len(body))] if n % 5 == 0 else body))
        seen[_import(library, path)] += 1
    for make, _ in CASES.values():
        path.write_bytes(make())
        seen[_import(library, path)] += 1
    library.close()
    return f"{sum(seen.values())} archives, {seen['told']} refused in words, {seen['in']} came in whole"


def _import(library: Library, path: Path) -> str:
    try:
        sessions.import_archive(library, path)
    except PondelError:
        return "told"
    return "in"


def long_files(folder: Path) -> str:
    """A recording and a print of more than 4 GiB, for real."""
    frames = round((1 << 32) / 8 * 1.01)
    source, target = folder / "long.flac", folder / "long.wav"
    block = np.random.default_rng(1).normal(0, 0.01, (1 << 20, 2)).astype("f4")
    written = 0
    with soundfile.SoundFile(str(source), "w", RATE, 2, "PCM_16", format="FLAC") as out:
        while written < frames:
            out.write(block[: frames - written])
            written += min(len(block), frames - written)
    files.convert(source, target, RATE)
    info = soundfile.info(str(target))
    assert info.frames == frames and files.probe(target).frames == frames
    with soundfile.SoundFile(str(target)) as whole, soundfile.SoundFile(str(source)) as first:
        for reader in (whole, first):
            reader.seek(frames - 1000)
        assert np.array_equal(whole.read(dtype="f4"), first.read(dtype="f4"))
    size = target.stat().st_size
    source.unlink(), target.unlink()
    return f"{size / 2**30:.2f} GiB written as {info.format}, every frame is there"


def pages(folder: Path) -> str:
    """One page asks for heavy figures without end; how long another one waits for a light answer."""
    app = create_app(folder)
    jobs, caller = jobs_of(app), Caller(app.test_client())
    jobs.start()
    song = jobs.library.create(Session(name="Song"))
    caller.upload(song, *((f"{n}.wav", audio(hits(60.0, hz=50 + 9 * n))) for n in range(8)))
    until(lambda: len(jobs.library.head(song).document.parts) == 11, 120)
    stop, waits = threading.Event(), []

    def hammer(page: str) -> None:
        client, n = app.test_client(), 0
        while not stop.is_set():
            n += 1
            where = f"page={page}&start_s=0&end_s={40 + n % 19}.{n % 7}"
            client.get(f"/sessions/{song}/lanes/ridges?where=loop&{where}")

    hammers = [threading.Thread(target=hammer, args=(f"heavy{n}",)) for n in range(3)]
    caller.client.get(f"/sessions/{song}/lanes/ridges?where=loop&page=warm&start_s=0&end_s=2")
    caller.client.get(f"/sessions/{song}/match?hear=mix&start_s=0&end_s=1&page=light")
    for one in hammers:
        one.start()
    for _ in range(times(60)):
        began = time.monotonic()
        caller.client.get(f"/sessions/{song}/match?hear=mix&start_s=0&end_s=1&page=light")
        waits.append(time.monotonic() - began)
    stop.set()
    for one in hammers:
        one.join()
    jobs.stop()
    middle, worst = np.median(waits), max(waits)
    return (
        f"beside three heavy pages a light answer took {middle:.2f} s (median), {worst:.2f} s at worst"
    )


SOAKS = (uploads, bodies, archives, kills, full_disks, pages, long_files)


def main() -> None:
    print("| what | result | seconds |\n|---|---|---|")
    for soak in SOAKS:
        with tempfile.TemporaryDirectory() as folder:
            began = time.monotonic()
            said = soak(Path(folder))
            name = soak.__doc__.splitlines()[0].rstrip(".")
            print(f"| {name} | {said} | {time.monotonic() - began:.0f} |", flush=True)


if __name__ == "__main__":
    main()
