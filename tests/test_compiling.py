"""A server lets a process of its own compile the kernels, once."""

from __future__ import annotations

import importlib.util
import os
import re
import subprocess
import sys
import urllib.request
from pathlib import Path

import portalocker
import pytest
from numba.core import caching

from pondel.core.dsp import compiled
from pondel.jobs import compiling

QUICK = "import time; time.sleep(600)"


@pytest.fixture
def cache(tmp_path, monkeypatch):
    monkeypatch.setattr(compiled, "_CACHE", tmp_path)
    return tmp_path


@pytest.fixture
def started(monkeypatch):
    """The processes that were started, each of which would go on for ten minutes."""
    found = []
    real = subprocess.Popen

    def start(command, **options):
        assert command == [sys.executable, "-m", "pondel.core.warming"]
        found.append(real([sys.executable, "-c", QUICK], **options))
        return found[-1]

    monkeypatch.setattr(compiling.subprocess, "Popen", start)
    return found


def test_it_is_said_and_given_up_when_the_server_stops(cache, started):
    said = []
    with compiling.compiling(said.append):
        (process,) = started
        assert process.poll() is None and "Compiling" in said[0]
    assert process.poll() is not None


def test_what_was_compiled_is_not_compiled_again(cache, started):
    with compiled.warming() as is_wanted:
        assert is_wanted and not compiled.is_warm()
    assert compiled.is_warm()
    with compiled.warming() as is_wanted:
        assert not is_wanted
    said = []
    with compiling.compiling(said.append):
        assert not started and not said


def test_one_that_fails_is_begun_again_and_two_do_not_do_it_at_once(cache):
    with pytest.raises(ValueError, match="broken"), compiled.warming():
        raise ValueError("broken")
    assert not compiled.is_warm()
    with compiled.warming() as first, compiled.warming() as second:
        assert first and not second


def test_without_a_cache_there_is_nothing_to_remember(monkeypatch):
    monkeypatch.setattr(compiled, "_CACHE", None)
    with compiled.warming() as is_wanted:
        assert is_wanted
    assert not compiled.is_warm()


KERNEL = """
from pondel.core.dsp.compiled import kernel

@kernel()
def twice(x):
    return x + x
"""


def kernel_of(folder, written_s=1e9):
    """A kernel from a module that was written there then."""
    path = folder / "doubling.py"
    folder.mkdir(exist_ok=True)
    path.write_text(KERNEL)
    os.utime(path, (written_s, written_s))
    spec = importlib.util.spec_from_file_location("doubling", path)
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    return module.twice


def test_a_kernel_is_found_by_another_clone_of_the_same_code(cache, tmp_path):
    """Wherever it lies and whenever it was written: what was marked as compiled must be."""
    one = kernel_of(tmp_path / "one")
    assert one(2) == 4 and sum(one.stats.cache_misses.values()) == 1
    for place, written_s in (("other", 1e9), ("one", 1.1e9)):
        other = kernel_of(tmp_path / place, written_s)
        assert other(2) == 4
        assert sum(other.stats.cache_hits.values()) == 1 and not other.stats.cache_misses


def test_another_compiler_or_processor_compiles_for_itself(monkeypatch):
    names = {compiled._state()}
    monkeypatch.setattr(compiled.llvm, "get_host_cpu_name", lambda: "another")
    names.add(compiled._state())
    monkeypatch.setattr(compiled.numba, "__version__", "0")
    names.add(compiled._state())
    assert len(names) == 3


def test_two_processes_do_not_add_to_an_index_at_once(cache, tmp_path, monkeypatch):
    saved = []
    save = caching.IndexDataCacheFile.save

    def saving(self, key, data):
        with (
            pytest.raises(portalocker.LockException),
            portalocker.Lock(cache / compiled.INDEX_LOCK, "a", flags=compiled.LOCKED),
        ):
            """Another process that would save now."""
        saved.append(key)
        save(self, key, data)

    monkeypatch.setattr(caching.IndexDataCacheFile, "save", saving)
    twice = kernel_of(tmp_path / "one")
    assert twice(2) == 4 and twice(2.0) == 4.0 and len(saved) == 2


@pytest.mark.parametrize("ending", ["nbi", "nbc"])
def test_a_damaged_file_is_compiled_anew_and_kept(cache, tmp_path, ending, caplog):
    """As a machine leaves it that lost its power."""
    assert kernel_of(tmp_path / "one")(2) == 4
    (kept,) = cache.rglob(f"*.{ending}")
    kept.write_bytes(kept.read_bytes()[:-7])
    assert kernel_of(tmp_path / "one")(2) == 4
    assert "damaged" in caplog.text
    again = kernel_of(tmp_path / "one")
    assert again(2) == 4 and sum(again.stats.cache_hits.values()) == 1


@pytest.mark.parametrize("trouble", [OSError, portalocker.LockException])
def test_what_cannot_be_kept_is_compiled_all_the_same(cache, tmp_path, monkeypatch, caplog, trouble):
    def full(*_):
        raise trouble("no space left")

    monkeypatch.setattr(caching.IndexDataCacheFile, "save", full)
    assert kernel_of(tmp_path / "one")(2) == 4
    assert "no space left" in caplog.text


def test_a_server_ended_by_a_supervisor_leaves_no_compiler_behind(tmp_path):
    command = [sys.executable, "-m", "pondel", "serve", "--data", str(tmp_path / "data"), "--port", "0"]
    environment = {**os.environ, compiled.CACHE_SETTING: str(tmp_path / "kernels")}
    with subprocess.Popen(command, env=environment, stderr=subprocess.PIPE, text=True) as server:
        address = re.search(r"http://\S+", server.stderr.readline())[0]
        with urllib.request.urlopen(f"{address}/sessions", timeout=60) as page:
            assert page.status == 200
        (compiler,) = Path(f"/proc/{server.pid}/task/{server.pid}/children").read_text().split()
        server.terminate()
        assert server.wait(60) == 0
    assert not Path(f"/proc/{compiler}").exists()
