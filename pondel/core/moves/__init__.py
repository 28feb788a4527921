"""The moves Pondel knows. Adding one means adding a file here and naming it below."""

from __future__ import annotations

from pondel.core.errors import BadDocument
from pondel.core.moves import compressor
from pondel.core.moves.base import Key, MoveBase, MoveKind, Tap

KINDS: dict[str, MoveKind] = {kind.name: kind for kind in (compressor.KIND,)}

__all__ = ["KINDS", "Key", "MoveBase", "MoveKind", "Tap", "kind_of"]


def kind_of(name: str) -> MoveKind:
    """The registered kind of that name; BadDocument when there is none."""
    kind = KINDS.get(name)
    if kind is None:
        raise BadDocument(f"there is no move called {name!r}; known: {', '.join(KINDS)}")
    return kind
