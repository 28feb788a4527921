"""Measures kept under the hash of what they were measured from.

measures.keep("levels:4f2a:9c1b", {"loudness_lufs": -14.2})
measures.get("levels:4f2a:9c1b")
"""

from __future__ import annotations

import json
from collections.abc import Iterable
from typing import Any

from peewee import OperationalError

from pondel.store.room import is_full
from pondel.store.tables import now


class Measures:
    """All measures of one data folder."""

    def __init__(self, table: Any) -> None:
        self._table = table

    def get(self, key: str) -> Any | None:
        """A stored measure, or None."""
        row = self._table.get_or_none(key=key)
        return json.loads(row.body) if row else None

    def has(self, key: str) -> bool:
        """Whether a measure is stored."""
        return self._table.select().where(self._table.key == key).exists()

    def keep(self, key: str, value: Any) -> None:
        """Store a measure, if there is room."""
        row = self._table.insert(key=key, body=json.dumps(value), created=now())
        try:
            row.on_conflict_replace().execute()
        except OperationalError as error:
            if not is_full(error):
                raise

    def forget(self, code: str, kinds: Iterable[str]) -> int:
        """Forget measures of these kinds that other code than this took; how many there were."""
        key, found = self._table.key, 0
        for kind in kinds:
            old = key.startswith(f"{kind}:") & ~key.startswith(f"{kind}:{code}:")
            found += self._table.delete().where(old).execute()
        return found
