"""How long the work behind an answer took, told to the browser in the header Server-Timing (W3C).

    with span("sound"):
        blocks = sound.chunks()

The tools of every browser draw it beside the request; the benchmark of an edit to the ear adds it up.
"""

from __future__ import annotations

import time
from collections.abc import Iterator
from contextlib import contextmanager

from flask import Flask, Response, g

TOTAL = "all"


@contextmanager
def span(name: str) -> Iterator[None]:
    """Note how long what is inside took, in the request that is answered."""
    begun = time.perf_counter()
    try:
        yield
    finally:
        g.setdefault("spans", {})[name] = time.perf_counter() - begun


def tell_spans(app: Flask) -> None:
    """Let every answer for which something was noted say so, with the time of all of it."""

    def begin() -> None:
        g.begun = time.perf_counter()

    def tell(response: Response) -> Response:
        if "spans" in g and "begun" in g:
            every = {**g.spans, TOTAL: time.perf_counter() - g.begun}
            told = (f"{name};dur={1000 * seconds:.2f}" for name, seconds in every.items())
            response.headers["Server-Timing"] = ", ".join(told)
        return response

    app.before_request(begin)
    app.after_request(tell)
