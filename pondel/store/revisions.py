"""What the library tells of a session: a state it is or was in, and what lies beside it."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from pondel.core.document import Session


@dataclass(frozen=True)
class Revision:
    """One state of a session's document."""

    id: int
    session_id: str
    label: str
    document: Session
    created: datetime
    parent: int | None
    gesture: str | None


@dataclass(frozen=True)
class Step:
    """One step of the history, without its document."""

    id: int
    label: str
    created: datetime
    parent: int | None


@dataclass(frozen=True)
class Neighbours:
    """What undo and redo would do now; None when there is nothing."""

    undo: str | None
    redo: str | None


@dataclass(frozen=True)
class SessionCard:
    """A session in the list of sessions."""

    id: str
    name: str
    opened: datetime
    parts: int
