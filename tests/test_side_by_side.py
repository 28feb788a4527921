"""Work side by side: results in order, and rests in which nothing new begins."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from contextvars import ContextVar

import pytest

from pondel.core.side_by_side import CORES, side_by_side

URGENT: ContextVar[bool] = ContextVar("urgent", default=False)


@pytest.mark.parametrize("threads", [0, 2])
def test_results_come_in_order_with_a_rest_before_every_third(threads):
    begun: list[int] = []
    rests: list[int] = []

    def work(n):
        begun.append(n)
        return n * n

    pool = ThreadPoolExecutor(threads) if threads else None
    found = list(side_by_side(pool, work, range(8), lambda: rests.append(len(begun)), every=3))
    assert found == [n * n for n in range(8)]
    assert len(rests) == 3
    # What was handed over before a rest may still have been waiting for a thread.
    assert all(3 * n - 2 * CORES <= begun_before <= 3 * n for n, begun_before in enumerate(rests))


def test_work_is_as_urgent_as_who_asked_for_it():
    URGENT.set(True)
    with ThreadPoolExecutor(2) as pool:
        assert list(side_by_side(pool, lambda _: URGENT.get(), range(3))) == [True] * 3


def test_an_error_reaches_who_asked():
    def work(n):
        raise ValueError(f"no {n}")

    with ThreadPoolExecutor(2) as pool, pytest.raises(ValueError, match="no 0"):
        list(side_by_side(pool, work, range(3)))
