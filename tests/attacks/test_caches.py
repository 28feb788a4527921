"""What is kept on disk to be fast: not believed when damaged, nor when older code made it."""

from __future__ import annotations

import os
import random
import shutil
import subprocess
import sys
import textwrap
from pathlib import Path

import numpy as np
import pytest
from conftest import NO_MEDIA, hits, sine
from web_tools import Caller, audio, jobs_of, until

from pondel.core import made_by
from pondel.core.bounded import Bounded
from pondel.core.document import Session
from pondel.core.engine import routing
from pondel.core.engine.spill import Spill
from pondel.jobs.desk import Desk
from pondel.store.analyses import Analyses
from pondel.store.folder import DataFolder
from pondel.store.library import Library
from pondel.web import create_app


@pytest.fixture
def analyses(tmp_path):
    return Analyses(DataFolder(tmp_path))


def kept_files(tmp_path) -> list[Path]:
    return sorted((tmp_path / "analyses").iterdir())


ARRAYS = {"a": np.arange(12.0).reshape(3, 4), "b": np.zeros((0, 3), "f4"), "c": np.array(7, "i2")}


def test_arrays_come_back_as_they_were(analyses):
    analyses.keep_arrays("x", ARRAYS)
    found = analyses.arrays("x")
    assert list(found) == list(ARRAYS)
    for name, array in ARRAYS.items():
        assert found[name].dtype == array.dtype and np.array_equal(found[name], array)
    rows = np.random.default_rng(1).normal(size=(1000, 7)).astype("f2")
    analyses.keep_rows("y", (rows[n : n + 90] for n in range(0, 1000, 90)), 7)
    assert np.array_equal(analyses.rows("y", 7), rows)
    analyses.keep_rows("none", iter([]), 7)
    assert analyses.rows("none", 7).shape == (0, 7)
    assert analyses.rows("y", 8) is None and analyses.rows("gone", 7) is None


def test_any_byte_that_changed_makes_a_file_worth_nothing(tmp_path, analyses):
    rng = random.Random(5)
    analyses.keep_arrays("x", ARRAYS)
    (path,) = kept_files(tmp_path)
    body = path.read_bytes()
    for n in range(len(body)):
        harmed = bytearray(body)
        harmed[n] ^= 1 << rng.randrange(8)
        path.write_bytes(harmed)
        assert analyses.arrays("x") is None, n
        assert not path.exists(), "what is damaged is thrown away"
    for size in range(len(body)):
        path.write_bytes(body[:size])
        assert analyses.arrays("x") is None, size
    for strange in (b"", bytes(5000), body + b"\0", b"pondel1\n" + bytes(100)):
        path.write_bytes(strange)
        assert analyses.arrays("x") is None
    path.mkdir()
    assert analyses.arrays("x") is None and not path.exists()


@pytest.mark.parametrize("harm", ["zeroed", "cut", "garbage"])
def test_a_damaged_analysis_is_made_again_and_is_no_failure(tmp_path, harm):
    app = create_app(tmp_path, immediate=True, testing=True)
    caller, jobs = Caller(app.test_client()), jobs_of(app)
    song = jobs.library.create(Session(name="Song"))
    caller.upload(song, ("kick.wav", audio(hits(2.0))), ("tuba.wav", audio(sine(70, 2.0))))
    address = f"/sessions/{song}/lanes/ridges"
    until(lambda: not caller.client.get(address).json["for_now"])
    good = caller.client.get(address).json
    for path in kept_files(tmp_path):
        body = path.read_bytes()
        path.write_bytes(
            {"zeroed": bytes(len(body)), "cut": body[:-9], "garbage": os.urandom(900)}[harm]
        )
    later = create_app(tmp_path, immediate=True, testing=True)
    again = Caller(later.test_client())
    until(lambda: not again.client.get(address).json["for_now"])
    assert again.client.get(address).json["lanes"] == good["lanes"]


@pytest.fixture
def copied(tmp_path):
    """The sources of the core, to be changed."""
    shutil.copytree(
        Path(made_by.ROOT) / "pondel" / "core",
        tmp_path / "pondel" / "core",
        ignore=shutil.ignore_patterns("__pycache__"),
    )
    return tmp_path


def change(root: Path, module: str) -> None:
    path = root.joinpath(*module.split(".")).with_suffix(".py")
    path.write_text(path.read_text() + "\n# mended\n")
    made_by._hash_of.cache_clear()


def test_a_hash_follows_what_a_module_uses_and_nothing_else(copied):
    def hashes() -> dict[str, str]:
        return {
            "sound": made_by.made_by("pondel.core.moves", "pondel.core.engine.graph", root=copied),
            "levels": made_by.made_by("pondel.core.measures.levels", root=copied),
            "kernels": made_by.kernels(copied),
        }

    first = hashes()
    assert first == hashes()
    change(copied, "pondel.core.dsp.ballistics")
    second = hashes()
    assert {name for name in first if first[name] != second[name]} == {"sound", "kernels"}
    change(copied, "pondel.core.advice.roles")
    assert hashes() == second
    change(copied, "pondel.core.dsp.compiled")
    assert set(hashes().items()).isdisjoint(second.items())
    with pytest.raises(KeyError):
        made_by.made_by("pondel.core.nothing", root=copied)


def test_sound_measures_and_analyses_of_older_code_are_not_found(tmp_path, monkeypatch):
    library = Library(tmp_path)
    session = Session.model_validate({"name": "x", "parts": [{"id": "a", "name": "A", "file": "a"}]})
    desk = Desk(library)
    before = routing.fingerprint(session, NO_MEDIA, ("a", "source"))
    key = desk.whole_mix._outline_key(session, 10)
    monkeypatch.setattr(routing, "made_by", lambda *_: "later")
    assert routing.fingerprint(session, NO_MEDIA, ("a", "source")) != before
    assert desk.whole_mix._outline_key(session, 10) != key
    library.close()


def test_a_mended_kernel_is_compiled_anew_where_another_file_calls_it(tmp_path):
    """Two states of a small core, run one after the other with one cache."""
    package = tmp_path / "pondel" / "core" / "dsp"
    package.mkdir(parents=True)
    for folder in (package, package.parent, package.parent.parent):
        (folder / "__init__.py").touch()
    core = Path(made_by.ROOT) / "pondel" / "core"
    shutil.copy(core / "made_by.py", package.parent)
    shutil.copy(core / "dsp" / "compiled.py", package)
    (package / "caller.py").write_text(
        textwrap.dedent(
            """
            from pondel.core.dsp.compiled import kernel
            from pondel.core.dsp.callee import step

            @kernel()
            def outer(x):
                return step(x) * 10
            """
        )
    )
    answers = []
    for factor in (2, 3):
        (package / "callee.py").write_text(
            "from pondel.core.dsp.compiled import kernel\n\n\n"
            f"@kernel()\ndef step(x):\n    return x * {factor}\n"
        )
        os.utime(package / "callee.py", (1e9, 1e9))
        run = subprocess.run(
            [sys.executable, "-c", "from pondel.core.dsp.caller import outer; print(outer(1))"],
            cwd=tmp_path,
            env={**os.environ, "PONDEL_CACHE": str(tmp_path / "cache"), "PYTHONPATH": str(tmp_path)},
            capture_output=True,
            text=True,
            check=True,
        )
        answers.append(int(run.stdout))
    assert answers == [20, 30]
    assert len(list((tmp_path / "cache" / "kernels").iterdir())) == 2


def test_tables_are_kept_by_bytes(tmp_path, monkeypatch):
    monkeypatch.setattr("pondel.jobs.analysis.TABLE_BYTES", 1000)
    app = create_app(tmp_path, immediate=True, testing=True)
    caller, jobs = Caller(app.test_client()), jobs_of(app)
    song = jobs.library.create(Session(name="Song"))
    caller.upload(song, ("kick.wav", audio(hits(1.0))), ("tuba.wav", audio(sine(70, 1.0))))
    table = jobs.desk.analysis.whole_table(jobs.library.head(song).document)
    assert table.nbytes() > 1000
    assert not jobs.desk.analysis._tables, "larger than all that may be held"
    assert jobs.desk.analysis.table(jobs.library.head(song).document).ids == table.ids


def test_all_that_could_be_made_again_shares_one_bound_and_is_swept_at_a_start(tmp_path):
    caches = Bounded(300_000)
    analyses = Analyses(DataFolder(tmp_path), caches)
    spill = Spill(tmp_path / "chunks", caches)
    sound = np.zeros((10_000, 2), "f4")
    for n in range(3):
        spill.put(("chunk", n), sound)
    analyses.keep_arrays("table", {"a": np.zeros(30_000, "f4")})
    assert spill.get(("chunk", 0)) is None and spill.get(("chunk", 2)) is not None
    assert analyses.arrays("table") is not None
    files = [path for path in tmp_path.rglob("*") if path.suffix in (".chunk", ".arrays")]
    assert sum(path.stat().st_size for path in files) == caches.bytes_held <= 300_000
    smaller = Bounded(130_000)
    spill, analyses = Spill(tmp_path / "chunks", smaller), Analyses(DataFolder(tmp_path), smaller)
    left = [path for path in tmp_path.rglob("*") if path.suffix in (".chunk", ".arrays")]
    assert sum(path.stat().st_size for path in left) == smaller.bytes_held <= 130_000
    assert left
