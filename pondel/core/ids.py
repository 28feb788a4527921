"""Ids that people can read."""

from __future__ import annotations

import re


def fresh_id(wanted: str, taken: set[str]) -> str:
    """An id made of a name's letters that is not taken yet."""
    slug = re.sub(r"[^a-z0-9]+", "-", wanted.lower()).strip("-")[:32] or "x"
    if slug not in taken:
        return slug
    return next(f"{slug}-{n}" for n in range(2, 10_000) if f"{slug}-{n}" not in taken)
