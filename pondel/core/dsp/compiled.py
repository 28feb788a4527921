"""Compiled kernels, kept on disk under a hash of the code they were made of.

    @kernel(error_model="numpy")
    def twice(x): ...

The compiler's own cache looks only at the file a kernel stands in: one that calls a mended kernel
of another file would stay as it was. So each state of the code has a folder of its own.
"""

from __future__ import annotations

import os
import shutil
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any
from urllib.parse import quote

import numba
import numpy as np
import portalocker
from platformdirs import user_cache_path

from pondel.core import made_by

CACHE_SETTING = "PONDEL_CACHE"
STATES_KEPT = 3
WARM, STEP = "all-compiled", "compiled-"
RECORDINGS, HEARING = "recordings", "hearing"
"""The first steps of what is compiled: what measures a file, and what hears who hides whom."""
LOCKED = portalocker.LockFlags.EXCLUSIVE | portalocker.LockFlags.NON_BLOCKING


def _cache() -> Path | None:
    """A private folder for the kernels of this state of the code; None when there is none to be had."""
    asked = os.environ.get(CACHE_SETTING)
    base = (Path(asked).expanduser() if asked else user_cache_path("pondel")) / "kernels"
    folder = base / made_by.kernels()
    try:
        folder.mkdir(parents=True, exist_ok=True, mode=0o700)
        os.utime(folder)
        for old in sorted(base.iterdir(), key=lambda path: -path.stat().st_mtime)[STATES_KEPT:]:
            shutil.rmtree(old, ignore_errors=True)
    except OSError:
        return None
    return folder if os.access(folder, os.W_OK) else None


_CACHE = _cache()
if _CACHE is not None:
    numba.config.CACHE_DIR = str(_CACHE)  # type: ignore[attr-defined]


def writable(block: np.ndarray) -> np.ndarray:
    """A block that may be written to, as what comes from a recording may.

    Kept chunks may not; a kernel would be compiled once more, for those, at their first use.
    """
    return block if block.flags.writeable else block.copy()


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
    return numba.njit(nogil=True, cache=_CACHE is not None, **options)
