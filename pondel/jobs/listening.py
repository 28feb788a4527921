"""The listening list of a session: what was heard of the mix as it is now.

A mix is known by its sound: an edit that changes it unticks the list, and going back ticks it again.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace

from pondel.core.document import Session
from pondel.core.engine.listen import make_plan, plan_hash
from pondel.core.listening import ITEMS, Listened, Span
from pondel.jobs.desk import Desk


def listened(desk: Desk, session_id: str, document: Session) -> Listened:
    """What was heard of the mix as it is in a document."""
    return Listened.of(desk.library.ledger.get(session_id, "listened", _name(desk, document)))


def listen(desk: Desk, session_id: str, document: Session, spans: Iterable[Span]) -> Listened:
    """Write down what was played of it."""
    found = listened(desk, session_id, document).heard(spans)
    desk.library.ledger.put(session_id, "listened", _name(desk, document), found.as_json())
    return found


def listened_blind(desk: Desk, session_id: str, document: Session) -> None:
    """Write down that it was told apart, or not, without being seen."""
    found = replace(listened(desk, session_id, document), blind=True)
    desk.library.ledger.put(session_id, "listened", _name(desk, document), found.as_json())


def still_to_hear(desk: Desk, session_id: str, document: Session) -> list[tuple[str, str, bool]]:
    """Each item of the list: its name, what it is called, and whether it was heard."""
    found, song_s = listened(desk, session_id, document), desk.frames(document) / document.rate
    return [(item, words, found.is_done(item, song_s)) for item, words in ITEMS.items()]


def _name(desk: Desk, document: Session) -> str:
    return plan_hash(make_plan(document, "mix"), desk.now(document))[:40]
