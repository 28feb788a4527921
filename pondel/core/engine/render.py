"""Rendering: whole, in bounded memory, or a region that equals the same slice of the whole."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Literal

import numpy as np

from pondel.core.audio.media import Media
from pondel.core.document import Session
from pondel.core.engine import routing
from pondel.core.engine.graph import Graph, TraceLogs
from pondel.core.engine.routing import Node
from pondel.core.engine.run_up import sizes, stand_at
from pondel.core.engine.streams import Stream

MIX: Literal["mix"] = "mix"
Target = Node | Literal["mix"]


def blocks(
    session: Session,
    media: Media,
    targets: list[Target],
    start: int,
    frames: int,
    *,
    traces: TraceLogs | None = None,
) -> Iterator[list[np.ndarray]]:
    """Blocks of every target at once, from one pass over the session.

    A target is a node or "mix". Each yielded list has one float32 (frames, channels) array per
    target. The run-up before `start` is rendered and dropped, as are its traces.
    """
    lead = min(start, max((run_up(session, target) for target in targets), default=0))

    def build(begin: int) -> tuple[Graph, list[Stream]]:
        if traces is not None:
            traces.clear()
        graph = Graph(session, media, begin, traces=traces, trace_from=start - begin)
        return graph, [_stream(graph, target) for target in targets]

    streams = stand_at(build, start, lead)
    for block in sizes(frames):
        yield [stream.read(block) for stream in streams]


def region(
    session: Session,
    media: Media,
    target: Target,
    start: int,
    frames: int,
    *,
    traces: TraceLogs | None = None,
) -> np.ndarray:
    """float32 (frames, channels) of a target from `start`, as in a render of the whole song."""
    return regions(session, media, [target], start, frames, traces=traces)[0]


def regions(
    session: Session,
    media: Media,
    targets: list[Target],
    start: int,
    frames: int,
    *,
    traces: TraceLogs | None = None,
) -> list[np.ndarray]:
    """`region` of several targets in one pass."""
    rows = list(blocks(session, media, targets, start, frames, traces=traces))
    return [np.concatenate(column) for column in zip(*rows, strict=True)] if rows else []


def run_up(session: Session, target: Target) -> int:
    """Frames a render of the target must start early."""
    if target == MIX:
        nodes: list[Node] = [(part.id, "after fader") for part in session.summed()]
        return max((routing.run_up_frames(session, node) for node in nodes), default=0)
    return routing.run_up_frames(session, target)


def _stream(graph: Graph, target: Target) -> Stream:
    return graph.mix() if target == MIX else graph.node(target)
