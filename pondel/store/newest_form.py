"""Bringing a session's present state into the newest form, and telling once what that changes.

notes = [*told_once(tables, session_id), *brought_to_newest(tables, library.head(session_id))]
"""

from __future__ import annotations

import json
from typing import Any

from pondel.core.advice.older_sound import sounds_different
from pondel.core.document import text_hash
from pondel.core.reading import to_text
from pondel.core.versions import VERSION, brought_up
from pondel.store.revisions import Revision


def told_once(tables: Any, session_id: str) -> list[str]:
    """What is to be told of a session when it is next opened; nobody is told it twice."""
    table = tables.Session
    waiting = table.get_by_id(session_id).to_tell
    if not waiting:
        return []
    mine = table.update(to_tell="").where((table.id == session_id) & (table.to_tell == waiting))
    return json.loads(waiting) if mine.execute() else []


def brought_to_newest(tables: Any, head: Revision) -> list[str]:
    """Store a state in the newest form; what a listener may notice, in words, to one who asks."""
    table = tables.Revision
    row = table.get_or_none(table.id == head.id)
    if row is None:
        # A drag in another window has replaced this state: the next page sees the one in its place.
        return []
    found = brought_up(json.loads(row.document))
    if found.came_from == VERSION:
        return []
    text = to_text(head.document)
    changed = table.update(document=text, hash=text_hash(text)).where(
        (table.id == head.id) & (table.hash == row.hash)
    )
    if not changed.execute():
        return []
    return [*found.notes, *sounds_different(head.document, found.came_from)]
