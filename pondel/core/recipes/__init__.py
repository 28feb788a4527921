"""Recipes that come with Pondel: chains of moves as open JSON, laid on a part or a return.

space = SPACES["echo"]
space.title, space.why     # "Echo", "Repeats fill the pauses ..."
"""

from __future__ import annotations

from functools import lru_cache
from importlib.resources import files
from typing import Any

from pydantic import TypeAdapter

from pondel.core.model import Model


class Space(Model):
    """A return that a part is sent to, and how it steps aside for that part.

    `moves` are the return's first moves, in order; `gives_way` is the kind of the last one, keyed by
    the part. Cuts lie no further in than the ones given here.
    """

    name: str
    title: str
    why: str
    send_db: float
    moves: list[dict[str, Any]]
    gives_way: str


@lru_cache(maxsize=1)
def spaces() -> dict[str, Space]:
    """The spaces by name, in the order in which they are offered."""
    text = (files(__name__) / "spaces.json").read_text(encoding="utf-8")
    return {space.name: space for space in TypeAdapter(list[Space]).validate_json(text)}
