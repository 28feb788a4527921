"""The way a session came: steps back and forth, and what led to its present state.

library.history.undo(session_id)
library.history.steps(session_id)     # newest first, without their documents
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from pondel.core.errors import NotFound, StaleEdit
from pondel.store.revisions import Neighbours, Revision, Step

if TYPE_CHECKING:
    from pondel.store.library import Library

STEPS = 60
"""So many steps are told at once."""
NEWEST_CHILD = "select id, label from revision where parent = ? order by id desc limit 1"
WAY = """
with recursive way(id, label, created, parent, at) as (
    select id, label, created, parent, 1 from revision where id = ?1 and session_id = ?2
    union all
    select before.id, before.label, before.created, before.parent, way.at + 1
    from way join revision as before on before.id = way.parent
    where way.at < ?3
)
select id, label, created, parent from way order by at
"""


class History:
    """The steps of all sessions of a library."""

    def __init__(self, library: Library) -> None:
        self._library = library

    def undo(self, session_id: str, base: int | None = None) -> Revision:
        """Step back from `base`, if it is still the head; NotFound at the beginning."""
        with self._library.database.atomic("immediate"):
            parent = self._seen_head(session_id, base).parent
            if parent is None:
                raise NotFound("there is nothing to undo")
            return self._moved(session_id, parent)

    def redo(self, session_id: str, base: int | None = None) -> Revision:
        """Step forward along the newest branch; NotFound at its end."""
        with self._library.database.atomic("immediate"):
            child = self._newest_child(self._seen_head(session_id, base).id)
            if child is None:
                raise NotFound("there is nothing to redo")
            return self._moved(session_id, child[0])

    def go_to(self, session_id: str, revision_id: int) -> Revision:
        """Make any state of a session its head."""
        with self._library.database.atomic("immediate"):
            return self._moved(session_id, revision_id)

    def _moved(self, session_id: str, revision_id: int) -> Revision:
        before = self._library.head(session_id).document
        moved = self._library.move_head(session_id, revision_id)
        self._library.share_references(session_id, before, moved.document)
        return moved

    def neighbours(self, revision: Revision) -> Neighbours:
        """The names of the edits that undo and redo would step over from a revision."""
        child = self._newest_child(revision.id)
        undo = revision.label if revision.parent is not None else None
        return Neighbours(undo, child[1] if child else None)

    def steps(self, session_id: str, since: int | None = None, most: int = STEPS) -> list[Step]:
        """The steps that led to the present state, or to `since`, newest first.

        The next ones begin at the parent of the last. NotFound when there is no such state.
        """
        if since is None:
            since = self._library.head_id(session_id)
            if since is None:
                raise NotFound(f"there is no session {session_id!r:.60}")
        rows = self._library.database.execute_sql(WAY, (since, session_id, most)).fetchall()
        if not rows:
            raise NotFound("there is no such state")
        told = self._library.tables.Revision.created.python_value
        return [Step(number, label, told(created), parent) for number, label, created, parent in rows]

    def _seen_head(self, session_id: str, base: int | None) -> Revision:
        head = self._library.head(session_id)
        if base not in (None, head.id):
            raise StaleEdit("this session changed meanwhile; it is shown as it is now: step again")
        return head

    def _newest_child(self, revision_id: int) -> tuple[int, str] | None:
        """The number and the label of the newest state that came of one."""
        return self._library.database.execute_sql(NEWEST_CHILD, (revision_id,)).fetchone()
