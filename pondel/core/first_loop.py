"""The stretch of a song that goes round before anybody has chosen one.

first_loop(document, 96.0)     # (18.4615, 27.6923): four bars after the first section change
"""

from __future__ import annotations

from pondel.core.document import Session

BARS, UNKNOWN_S, SHORTEST_S = 4, 8.0, 0.5


def first_loop(document: Session, song_s: float) -> tuple[float, float]:
    """Start and end in seconds: four bars where the tempo is known, else 8 s."""
    sections = document.sections
    start_s = sections[1].start_s if len(sections) > 1 else 0.0
    if start_s >= song_s:
        start_s = 0.0
    length_s = UNKNOWN_S
    if document.known_tempo_bpm is not None:
        length_s = BARS * document.counted().bar_s_at(start_s)
    return round(start_s, 4), round(min(start_s + length_s, max(song_s, SHORTEST_S)), 4)
