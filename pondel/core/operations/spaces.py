"""Returns that step aside for the part that feeds them."""

from __future__ import annotations

from typing import Any, ClassVar, Literal

from pondel.core.document import Part, Session
from pondel.core.errors import BadDocument
from pondel.core.operations.base import NOTHING_KNOWN, Done, Facts, Json, Operation
from pondel.core.operations.chain import laid
from pondel.core.operations.parts import AddReturn, SetSend
from pondel.core.operations.ways import GiveWay, StartS
from pondel.core.recipes import Space, spaces
from pondel.core.refs import PartRef
from pondel.core.units import say_hz

HIGHEST_LOW_CUT_HZ = 500.0


class AddSpace(Operation):
    """A return fed by a part, with an echo, a room, a hall or a squeeze, that ducks under that part.

    Its low cut lies where the part's own energy begins, so that nothing below is washed.
    """

    op: Literal["add space"] = "add space"
    part: PartRef
    space: Literal["echo", "room", "hall", "squeeze"]
    start_s: StartS = 0.0
    example: ClassVar[Json] = {"part": "drum", "space": "echo", "start_s": 18.5}

    def apply(self, document: Session, facts: Facts = NOTHING_KNOWN) -> Done:
        part, space = document.part(self.part), spaces()[self.space]
        if part.source == "sends":
            raise BadDocument("a return sends to no space of its own: choose a part", where=part.name)
        known = {one.id for one in document.parts}
        left = AddReturn(name=f"{space.title} of {part.name}"[:80]).apply(document).document
        added = next(one for one in left.parts if one.id not in known)
        left = SetSend(part=part.id, to=added.id, value=space.send_db).apply(left).document
        left, said = _with_moves(left, part, added, space, facts)
        ducked = GiveWay(part=added.id, leader=part.id, kind=space.gives_way, start_s=self.start_s)
        done = ducked.apply(left, facts)
        title = f"{space.title} under {part.name}"
        return Done(done.document, title, [*said, *done.said], move=done.move, added=True)


def _with_moves(
    document: Session, part: Part, added: Part, space: Space, facts: Facts
) -> tuple[Session, list[str]]:
    """The return with the space's moves, their low cuts where the part's energy begins."""
    home = facts.home(part)
    said: list[str] = [space.why]
    for settings in space.moves:
        given: dict[str, Any] = dict(settings)
        low_hz = given.get("low_cut_hz")
        if low_hz is not None and home is not None:
            given["low_cut_hz"] = round(min(max(low_hz, home.low_hz), HIGHEST_LOW_CUT_HZ), 1)
            said.append(f"Low cut {say_hz(given['low_cut_hz'])}: {part.name} begins there.")
        document = laid(document, added.id, given, list(said))
    return document, said
