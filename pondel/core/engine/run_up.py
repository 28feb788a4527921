"""Beginning in the middle of the song, as if it had been played from its start.

Filters and envelopes settle in a time that is known beforehand. Where something remembers for longer
(whether a gate is open, with a level that hovers between its thresholds), the run-up begins earlier and
earlier, until what is heard tells its state for certain, or the song begins.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator

from pondel.core.engine.graph import Graph
from pondel.core.engine.streams import Stream
from pondel.core.side_by_side import go_on

BLOCK_FRAMES = 1 << 14
Build = Callable[[int], tuple[Graph, list[Stream]]]
"""From a frame of the song to a graph that begins there, and what is to be read of it."""


def stand_at(build: Build, start: int, lead: int, step: Callable[[], None] = go_on) -> list[Stream]:
    """Streams whose next frame is `start`; `lead` is the run-up in which all that settles has settled.

    `step` is called now and then.
    """
    begin = max(0, start - lead)
    graph, streams = build(begin)
    lead = max(lead, 1)
    while graph.remembering and begin > 0:
        begin = max(0, start - max(3 * (start - begin), 3 * lead))
        graph, streams = build(begin)
        if begin == 0:
            break
        _run(streams, lead, step)
        for one in graph.remembering:
            one.doubt()
        _run(streams, start - begin - lead, step)
        if all(one.certain_frames() >= lead for one in graph.remembering):
            return streams
    _run(streams, start - begin, step)
    return streams


def _run(streams: list[Stream], frames: int, step: Callable[[], None]) -> None:
    for block in sizes(frames):
        step()
        for stream in streams:
            stream.read(block)


def sizes(frames: int) -> Iterator[int]:
    """Blocks that make up so many frames."""
    while frames > 0:
        yield min(frames, BLOCK_FRAMES)
        frames -= BLOCK_FRAMES
