"""Sound for tests is synthesised here."""

from __future__ import annotations

import pondel  # isort: skip  # noqa: F401 (settles the threads of numpy, as where Pondel serves)

import shutil
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest
import soundfile
from numba.core import event

from pondel.core.audio.media import ArrayMedia
from pondel.core.document import Session
from pondel.core.dsp import compiled
from pondel.core.reading import parse_session, to_json
from pondel.store.library import Library

RATE = 48000
SLOWEST = (
    "test_walk", "test_page", "test_browser", "test_accessibility", "test_keys", "test_treatments",
    "test_two_servers", "test_demo", "test_addresses", "test_arrangement", "test_tryouts", "test_cli",
    "test_ways", "test_proof_page", "test_kills", "test_advice", "test_plan_page",
)  # fmt: skip
"""Files that take long: processes that share the tests begin with them, so that none is left alone."""


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Let the slowest files come first."""
    place = {name: n for n, name in enumerate(SLOWEST)}
    items.sort(key=lambda item: place.get(item.path.stem, len(SLOWEST)))


class Compiling(event.Listener):
    """Notes the kernels of the core that this process compiles, with what they are compiled for."""

    def __init__(self) -> None:
        self.noted: list[str] = []

    def on_start(self, event: event.Event) -> None:
        function = event.data["dispatcher"].py_func
        if function.__module__.startswith("pondel.core."):
            self.noted.append(f"{function.__module__}.{function.__name__}{event.data['args']}")

    def on_end(self, event: event.Event) -> None:
        """It is the start that counts."""


COMPILING = Compiling()
if compiled.is_warm():
    event.register("numba:compile", COMPILING)


@pytest.fixture(autouse=True)
def nothing_is_compiled() -> Iterator[None]:
    """Where all kernels are said to be compiled, no use waits for one."""
    COMPILING.noted.clear()
    yield
    assert COMPILING.noted == []


def sine(hz: float, seconds: float, level_db: float = -12.0, rate: int = RATE) -> np.ndarray:
    """A mono sine with the given peak level, float32 (frames, 1)."""
    t = np.arange(round(seconds * rate)) / rate
    return (10 ** (level_db / 20) * np.sin(2 * np.pi * hz * t)).astype(np.float32)[:, None]


def hits(seconds: float, every_s: float = 0.5, rate: int = RATE, hz: float = 60.0) -> np.ndarray:
    """Decaying thumps, mono float32 (frames, 1), the first at 0.1 s."""
    out = np.zeros(round(seconds * rate))
    t = np.arange(round(0.3 * rate)) / rate
    thump = 0.7 * np.sin(2 * np.pi * hz * t) * np.exp(-t / 0.08)
    for at in np.arange(0.1, seconds, every_s):
        first = round(at * rate)
        room = out[first : first + thump.size]
        room += thump[: room.size]
    return out.astype(np.float32)[:, None]


def session_of(*parts: dict, **fields) -> Session:
    """A session from short part dictionaries; a part's file is its id unless it says otherwise."""
    whole = [{"name": part["id"].title(), "file": part["id"], **part} for part in parts]
    return parse_session({"name": "Test", "parts": whole, **fields})


NO_MEDIA = ArrayMedia({})


def unfinished(library: Library) -> list[Path]:
    """The files that lie in `incoming/`: uploads, and work that is under way."""
    found = library.media.incoming.rglob("*")
    return [path for path in found if path.is_file() and path.suffix != ".lock"]


@pytest.fixture
def duck() -> tuple[Session, ArrayMedia]:
    """Four seconds of a tuba ducked by a drum."""
    rng = np.random.default_rng(7)
    media = ArrayMedia(
        {
            "drum": hits(4.0),
            "tuba": np.hstack([sine(70, 4.0), sine(110, 4.0)])
            + rng.normal(0, 0.01, (4 * RATE, 2)).astype(np.float32),
        }
    )
    move = {
        "id": "m1",
        "kind": "compressor",
        "key": {"source": "drum", "high_cut_hz": 120},
        "threshold_db": -30,
        "attack_ms": 2,
        "release_ms": 90,
    }
    session = session_of({"id": "drum", "role": "kick"}, {"id": "tuba", "moves": [move]})
    return session, media


@pytest.fixture(scope="session")
def browser():
    from browser_tools import browsing

    with browsing() as browser:
        yield browser


@pytest.fixture(scope="module")
def server(tmp_path_factory):
    from browser_tools import served

    with served(tmp_path_factory.mktemp("data")) as found:
        yield found


@pytest.fixture(scope="module")
def files(request, tmp_path_factory):
    """A drum and a steady tuba as files, as long as the module's SONG_S."""
    folder, seconds = tmp_path_factory.mktemp("files"), getattr(request.module, "SONG_S", 8.0)
    tuba = np.repeat(sine(70, seconds, -12), 2, axis=1)
    soundfile.write(folder / "kick.wav", hits(seconds), RATE, "PCM_24")
    soundfile.write(folder / "tuba.wav", tuba, RATE, "PCM_24")
    (folder / "notes.wav").write_text("not audio")
    return folder


@pytest.fixture(scope="module")
def song(server, files, browser):
    """A session filled by choosing files at Intake."""
    from browser_tools import open_page, until

    address, jobs = server
    session_id = jobs.library.create(Session(name="Song"))
    page, errors = open_page(browser, f"{address}/sessions/{session_id}/intake")
    page.set_input_files("#files", [str(p) for p in sorted(files.iterdir())])
    page.wait_for_selector("text=not an audio file")
    until(page, "document.querySelectorAll('#stage .intake-table tbody tr').length === 2")
    assert page.input_value('[aria-label="Name of Kick"]') == "Kick"
    page.click("text=Put away")
    page.wait_for_selector("text=not an audio file", state="detached")
    assert errors == []
    page.context.close()
    return session_id


@pytest.fixture
def own_song(server, song):
    """A session of the same recordings that no other test changes."""
    jobs = server[1]
    data = to_json(jobs.library.head(song).document)
    for part in data["parts"]:
        part["moves"] = []
    return jobs.library.create(parse_session(data), rate_known=True)


@pytest.fixture(scope="module")
def filled(request, tmp_path_factory):
    """A data folder with a session of the module's STEMS, come in through the door, and its id."""
    from web_tools import Caller, jobs_of

    from pondel.web import create_app

    folder = tmp_path_factory.mktemp("filled")
    app = create_app(folder, immediate=True, testing=True)
    session_id = jobs_of(app).library.create(Session(name="Song"))
    assert (
        Caller(app.test_client()).upload(session_id, *request.module.STEMS.items()).status_code == 202
    )
    jobs_of(app).library.database.close()
    return folder, session_id


@pytest.fixture
def app(filled, tmp_path):
    """An application over a copy of that folder."""
    from pondel.web import create_app

    folder = shutil.copytree(filled[0], tmp_path / "data")
    return create_app(folder, immediate=True, testing=True, max_upload_mb=8)


@pytest.fixture
def caller(app):
    from web_tools import Caller

    return Caller(app.test_client())
