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
