"""Operations in tests."""

from __future__ import annotations

from typing import Any

import numpy as np

from pondel.core.document import Session
from pondel.core.operations import NOTHING_KNOWN, Done, Facts, parse_operation
from pondel.core.operations.base import NothingKnown
from pondel.core.operations.chain import tied


class KnownHits(NothingKnown):
    """Facts of a session of which only hits are known, by part."""

    def __init__(self, **hits_s: list[float]) -> None:
        self._hits_s = hits_s

    def hits_s(self, part: Any) -> np.ndarray:
        return np.array(self._hits_s.get(part.id, []), np.float64)


def laid(settings: dict[str, Any]) -> dict[str, Any]:
    """A move's settings as "add move" takes them."""
    return {"kind": settings["kind"], "values": {k: v for k, v in settings.items() if k != "kind"}}


def paired(session: Session, gains: str, gives: str) -> Session:
    """The session with a complementary EQ between two parts."""
    return tied(session, gains, gives, {"kind": "complementary eq"}, [])


def do(session: Session, op: str, *, facts: Facts = NOTHING_KNOWN, **fields: Any) -> Done:
    """What an operation makes of a session, and says."""
    return parse_operation({"op": op, **fields}).apply(session, facts)


def after(session: Session, op: str, *, facts: Facts = NOTHING_KNOWN, **fields: Any) -> Session:
    """The session after an operation."""
    return do(session, op, facts=facts, **fields).document
