"""Imports point downwards: web, jobs, store, core."""

from __future__ import annotations

import ast
from pathlib import Path

import pytest

import pondel

ROOT = Path(pondel.__file__).parent
LAYERS = ["core", "store", "jobs", "web"]
OUTSIDE = {"core": {"flask", "peewee", "huey", "playhouse", "waitress", "click", "pondel.demo"}}
FILES = sorted(ROOT.rglob("*.py"))


def imports(path: Path) -> set[str]:
    found = set()
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.Import):
            found |= {alias.name for alias in node.names}
        elif isinstance(node, ast.ImportFrom) and node.module:
            found.add(node.module)
    return found


@pytest.mark.parametrize("layer", LAYERS)
def test_no_layer_knows_those_above_it(layer):
    above = {f"pondel.{name}" for name in LAYERS[LAYERS.index(layer) + 1 :]}
    forbidden = above | OUTSIDE.get(layer, set()) | {"pondel.cli"}
    for path in FILES:
        if path.relative_to(ROOT).parts[0] != layer:
            continue
        for name in imports(path):
            assert not any(name == bad or name.startswith(bad + ".") for bad in forbidden), (
                f"{path.relative_to(ROOT)} imports {name}"
            )


FLOORS = [
    {"errors", "units", "model", "refs", "ids", "sealed", "bounded"}
    | {"made_by", "versions", "beats", "notes", "side_by_side", "waiting", "loading"},
    {"dsp"},
    {"moves"},
    {"document", "reading", "losses", "families", "settings", "differences", "listening", "blind"}
    | {"first_loop", "shared_references"},
    {"audio"},
    {"engine"},
    {"measures"},
    {"hearing"},
    {"evidence", "advice", "survival", "measured"},
    {"judgement"},
    {"handon"},
    {"recipes"},
    {"operations"},
    {"warming"},
]
"""What stands on what inside the core, lowest first."""


def floor_of(module: str) -> int:
    return next(n for n, names in enumerate(FLOORS) if module in names)


def test_every_module_of_the_core_stands_on_a_floor():
    found = {path.stem if path.suffix else path.name for path in (ROOT / "core").iterdir()}
    assert found - {"__init__", "__pycache__"} == set().union(*FLOORS)


@pytest.mark.parametrize("path", [p for p in FILES if p.relative_to(ROOT).parts[0] == "core"], ids=str)
def test_nothing_in_the_core_knows_what_stands_above_it(path):
    parts = path.relative_to(ROOT / "core").parts
    own = parts[0].removesuffix(".py")
    if own == "__init__":
        return
    for name in imports(path):
        if not name.startswith("pondel.core."):
            continue
        other = name.split(".")[2]
        assert floor_of(other) <= floor_of(own), f"{'/'.join(parts)} imports {name}"
