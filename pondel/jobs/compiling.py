"""The kernels are compiled beside a server, in a process of their own: compiling holds the interpreter.

with compiling(print):
    serve(...)
"""

from __future__ import annotations

import subprocess
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager

from pondel.core.dsp.compiled import is_warm

PATIENCE_S = 10.0


@contextmanager
def compiling(say: Callable[[str], None]) -> Iterator[None]:
    """Compile what this state of the code has not compiled yet; given up when the server stops."""
    if is_warm():
        yield
        return
    say("Compiling the sound once, about a minute; Pondel works meanwhile, a first use may wait")
    process = subprocess.Popen(
        [sys.executable, "-m", "pondel.core.warming"], stdin=subprocess.DEVNULL, start_new_session=True
    )
    try:
        yield
    finally:
        process.terminate()
        process.wait(PATIENCE_S)
