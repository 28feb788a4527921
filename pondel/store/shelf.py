"""The shelf: spectra and recipes kept by name, for all sessions of a data folder.

shelf.keep("spectrum", "Warm brass", {"levels_db": [...]})
shelf.get("spectrum", "Warm brass")
"""

from __future__ import annotations

import json
from typing import Any, Literal

from pondel.core.errors import BadDocument, NotFound
from pondel.store.tables import now

What = Literal["spectrum", "recipe"]
MOST, LONGEST_NAME = 500, 80


class Shelf:
    """What is kept, by what it is and its name."""

    def __init__(self, table: Any) -> None:
        self._table = table

    def names(self, what: What) -> list[str]:
        """The names of all that is kept of a kind, in order."""
        rows = self._table.select(self._table.name).where(self._table.what == what)
        return [row.name for row in rows.order_by(self._table.name)]

    def get(self, what: What, name: str) -> Any:
        """What is kept under a name; NotFound when there is none."""
        row = self._table.get_or_none(what=what, name=name)
        if row is None:
            raise NotFound(f"no {what} is kept as {name!r:.42}")
        return json.loads(row.body)

    def keep(self, what: What, name: str, body: Any) -> None:
        """Keep it under a name, in the place of what has that name."""
        name = name.strip()
        if not 0 < len(name) <= LONGEST_NAME:
            raise BadDocument(f"a name has from 1 to {LONGEST_NAME} characters", where=what)
        known = self.names(what)
        if name not in known and len(known) >= MOST:
            raise BadDocument(f"no more than {MOST} are kept: put some away first", where=what)
        row = self._table.insert(what=what, name=name, body=json.dumps(body), created=now())
        row.on_conflict_replace().execute()

    def put_away(self, what: What, name: str) -> None:
        """Keep it no longer; NotFound when there is none."""
        table = self._table
        if not table.delete().where((table.what == what) & (table.name == name)).execute():
            raise NotFound(f"no {what} is kept as {name!r:.42}")
