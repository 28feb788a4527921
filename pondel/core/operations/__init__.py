"""Every change a person can ask for: the only door to a document.

operation = parse_operation({"op": "set part", "part": "tuba", "field": "fader_db", "value": "-3 dB"})
done = operation.apply(document)
done.document, done.title, done.said
"""

from __future__ import annotations

from functools import reduce
from operator import or_
from typing import Annotated, Any, get_args

from pydantic import Field, TypeAdapter, ValidationError

from pondel.core.document import Session
from pondel.core.errors import BadDocument
from pondel.core.operations.base import NOTHING_KNOWN, Done, Facts, Operation
from pondel.core.operations.chain import (
    AddMove,
    CopyMoves,
    DuplicateMove,
    RemoveMove,
    ReorderMove,
    Swap,
)
from pondel.core.operations.contrast import Contrast, TakeSpectra
from pondel.core.operations.hits import GiveHits, HitsAsFound, SetHits, ToggleHit
from pondel.core.operations.how_far import GoAsFar
from pondel.core.operations.moves import Act, AddItem, RemoveItem, SetMove
from pondel.core.operations.parts import (
    AddReturn,
    BringIn,
    JoinHalves,
    RemovePart,
    ReplaceRecording,
    SetGroup,
    SetPart,
    SetSend,
    TapSend,
    TrimTo,
)
from pondel.core.operations.plan import MakeRoom
from pondel.core.operations.recipes import LayRecipe
from pondel.core.operations.song import FindTempo, GiveTempo, OneTempo, SetSections, SetSession
from pondel.core.operations.spaces import AddSpace
from pondel.core.operations.take_over import TakeOver
from pondel.core.operations.under_one import ChangeTogether, UnderOne
from pondel.core.operations.ways import GiveWay, PartLows, RightOfWay, StartingEq
from pondel.core.operations.zones import Decide, RemoveZone, SetZone
from pondel.core.reading import first_fault

_ASKED: tuple[type[Operation], ...] = (
    SetSession,
    FindTempo,
    GiveTempo,
    OneTempo,
    SetSections,
    SetPart,
    TrimTo,
    AddReturn,
    SetGroup,
    SetSend,
    TapSend,
    AddSpace,
    LayRecipe,
    RemovePart,
    SetHits,
    ToggleHit,
    GiveHits,
    HitsAsFound,
    Decide,
    RemoveZone,
    SetZone,
    RightOfWay,
    GoAsFar,
    UnderOne,
    ChangeTogether,
    MakeRoom,
    PartLows,
    GiveWay,
    StartingEq,
    Contrast,
    TakeSpectra,
    AddMove,
    SetMove,
    AddItem,
    RemoveItem,
    Act,
    ReorderMove,
    DuplicateMove,
    CopyMoves,
    TakeOver,
    Swap,
    RemoveMove,
)
OPERATIONS: dict[str, type[Operation]] = {
    get_args(one.model_fields["op"].annotation)[0]: one for one in _ASKED
}
MOST_AT_ONCE = 500
_UNION: Any = Annotated[reduce(or_, _ASKED), Field(discriminator="op")]
_ADAPTER: TypeAdapter[Any] = TypeAdapter(_UNION)

__all__ = [
    "NOTHING_KNOWN",
    "OPERATIONS",
    "BringIn",
    "Done",
    "Facts",
    "JoinHalves",
    "Operation",
    "ReplaceRecording",
    "apply_all",
    "operations_schema",
    "parse_operation",
    "parse_operations",
]


def parse_operation(data: Any) -> Operation:
    """An operation from parsed JSON; BadDocument names the field that is wrong."""
    if not isinstance(data, dict):
        raise BadDocument("an operation is a JSON object with an op")
    name = data.get("op")
    if not isinstance(name, str) or name not in OPERATIONS:
        raise BadDocument(f"there is no operation called {name!r:.40}")
    try:
        return OPERATIONS[name].model_validate(data)
    except ValidationError as error:
        raise BadDocument(first_fault(error), where=name) from error


def parse_operations(data: Any) -> list[Operation]:
    """One operation, or a list of them, from parsed JSON."""
    if not isinstance(data, list):
        return [parse_operation(data)]
    if not 0 < len(data) <= MOST_AT_ONCE:
        raise BadDocument(f"from 1 to {MOST_AT_ONCE} operations at a time, not {len(data)}")
    return [parse_operation(one) for one in data]


def apply_all(operations: list[Operation], document: Session, facts: Facts = NOTHING_KNOWN) -> Done:
    """What several operations make of a document, one after another: all of them, or an error."""
    done = [operations[0].apply(document, facts)]
    for operation in operations[1:]:
        done.append(operation.apply(done[-1].document, facts))
    last = done[-1]
    if len(done) == 1:
        return last
    title = f"{done[0].title} and {len(done) - 1} more"
    said = [line for one in done for line in one.said]
    return Done(last.document, title, said, last.value, last.move, last.added)


def operations_schema() -> dict[str, Any]:
    """The JSON Schema of an operation."""
    return _ADAPTER.json_schema(mode="validation")
