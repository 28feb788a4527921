"""A server lets a process of its own compile the kernels, once."""

from __future__ import annotations

import subprocess
import sys

import pytest

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
