"""The controls of a move, read from its parameters: for forms, messages and recall sheets."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cache
from typing import Any, get_args

from pydantic import BaseModel

from pondel.core import units
from pondel.core.errors import BadDocument


@dataclass(frozen=True)
class Control:
    """One parameter as it is shown: a slider with a typed value, a switch, or a choice."""

    field: str
    title: str
    help: str
    kind: str
    default: Any
    unit: str = ""
    low: float = 0.0
    high: float = 1.0
    scale: str = "linear"
    step: float = 1.0
    decimals: int = 1
    optional: bool = False
    endless: bool = False
    labels: dict[str, str] | None = None
    shown_when: list[Any] | None = None

    def say(self, value: Any) -> str:
        """The value in words, with its unit."""
        if self.kind == "number":
            return units.say(value, self.unit, self.decimals)
        if self.kind == "switch":
            return "on" if value else "off"
        return (self.labels or {}).get(str(value), str(value))


@cache
def controls_of(params: type[BaseModel]) -> tuple[Control, ...]:
    """All controls of a parameter class, in the order of its fields."""
    found = []
    for field, info, described in _described(params, "control"):
        kind = "number" if "unit" in described else "choice" if described.get("labels") else "switch"
        title, help = info.title or field, info.description or ""
        found.append(Control(field, title, help, kind, info.default, **described))
    return tuple(found)


@dataclass(frozen=True)
class ItemList:
    """A list of smaller parts in a move."""

    field: str
    title: str
    item: type[BaseModel]
    least: int
    most: int
    grows: bool
    fresh: dict[str, Any]


def _described(params: type[BaseModel], what: str) -> Iterator[tuple[str, Any, dict[str, Any]]]:
    for field, info in params.model_fields.items():
        extra = info.json_schema_extra
        described: Any = extra.get(what) if isinstance(extra, dict) else None
        if isinstance(described, dict):
            yield field, info, described


def item_lists(params: type[BaseModel]) -> list[ItemList]:
    """The lists of smaller parts in a parameter class."""
    return [
        ItemList(field, info.title or field, get_args(info.annotation)[0], **described)
        for field, info, described in _described(params, "items_of")
    ]


def number_lists(params: type[BaseModel]) -> dict[str, Control]:
    """The lists of plain numbers in a parameter class, with the control of one of them."""
    return {
        field: Control(field=field, kind="number", default=None, **described)
        for field, _, described in _described(params, "each")
    }


def shown(control: Control, owner: BaseModel) -> bool:
    """Whether a control matters as the values beside it are now."""
    if not control.shown_when:
        return True
    field, *values = control.shown_when
    return getattr(owner, field) in values


def reveals(params: type[BaseModel]) -> set[str]:
    """The fields on which it depends whether others are shown."""
    return {control.shown_when[0] for control in controls_of(params) if control.shown_when}


def control_of(params: type[BaseModel], field: str) -> Control:
    """One control; BadDocument when there is none of that name."""
    for control in controls_of(params):
        if control.field == field:
            return control
    raise BadDocument(f"there is no control {field!r}")


def parse_control(
    params: type[BaseModel],
    field: str,
    value: Any,
    *,
    to_range: bool = False,
    beat_s: float | None = None,
) -> Any:
    """A value as it comes from a form: text is read with its unit, and bounds are checked.

    Raises BadDocument naming the control and its range.
    """
    controls = {control.field: control for control in controls_of(params)}
    control = controls.get(field)
    if control is None:
        return value
    return parse_value(control, value, to_range=to_range, beat_s=beat_s)


def parse_value(
    control: Control, value: Any, *, to_range: bool = False, beat_s: float | None = None
) -> Any:
    """A value of one control; BadDocument names the control and its range.

    With `to_range` a number beyond the range is its end; `beat_s` is how long a quarter note is.
    """
    if control.kind == "switch":
        if isinstance(value, str) and value.lower() in ("on", "off", "true", "false"):
            return value.lower() in ("on", "true")
        return value
    if control.kind == "choice":
        return int(value) if str(value).isdigit() else value
    if isinstance(value, str):
        try:
            value = units.parse(
                value,
                control.unit,
                optional=control.optional,
                endless=control.endless,
                beat_s=beat_s,
            )
        except BadDocument as error:
            raise BadDocument(error.message, where=control.title) from error
    if value is None and control.optional:
        return None
    if isinstance(value, bool) or not isinstance(value, int | float):
        raise BadDocument("a number is needed", where=control.title)
    top = float("inf") if control.endless else control.high
    if to_range and not math.isnan(value):
        value = min(max(value, control.low), top)
    if not control.low <= value <= top:
        low, high = control.say(control.low), control.say(top)
        raise BadDocument(f"from {low} to {high}, not {control.say(value)}", where=control.title)
    return "inf" if value == float("inf") else value
