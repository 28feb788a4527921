"""What sounds different now in a session that an older Pondel made: told once, when it is opened.

sounds_different(document, came_from=2)
# ["Pondel was mended, and this sounds different now. Tuba, dynamic EQ: up to 3.1 dB."]
"""

from __future__ import annotations

from pondel.core.document import Part, Session
from pondel.core.engine.routing import active_moves, limits_of
from pondel.core.moves.registry import kind_of
from pondel.core.units import say

MENDED_IN_FORM = 3
LEAST_DB = 0.1
MOST_LINES = 12
BORDER_DB = 13.7
"""By how much an idle split used to cancel in the middle of a fade at a section's border."""


def sounds_different(document: Session, came_from: int) -> list[str]:
    """What to say of the moves and parts that sound different, in one piece; empty when none does."""
    if came_from >= MENDED_IN_FORM:
        return []
    lines = [line for part in document.parts for line in (*_of_moves(document, part), *_of(part))]
    if not lines:
        return []
    more = len(lines) - MOST_LINES
    told = [*lines[:MOST_LINES], *([f"And {more} more."] if more > 0 else [])]
    return [" ".join(["Pondel was mended, and this sounds different now.", *told])]


def _of_moves(document: Session, part: Part) -> list[str]:
    lines = []
    for move in active_moves(part):
        kind = kind_of(move.kind)
        name = f"{part.name}, {kind.in_words}"
        changed_db = kind.since_form_2_db(move, document.rate)
        if changed_db >= LEAST_DB:
            lines.append(f"{name}: up to {changed_db:.1f} dB.")
        hold_ms = kind.form_2_hold_ms(move)
        if hold_ms:
            lines.append(
                f"{name}: holds each peak for its {say(hold_ms, 'ms')} now, not the highest alone."
            )
        if move.sections and kind.in_phase(move, document.rate, 2) is not None:
            lines.append(f"{name}: no longer dips at its sections' borders, by up to {BORDER_DB} dB.")
        chosen = [one for one in document.sections if one.id in move.sections]
        if len(limits_of(document, move) or chosen) < len(chosen):
            lines.append(f"{name}: goes on for 10 ms where its sections touch.")
    return lines


def _of(part: Part) -> list[str]:
    """After its fader a muted part was silent before, too; a silent key was heard in its sends."""
    if part.sounds:
        return []
    if not any((part.silent_key and not part.mute) or send.tap != "after fader" for send in part.sends):
        return []
    how = "muted" if part.mute else "a silent key"
    return [f"{part.name} is {how}: its sends are silent now."]
