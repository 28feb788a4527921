"""The hits of parts, in seconds of the song, looked up when sound is made.

A move that follows hits says whose; a corrected hit is heard at once wherever it is followed.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from pondel.core.audio.media import Media
from pondel.core.document import Part, Session
from pondel.core.errors import BadRecording
from pondel.core.moves.base import MoveBase
from pondel.core.refs import hits_source

DECIMALS = 4
"""Hits are known to 0.1 ms."""
NEAR_S = 0.030
"""A removed hit removes all found hits within this distance."""
SAME_S = 0.005


def corrected(found_s: np.ndarray, added_s: Sequence[float], removed_s: Sequence[float]) -> np.ndarray:
    """Hits with those taken out that lie within 30 ms of a removed one, and others added.

    Of hits that fall into the same 5 ms one is kept: no player strikes 200 times a second.
    """
    removed = np.sort(np.asarray(removed_s, np.float64))
    if removed.size and found_s.size:
        after = np.searchsorted(removed, found_s)
        later = np.abs(removed[np.minimum(after, removed.size - 1)] - found_s)
        sooner = np.abs(removed[np.maximum(after - 1, 0)] - found_s)
        found_s = found_s[np.minimum(later, sooner) > NEAR_S]
    every = np.unique(np.concatenate([found_s, np.asarray(added_s, np.float64)]))
    _, first = np.unique(np.floor(every / SAME_S), return_index=True)
    return every[first]


def part_hits_s(part: Part, media: Media) -> np.ndarray:
    """A part's hits in seconds from the start of the song, as corrected by hand.

    They come from its MIDI file when it has one; a recording that cannot be read has none.
    """
    if part.file is None:
        return np.empty(0)
    hits = part.hits
    if hits.midi_s is not None:
        found = np.array(hits.midi_s, np.float64)
    else:
        try:
            found = media.found_hits_s(part.file, hits.sensitivity)
        except BadRecording:
            found = np.empty(0)
    return np.round(corrected(found, hits.added_s, hits.removed_s) + part.start_s, DECIMALS)


def followed_hits_s(session: Session, media: Media, part: Part, move: MoveBase) -> np.ndarray:
    """The hits that a move of a part follows; none where it follows none, or its part is gone."""
    source = hits_source(move, part.id)
    if source is None or not session.has_part(source):
        return np.empty(0)
    return part_hits_s(session.part(source), media)
