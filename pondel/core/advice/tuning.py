"""Frequencies that a layer may be tuned to: the pitch of a part where it is certain, the song's key."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from pondel.core.document import Part, Session
from pondel.core.moves.base import MoveBase, MoveKind, key_in
from pondel.core.moves.controls import control_of
from pondel.core.notes import in_octave_from

LOWEST_KEY_HZ = 32.0
"""The song's key is offered in the octave from C1 on."""


@dataclass(frozen=True)
class Tuning:
    """A frequency, and whose it is."""

    title: str
    hz: float


def tunings(
    document: Session,
    part: Part,
    kind: MoveKind,
    move: MoveBase | None,
    pitch_hz: Callable[[Part], float | None],
) -> list[Tuning]:
    """What a move of a kind on a part may be tuned to, the nearest first; none where nothing is tuned.

    `pitch_hz` tells the usual pitch of a part where it is certain; without a move it is a fresh one.
    """
    if not kind.tuned:
        return []
    control = control_of(kind.params, kind.tuned)
    key = key_in(move) if move is not None else None
    sources = {part.id: part}
    if key is not None and document.has_part(key.source):
        sources[key.source] = document.part(key.source)
    found = []
    for source in sources.values():
        hz = pitch_hz(source)
        if hz is not None and control.low <= hz <= control.high:
            found.append(Tuning(source.name, round(hz, 1)))
    if document.key_note is not None:
        found.append(
            Tuning("the song's key", round(in_octave_from(document.key_note, LOWEST_KEY_HZ), 1))
        )
    return found
