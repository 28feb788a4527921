"""The ledger of a session: what was listened to and told, kept beside its settings.

ledger.put("song", "listened", mix_name, {"seconds": {"mono": 8.5}})
ledger.get("song", "listened", mix_name)
"""

from __future__ import annotations

import json
from typing import Any, Literal

from pondel.store.tables import now

What = Literal["listened", "blind"]
MOST = 200
"""So many entries of a kind are kept of a session: the oldest go first."""


class Ledger:
    """Entries by session, by what they are, and by name."""

    def __init__(self, table: Any) -> None:
        self._table = table

    def get(self, session_id: str, what: What, name: str) -> Any:
        """One entry; None where there is none."""
        row = self._table.get_or_none(session=session_id, what=what, name=name)
        return None if row is None else json.loads(row.body)

    def every(self, session_id: str, what: What) -> dict[str, Any]:
        """All entries of a kind by name, the newest first."""
        return {row.name: json.loads(row.body) for row in self._of(session_id, what)}

    def put(self, session_id: str, what: What, name: str, body: Any) -> None:
        """Write an entry, in the place of one of that name; it is on disk when this returns."""
        found = self._table.get_or_none(session=session_id, what=what, name=name)
        created = now() if found is None else found.created
        entry = {"session": session_id, "what": what, "name": name, "created": created}
        self._table.insert(**entry, body=json.dumps(body)).on_conflict_replace().execute()
        if found is None:
            for old in list(self._of(session_id, what))[MOST:]:
                self._one(session_id, what, old.name).execute()

    def _of(self, session_id: str, what: What):
        table = self._table
        rows = table.select().where((table.session == session_id) & (table.what == what))
        return rows.order_by(table.created.desc(), table.name)

    def _one(self, session_id: str, what: What, name: str):
        table = self._table
        about = (table.session == session_id) & (table.what == what) & (table.name == name)
        return table.delete().where(about)
