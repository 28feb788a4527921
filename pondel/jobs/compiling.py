"""The kernels are compiled beside a server, in a process of their own: compiling holds the interpreter.

with compiling(print):
    serve(...)          # until_compiled(HEARING, ended) lets background work wait for its kernels
"""

from __future__ import annotations

import subprocess
import sys
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager

from pondel.core.dsp.compiled import is_compiled, is_warm
from pondel.jobs.niceness import be_nice

PATIENCE_S, LOOK_S = 10.0, 0.1
NICENESS_AHEAD = 8
"""What nobody waits for yet gives way to what a page that is open waits for."""
_under_way: list[subprocess.Popen] = []


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
    be_nice(NICENESS_AHEAD, process.pid)
    _under_way.append(process)
    try:
        yield
    finally:
        _under_way.remove(process)
        process.terminate()
        process.wait(PATIENCE_S)


def until_compiled(step: str, ended: threading.Event) -> None:
    """Wait for the kernels of a step while they are compiled beside this process; not for ever.

    Work in the background that compiled them too would hold the interpreter, and do it twice.
    """
    while not is_compiled(step) and any(one.poll() is None for one in _under_way):
        if ended.wait(LOOK_S):
            return
