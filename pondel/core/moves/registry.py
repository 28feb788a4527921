"""The kinds of moves there are: every module of this package that has a KIND is one."""

from __future__ import annotations

import importlib
import pkgutil
from functools import reduce
from operator import or_
from typing import Any

from pondel.core import moves
from pondel.core.errors import BadDocument
from pondel.core.moves.base import MoveKind


def _rooms() -> list[MoveKind]:
    names = [f"{moves.__name__}.{found.name}" for found in pkgutil.iter_modules(moves.__path__)]
    modules = (importlib.import_module(name) for name in names if name != __name__)
    return [module.KIND for module in modules if isinstance(getattr(module, "KIND", None), MoveKind)]


KINDS: dict[str, MoveKind] = {
    kind.name: kind for kind in sorted(_rooms(), key=lambda one: (one.place, one.title))
}
ANY_MOVE: Any = reduce(or_, (kind.params for kind in KINDS.values()))
"""The union of all parameters, told apart by `kind`."""


def kind_of(name: str) -> MoveKind:
    """The registered kind of that name; BadDocument when there is none."""
    kind = KINDS.get(name)
    if kind is None:
        raise BadDocument(f"there is no move called {name!r}; known: {', '.join(KINDS)}")
    return kind
