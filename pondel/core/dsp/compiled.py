"""Compiled kernels, kept on disk under a hash of the code they were made of.

    @kernel(error_model="numpy")
    def twice(x): ...

The compiler's own cache looks at the file a kernel stands in, and when that was written: one that calls
a mended kernel of another file would stay as it was, and one of another clone of the same code, or of a
branch left and returned to, would be compiled again. So each state of the code, for each compiler and
processor, has a folder of its own, and nothing but the folder says whether a kernel is up to date.
"""

from __future__ import annotations

import hashlib
import logging
import os
import shutil
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from functools import partial
from pathlib import Path
from typing import Any
from urllib.parse import quote

import llvmlite
import llvmlite.binding as llvm
import numba
import numpy as np
import portalocker
from numba.core import caching
from platformdirs import user_cache_path

from pondel.core import made_by

LOG = logging.getLogger(__name__)
CACHE_SETTING = "PONDEL_CACHE"
STATES_KEPT = 3
WARM, STEP, INDEX_LOCK = "all-compiled", "compiled-", "index.lock"
RECORDINGS, HEARING = "recordings", "hearing"
"""The first steps of what is compiled: what measures a file, and what hears who hides whom."""
LOCKED = portalocker.LockFlags.EXCLUSIVE | portalocker.LockFlags.NON_BLOCKING


def _state() -> str:
    """Hash of all that decides what a kernel is compiled to: the code, the compiler, the processor."""
    processor = llvm.get_host_cpu_name(), llvm.get_host_cpu_features().flatten()
    parts = (made_by.kernels(), numba.__version__, llvmlite.__version__, np.__version__, *processor)
    return hashlib.sha256("\0".join(parts).encode()).hexdigest()[:16]


def _cache() -> Path | None:
    """A private folder for the kernels of this state of the code; None when there is none to be had."""
    asked = os.environ.get(CACHE_SETTING)
    base = (Path(asked).expanduser() if asked else user_cache_path("pondel")) / "kernels"
    folder = base / _state()
    try:
        folder.mkdir(parents=True, exist_ok=True, mode=0o700)
        os.utime(folder)
        for old in sorted(base.iterdir(), key=lambda path: -path.stat().st_mtime)[STATES_KEPT:]:
            shutil.rmtree(old, ignore_errors=True)
    except OSError:
        return None
    return folder if os.access(folder, os.W_OK) else None


_CACHE = _cache()


class _Place(caching.UserProvidedCacheLocator):
    """A kernel lies under the name of its module, wherever that is and whenever it was written."""

    @classmethod
    def from_function(cls, py_func: Any, py_file: str) -> _Place:
        return cls(py_func, py_file)

    def __init__(self, py_func: Any, py_file: str) -> None:
        assert _CACHE is not None
        self._py_file = py_file
        self._lineno = py_func.__code__.co_firstlineno
        self._cache_path = str(_CACHE / py_func.__module__)

    def get_source_stamp(self) -> str:
        return ""


class _ByModule(caching.CompileResultCacheImpl):
    _locator_classes = [_Place]  # noqa: RUF012


class _Kept(caching.FunctionCache):
    """The compiled forms of a kernel on disk; processes that compile at once add theirs in turn.

    An index is read, and written with one form more: what another process added meanwhile would be
    lost, and its file be written over. What cannot be kept, on a full disk or one without locks, and
    what is damaged, is compiled again.
    """

    _impl_class = _ByModule

    def load_overload(self, sig: Any, target_context: Any) -> Any:
        try:
            return super().load_overload(sig, target_context)
        except Exception as error:  # what a damaged file is read as, nobody can tell
            LOG.warning("a kept kernel is damaged and compiled anew: %s", error)
            self._write(self.flush)
            return None

    def save_overload(self, sig: Any, data: Any) -> None:
        self._write(partial(super().save_overload, sig, data))

    def _write(self, work: Callable[[], None]) -> None:
        assert _CACHE is not None
        try:
            _CACHE.mkdir(parents=True, exist_ok=True, mode=0o700)
            with portalocker.Lock(_CACHE / INDEX_LOCK, "a", flags=portalocker.LockFlags.EXCLUSIVE):
                work()
        except (OSError, portalocker.LockException) as error:
            LOG.warning("a compiled kernel could not be kept: %s", error)


def plain(block: np.ndarray) -> np.ndarray:
    """A block in float32, in order and writable, as what comes from a recording is.

    Kept chunks may not be written to, and what was turned or cut is not in order; a kernel would be
    compiled once more, for each of these, at their first use.
    """
    return np.require(block, np.float32, ("C", "W"))


def is_warm() -> bool:
    """Whether all kernels of this state of the code have been compiled; never without a cache."""
    return _CACHE is not None and (_CACHE / WARM).exists()


def reached(step: str) -> None:
    """Remember that the kernels of a step are compiled."""
    if _CACHE is not None:
        (_CACHE / _mark_of(step)).touch()


def is_compiled(step: str) -> bool:
    """Whether the kernels of a step have been compiled."""
    return is_warm() or (_CACHE is not None and (_CACHE / _mark_of(step)).exists())


def _mark_of(step: str) -> str:
    """The file that says so: a step's name may hold what no file's may."""
    return f"{STEP}{quote(step, safe='')}"


@contextmanager
def warming() -> Iterator[bool]:
    """Whether this process is to compile all kernels, one at a time; remembered once it has."""
    if _CACHE is None:
        yield True
        return
    try:
        with portalocker.Lock(_CACHE / f"{WARM}.lock", "a", flags=LOCKED):
            yield not is_warm()
            (_CACHE / WARM).touch()
    except portalocker.LockException:
        yield False


def kernel(**options: Any) -> Any:
    """A function compiled on first use, that releases the interpreter while it runs."""

    def compiled(function: Callable[..., Any]) -> Any:
        dispatcher = numba.njit(nogil=True, **options)(function)
        if _CACHE is not None:
            dispatcher._cache = _Kept(function)
        return dispatcher

    return compiled
