"""Taking a single move over from another state of the session."""

from __future__ import annotations

from typing import Annotated, Any, ClassVar, Literal

from pydantic import Field

from pondel.core.document import Session
from pondel.core.errors import BadDocument
from pondel.core.moves.registry import KINDS, kind_of
from pondel.core.operations.base import (
    NOTHING_KNOWN,
    Done,
    Facts,
    Json,
    MoveAt,
    MoveId,
    Operation,
    changed,
)
from pondel.core.operations.moves import chain_in, well_pointed
from pondel.core.refs import PartRef

Settings = Annotated[dict[str, Any], Field(max_length=80)]


class TakeOver(Operation):
    """Make one move as it is elsewhere: with those `settings`, or gone where there are none.

    It keeps its place in the chain; a move that is new here comes at the place `at`. One side of a
    pair is not taken over without the other.
    """

    op: Literal["take over"] = "take over"
    part: PartRef
    move: MoveId
    settings: Settings | None = None
    at: int = Field(1000, ge=0, le=1000, strict=True)
    example: ClassVar[Json] = {
        "part": "tuba",
        "move": "m1",
        "settings": {"kind": next(iter(KINDS))},
    }

    def apply(self, document: Session, facts: Facts = NOTHING_KNOWN) -> Done:
        part = document.part(self.part)
        now = next((move for move in part.moves if move.id == self.move), None)
        kinds = [str(one) for one in (now and now.kind, (self.settings or {}).get("kind")) if one]
        if not kinds:
            raise BadDocument("it is in neither of them: there is nothing to take over", where="move")
        for kind in map(kind_of, kinds):
            if kind.pair is not None:
                raise BadDocument(f"a {kind.title} ties two parts: take the whole variant over")

        def change(data: Json) -> None:
            moves = chain_in(data, self.part)
            places = [n for n, one in enumerate(moves) if one["id"] == self.move]
            at = places[0] if places else min(self.at, len(moves))
            moves[:] = [one for one in moves if one["id"] != self.move]
            if self.settings is not None:
                moves.insert(at, {**self.settings, "id": self.move})

        left = changed(document, change)
        title = f"{part.name}: take the {kind_of(kinds[-1]).in_words} over"
        if self.settings is None:
            return Done(left, title)
        at = MoveAt(self.part, self.move)
        return Done(well_pointed(left, self.part, self.move), title, move=at, added=now is None)
