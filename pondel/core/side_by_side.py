"""Work that is done side by side, its results in order, with rests between.

    for found in side_by_side(pool, work, items, between=step, every=20):
        ...

Two pieces for each thread are under way. Before every so many of them `between` is called, and more
are begun only after it has returned: where it stands still, all threads come to rest.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Executor, Future
from contextvars import copy_context
from typing import TypeVar

Item = TypeVar("Item")
Result = TypeVar("Result")
CORES = 2


def go_on() -> None:
    """The step of work that stands still for nobody."""


def side_by_side(
    pool: Executor | None,
    work: Callable[[Item], Result],
    items: Iterable[Item],
    between: Callable[[], None] = go_on,
    every: int = 1,
) -> Iterator[Result]:
    """The results of `work` in the order of the items, as urgent as the caller.

    Without a pool it is done one by one.
    """
    under_way: deque[Future[Result]] = deque()
    for n, item in enumerate(items):
        if n % every == 0:
            between()
        if pool is None:
            yield work(item)
            continue
        under_way.append(pool.submit(copy_context().run, work, item))
        if len(under_way) >= 2 * CORES:
            yield under_way.popleft().result()
    while under_way:
        yield under_way.popleft().result()
