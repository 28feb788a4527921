"""Urgent work that waits for what a less urgent thread makes lets that go on meanwhile.

with gives_way(lend):               # where work becomes urgent: `lend` is entered while it waits
    with waiting_for_another():     # where it waits
        lock.acquire()
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager, contextmanager, nullcontext
from contextvars import ContextVar

Lend = Callable[[], AbstractContextManager[None]]
_LEND: ContextVar[Lend] = ContextVar("lend", default=nullcontext)
"""How what is done here gives way, in threads of its own too, if they are given the context."""


@contextmanager
def gives_way(lend: Lend) -> Iterator[None]:
    """What is done inside gives way by `lend` where it waits for another thread."""
    outer = _LEND.set(lend)
    try:
        yield
    finally:
        _LEND.reset(outer)


def waiting_for_another() -> AbstractContextManager[None]:
    """To be entered while this thread waits for what another one makes, in steps."""
    return _LEND.get()()
