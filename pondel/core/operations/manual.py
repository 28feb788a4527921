"""The manual of operations, made from the models themselves."""

from __future__ import annotations

import json
from collections.abc import Iterator
from typing import Any

from pondel.core.operations import OPERATIONS
from pondel.core.operations.base import Operation

BEGINNING = """# Operations

The whole of [the first duck](first-duck.md), from a script; `make demo` made the session:

    pondel do "Lantern Parade" - <<'JSON'
    [{"op": "decide", "leads": "bass-drum", "gives_way": "tuba", "low_hz": 40, "high_hz": "120 Hz"},
     {"op": "right of way", "zone": "z1", "start_s": 18.5},
     {"op": "set move", "part": "tuba", "move": "m1", "field": "crossovers_hz.0", "value": "110 Hz"},
     {"op": "set move", "part": "tuba", "move": "m1", "field": "bands.0.hold_ms", "value": "60 ms"},
     {"op": "set move", "part": "tuba", "move": "m1", "field": "bands.0.release_ms", "value": "120 ms"}]
    JSON
    pondel measure "Lantern Parade" --json > after.json
    pondel render "Lantern Parade" --out printed --what both

Every change of a session is one of these, whether it comes from a screen, from a script or from another
program. Several are applied in turn: all of them, or none. `pondel do` prints the new revision and what
the operations have to say; it ends with status 2, and one line that says what and where, when one of
them cannot be done. `pondel schema --operations` prints their JSON Schema. A value is a number in the
unit of its name, or text as it is typed into a control ("-3 dB", "1.2k", "off").
"""
MOST_KINDS = 3
FAMILIES = {
    "song": "The song",
    "parts": "Parts",
    "spaces": "Spaces",
    "hits": "Hits",
    "zones": "Decisions",
    "ways": "Giving way",
    "how_far": "How far",
    "under_one": "One over many",
    "plan": "A plan for the whole mix",
    "contrast": "Contrast",
    "recipes": "Recipes",
    "take_over": "Taking over",
    "chain": "Chains of moves",
    "moves": "Settings of moves",
}


def manual() -> str:
    """The text of docs/operations.md."""
    pieces = [BEGINNING]
    for family, title in FAMILIES.items():
        pieces.append(f"## {title}\n")
        pieces += [_entry(one) for one in OPERATIONS.values() if one.__module__.endswith(family)]
    return "\n".join(pieces)


def _entry(operation: type[Operation]) -> str:
    name = operation.model_fields["op"].default
    text = "\n".join(line.strip() for line in (operation.__doc__ or "").strip().splitlines())
    example = json.dumps({"op": name, **operation.example}, ensure_ascii=False)
    fields = "\n".join(_fields(operation))
    return f"### {name}\n\n{text}\n\n    {example}\n\n{fields}\n"


def _fields(operation: type[Operation]) -> Iterator[str]:
    schema = operation.model_json_schema()
    needed = schema.get("required", [])
    for name, facts in schema["properties"].items():
        if name != "op":
            yield f"- `{name}`: {_kind(facts, schema)}{'' if name in needed else ', may be left out'}"


def _kind(facts: dict[str, Any], schema: dict[str, Any]) -> str:
    """What a field takes, in words."""
    if "$ref" in facts:
        return _kind(schema["$defs"][facts["$ref"].rsplit("/", maxsplit=1)[-1]], schema)
    if len(facts.get("anyOf", [])) > MOST_KINDS:
        return "a value"
    if "anyOf" in facts:
        return " or ".join(dict.fromkeys(_kind(one, schema) for one in facts["anyOf"]))
    if "const" in facts:
        return f"`{facts['const']}`" if facts["const"] else "nothing"
    if "enum" in facts:
        return " or ".join(f"`{one}`" for one in facts["enum"] if one != "") or "nothing"
    return _plain_kind(facts, schema)


def _plain_kind(facts: dict[str, Any], schema: dict[str, Any]) -> str:
    kind = facts.get("type")
    if kind == "array":
        inner = _kind(facts.get("items", {}), schema)
        return f"a list of {inner}"
    if kind in ("number", "integer"):
        low, high = facts.get("minimum"), facts.get("maximum")
        words = "a number" if kind == "number" else "a whole number"
        return words if low is None else f"{words} from {low:g} to {high:g}"
    if kind == "object" and "properties" in facts:
        return "objects with " + ", ".join(f"`{name}`" for name in facts["properties"])
    return {"string": "text", "boolean": "true or false", "null": "null"}.get(str(kind), "an object")
