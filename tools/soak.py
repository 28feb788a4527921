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


def working_day(folder: Path) -> str:
    """Four clients on two sessions for ten minutes: plans, ways, comparisons, edits, undo and sound."""
    from attacks.servers import Server

    songs = make_songs(folder)
    server = Server(folder / "data")
    watch = Watch(server, ends_at=time.monotonic() + 600 * SIZE)
    clients = [
        threading.Thread(target=work, args=(watch, song))
        for song, work in zip(songs * 2, (plans, ways, plays, compares), strict=True)
    ]
    for one in clients:
        one.start()
    for one in clients:
        one.join()
    server.stop()
    assert not watch.broken, watch.broken[:3]
    assert watch.done["plan"] >= 2 and watch.done["ways"] >= 2 and watch.done["sides"] >= 2, watch.done
    slowest = sorted(watch.slowest.items(), key=lambda one: -one[1])[:4]
    assert watch.threads <= 64 and watch.mb <= 1536 and slowest[0][1] <= 5.0, (watch, slowest)
    waits = ", ".join(f"{name} {seconds:.1f} s" for name, seconds in slowest)
    return (
        f"{watch.count} requests, none failed; finished: {dict(watch.done)}; at most {watch.threads} "
        f"threads, {watch.mb} MB; slowest answers: {waits}"
    )


def make_songs(folder: Path) -> list[str]:
    """Two sessions of six parts, 40 s each."""
    library, rng = Library(folder / "data"), np.random.default_rng(4)
    names = {"kick": 55, "bass": 62, "pad": 220, "keys": 330, "guitar": 300, "vocal": 440}
    songs = []
    for n in range(2):
        given = folder / f"stems {n}"
        given.mkdir()
        for name, hz in names.items():
            sound = (
                hits(40.0)
                if name == "kick"
                else sine(hz + n, 40.0, -14) + 0.4 * sine(2 * hz, 40.0, -14)
            )
            noise = rng.normal(0, 0.01, sound.shape).astype("f4")
            (given / f"{name}.wav").write_bytes(audio(sound + noise))
        paths = sorted(given.iterdir())
        songs.append(sessions.import_files(library, f"Song {n}", paths, refused=print))
    library.close()
    return songs


class Watch:
    """A server under watch: what failed, how long answers took, its threads and its memory."""

    def __init__(self, server, ends_at: float) -> None:
        self.server, self.ends_at = server, ends_at
        self.broken: list[tuple[str, int]] = []
        self.slowest: dict[str, float] = {}
        self.done: Counter[str] = Counter()
        self.count = self.threads = self.mb = 0

    def goes_on(self) -> bool:
        return time.monotonic() < self.ends_at and not self.broken

    def ask(self, what: str, path: str, body: dict | None = None) -> bytes:
        began = time.monotonic()
        status, answer = self.server.post(path, body) if body else self.server.get(path)
        self.slowest[what] = max(self.slowest.get(what, 0.0), time.monotonic() - began)
        self.count += 1
        if status >= 500 and status != 503:
            self.broken.append((path, status))
        facts = Path(f"/proc/{self.server.process.pid}/status").read_text()
        told = dict(line.split(":", 1) for line in facts.splitlines() if ":" in line)
        self.threads = max(self.threads, int(told["Threads"]))
        self.mb = max(self.mb, int(told["VmRSS"].split()[0]) >> 10)
        return answer

    def facts(self, song: str) -> dict:
        return json.loads(self.ask("facts", f"/sessions/{song}/facts"))

    def edit(self, song: str, **operation: object) -> None:
        facts = self.facts(song)
        self.ask("edit", f"/sessions/{song}/edit", {"do": operation, "base": facts["revision"]})

    def until_done(self, what: str, path: str) -> None:
        """Ask as a page does until it says no more that it is to be asked again."""
        while self.goes_on():
            if b"data-poll" not in self.ask(what, path):
                self.done[what] += 1
                return
            time.sleep(0.7)


def plans(watch: Watch, song: str) -> None:
    """Plan, change a fader, plan again."""
    n = 0
    while watch.goes_on():
        watch.until_done("plan", f"/sessions/{song}/plan")
        n += 1
        watch.edit(song, op="set part", part="pad", field="fader_db", value=-(n % 5))


def ways(watch: Watch, song: str) -> None:
    """Every way in one fight after another."""
    n = 0
    while watch.goes_on():
        path = f"/sessions/{song}/ways?part=bass&leader=kick&start_s={n % 20}&end_s={n % 20 + 6}"
        watch.until_done("ways", path)
        n += 1


def plays(watch: Watch, song: str) -> None:
    """Edits and undo, and the sound of a loop after each."""
    n = 0
    while watch.goes_on():
        watch.edit(song, op="set part", part="bass", field="fader_db", value=-(n % 7) / 2)
        heard = json.loads(watch.ask("listen", f"/sessions/{song}/listen?hear=mix"))
        for index in range(4):
            watch.ask("sound", f"/sound/{heard['hash']}/{index}")
        if n % 3 == 2:
            watch.ask("undo", f"/sessions/{song}/undo", {"base": watch.facts(song)["revision"]})
        watch.ask("lanes", f"/sessions/{song}/lanes")
        n += 1


def compares(watch: Watch, song: str) -> None:
    """Variants side by side over changing loops, with fights and evidence."""
    n = 0
    while watch.goes_on():
        where = f"start_s={n % 25}&end_s={n % 25 + 8}"
        watch.until_done("sides", f"/sessions/{song}/proof/sides?{where}")
        watch.ask("fights", f"/sessions/{song}/lanes/fights?page=four&{where}")
        watch.ask("evidence", f"/sessions/{song}/evidence?leader=kick&yielder=bass&page=four&{where}")
        n += 1


SOAKS = (working_day, uploads, bodies, archives, kills, full_disks, pages, long_files)


def main() -> None:
    """Run all of them, or those that are named."""
    print("| what | result | seconds |\n|---|---|---|")
    for soak in (one for one in SOAKS if one.__name__ in sys.argv[1:] or len(sys.argv) == 1):
        with tempfile.TemporaryDirectory() as folder:
            began = time.monotonic()
            said = soak(Path(folder))
            name = soak.__doc__.splitlines()[0].rstrip(".")
            print(f"| {name} | {said} | {time.monotonic() - began:.0f} |", flush=True)


if __name__ == "__main__":
    main()
