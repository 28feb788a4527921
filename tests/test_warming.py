"""Nothing waits for the compiler: every kernel is compiled before it is needed."""

from __future__ import annotations

import ast
import importlib
from pathlib import Path

import pondel.core
from pondel.core import warming

CORE = Path(pondel.core.__file__).parent


def is_kernel(node) -> bool:
    decorators = [getattr(one, "func", one) for one in getattr(node, "decorator_list", [])]
    return any(isinstance(one, ast.Name) and one.id == "kernel" for one in decorators)


def called_by_python(tree: ast.Module) -> set[str]:
    """The names that are called anywhere but in kernels."""
    found = set()
    for node in tree.body:
        if is_kernel(node):
            continue
        calls = [one.func for one in ast.walk(node) if isinstance(one, ast.Call)]
        found |= {one.id for one in calls if isinstance(one, ast.Name)}
    return found


def first_kernels():
    """Every kernel that Python calls, and so compiles, by its name."""
    trees = {path: ast.parse(path.read_text()) for path in CORE.rglob("*.py")}
    called = set().union(*map(called_by_python, trees.values()))
    for path, tree in trees.items():
        module = ".".join(["pondel.core", *path.relative_to(CORE).with_suffix("").parts])
        for name in (node.name for node in tree.body if is_kernel(node) and node.name in called):
            yield f"{module}.{name}", getattr(importlib.import_module(module), name)


def test_every_kernel_is_reached_in_the_order_of_likely_use():
    names = []
    for name, work in warming.steps():
        work()
        names.append(name)
    kernels = dict(first_kernels())
    assert len(kernels) > 40
    assert [name for name, kernel in kernels.items() if not kernel.signatures] == []
    assert names[:2] == ["recordings", "hearing"] and "compressor" in names
