"""What the hearing model needs of a part: which sound to analyse, under which name to keep it.

Trim, fader and pan act alike on all channels as a rule; then one analysis serves every setting.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from pondel.core.audio.media import Media
from pondel.core.document import Part, Session
from pondel.core.engine import render, routing
from pondel.core.engine.graph import Graph
from pondel.core.engine.routing import Node
from pondel.core.engine.streams import fader_gains

READ_FRAMES = 1 << 16


@dataclass(frozen=True)
class EarSource:
    """The sound to analyse, a name for it, and the gain of power from there to the mix.

    It is the recording `file` itself, untrimmed, or the sound at `node`.
    """

    name: str
    gain: float
    node: Node
    file: str | None = None


def ear_source(session: Session, media: Media, part: Part, memo: dict[Node, str]) -> EarSource:
    """The analysis that gives a part as it sounds after its fader; `memo` keeps fingerprints."""
    before: Node = (part.id, "before fader")
    channels = Graph(session, media).node(before).channels
    left, right = fader_gains(part, channels)
    if channels == 2 and left != right:
        after: Node = (part.id, "after fader")
        return EarSource(routing.fingerprint(session, media, after, memo), 1.0, after)
    gain = 0.0 if part.mute else (left**2 + right**2) / 2.0
    if part.file is not None and part.start_s == 0.0 and not routing.active_moves(part):
        name = f"{part.file} {session.rate}"
        return EarSource(name, gain * 10 ** (part.trim_db / 10), (part.id, "source"), part.file)
    return EarSource(routing.fingerprint(session, media, before, memo), gain, before)


def ear_blocks(
    session: Session, media: Media, source: EarSource, start: int, frames: int
) -> Iterator[np.ndarray]:
    """The sound of a source, in blocks, in bounded memory."""
    if source.file is None:
        for (block,) in render.blocks(session, media, [source.node], start, frames):
            yield block
        return
    reader = media.open(source.file)
    for first in range(start, start + frames, READ_FRAMES):
        yield reader.read(first, min(READ_FRAMES, start + frames - first))
