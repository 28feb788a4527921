"""Families: parts that fold into one row, by role or by the group they feed.

families(document, "role")     # [Family("role:voice", "voice", ["lead", "double"])]
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from pondel.core.document import Session

BY = ("role", "group")
Members = Mapping[str, Sequence[str]]
"""Ids of families, each with the ids of its parts."""


@dataclass(frozen=True)
class Family:
    """Two or more parts that are shown as one, in the order of the session."""

    id: str
    name: str
    members: list[str]


def families(document: Session, by: str) -> list[Family]:
    """The families of a session; none where `by` is neither a role nor a group."""
    members: dict[str, list[str]] = {}
    for part in document.parts:
        of = {"role": part.role if part.file is not None else None, "group": part.group}.get(by)
        if of is not None and not part.reference:
            members.setdefault(of, []).append(part.id)
    names = {part.id: part.name for part in document.parts} if by == "group" else {}
    return [
        Family(f"{by}:{of}", names.get(of, of), parts)
        for of, parts in members.items()
        if len(parts) > 1
    ]


def groups_among(document: Session, part_ids: Sequence[str]) -> Members:
    """The groups among some parts, each with the parts that feed it, and are not named themselves."""
    found = {}
    for part_id in part_ids:
        members = [part.id for part in document.parts if part.group == part_id]
        members = [one for one in members if one not in part_ids]
        if members:
            found[part_id] = members
    return found


def together(
    ids: Sequence[str], powers: np.ndarray, on_hits: np.ndarray, folded: Members
) -> tuple[list[str], np.ndarray, np.ndarray]:
    """Parts' power with families as their sums, each in the place of its first part.

    `powers` is (parts, frames, places), `on_hits` (parts, frames): a family has the hits of all its
    parts. Powers add, as of sounds that have nothing to do with each other.
    """
    if not folded:
        return list(ids), powers, on_hits
    family_of = {part: family for family, parts in folded.items() for part in parts}
    rows: dict[str, list[int]] = {}
    for n, part in enumerate(ids):
        rows.setdefault(family_of.get(part, part), []).append(n)
    return (
        list(rows),
        np.stack([powers[some].sum(axis=0) for some in rows.values()]),
        np.stack([on_hits[some].any(axis=0) for some in rows.values()]),
    )
