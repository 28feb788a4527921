"""Who is logged in: a token for each login, ended by logging out or by another password."""

from __future__ import annotations

import hashlib
import secrets
import threading
from typing import Any

MOST_LOGINS = 200


class Logins:
    """The logins of one library, under the password that holds now. Thread-safe.

    `password_print` stands for the password and cannot be turned back into it.
    """

    def __init__(self, table: Any, password_print: str) -> None:
        self._table = table
        self._password = password_print
        self._live: set[str] = set()
        self._lock = threading.Lock()

    def begin(self, address: str) -> str:
        """A new login from an address; returns its token, which is stored only as a hash."""
        token = secrets.token_urlsafe(32)
        table = self._table
        old = table.select(table.token).order_by(table.created.desc()).offset(MOST_LOGINS)
        table.delete().where(table.token << list(row.token for row in old)).execute()
        table.insert(token=_hash(token), password=self._password, address=address).execute()
        return token

    def is_live(self, token: str) -> bool:
        """Whether a token was given out, under the present password, and not ended."""
        name = _hash(token)
        with self._lock:
            if name in self._live:
                return True
            table = self._table
            found = table.select().where((table.token == name) & (table.password == self._password))
            if found.exists():
                self._live.add(name)
                return True
            return False

    def end(self, token: str) -> None:
        """Log out: the token is worth nothing from now on."""
        with self._lock:
            self._live.discard(_hash(token))
            self._table.delete().where(self._table.token == _hash(token)).execute()


def _hash(token: str) -> str:
    return hashlib.sha256(token.encode()).hexdigest()
