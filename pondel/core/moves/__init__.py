"""The moves Pondel knows. Adding one means adding a file here and naming it below.

Its parameters also join `Move` in `core/document.py`, the union of all of them.
"""

from __future__ import annotations

from pondel.core.errors import BadDocument
from pondel.core.moves import (
    alignment,
    complementary_eq,
    compressor,
    drawn_duck,
    dynamic_eq,
    eq,
    gate,
    level,
    multiband,
    spectral_duck,
    tail_trim,
    width,
)
from pondel.core.moves.base import MoveBase, MoveKind, key_in
from pondel.core.moves.describe import Key, Tap

_MODULES = (
    level,
    eq,
    dynamic_eq,
    compressor,
    multiband,
    spectral_duck,
    drawn_duck,
    gate,
    complementary_eq,
    width,
    alignment,
    tail_trim,
)
KINDS: dict[str, MoveKind] = {module.KIND.name: module.KIND for module in _MODULES}

__all__ = ["KINDS", "Key", "MoveBase", "MoveKind", "Tap", "key_in", "kind_of"]


def kind_of(name: str) -> MoveKind:
    """The registered kind of that name; BadDocument when there is none."""
    kind = KINDS.get(name)
    if kind is None:
        raise BadDocument(f"there is no move called {name!r}; known: {', '.join(KINDS)}")
    return kind
