"""All ways to make room in a fight that make sense, each at five amounts.

for way in ways(fight):
    way.kind, way.far, way.start.settings
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import Any

from pondel.core.advice.proposals import propose
from pondel.core.dsp.fold import Fold
from pondel.core.moves.base import MoveKind
from pondel.core.moves.fight import Fight, Start
from pondel.core.moves.registry import KINDS

AMOUNTS = (1.0, 0.0, 2.0, 0.5, 1.5)
"""From gentle (0) over usual (1) to strong (2), in the order in which they are worked out."""


@dataclass(frozen=True)
class Way:
    """One kind of move at one amount, as it would be laid."""

    kind: str
    far: float
    start: Start
    fight: Fight
    fold: Fold = "both"
    """Where alone it works: it is judged there, and not ranked among the others."""


def ways(fight: Fight, amounts: tuple[float, ...] = AMOUNTS) -> Iterator[Way]:
    """Every kind at the first amount, those that fit fastest leading; then the other amounts.

    A kind that does nothing here is left out, and one that knows no amounts comes once.
    """
    kinds = sorted((k for k in KINDS.values() if k.start is not None), key=lambda k: k.fits_slowly)
    steady: set[str] = set()
    first: dict[str, Start] = {}
    for far in amounts:
        at = replace(fight, far=far)
        for kind in kinds:
            if kind.name in steady:
                continue
            start = propose(at, kind.name)
            if set(start.settings) <= {"kind"}:
                steady.add(kind.name)
                continue
            if far != amounts[0] and start.settings == first[kind.name].settings:
                steady.add(kind.name)
                continue
            first.setdefault(kind.name, start)
            yield Way(kind.name, far, start, at)


def folded_ways(fight: Fight) -> Iterator[Way]:
    """The usual amount in the middle or at the sides alone, where the stereo field allows it."""
    if fight.carved_in == "both":
        return
    at = replace(fight, far=1.0)
    for kind in KINDS.values():
        if kind.start is None or kind.pair is not None:
            continue
        start = propose(at, kind.name)
        settings = _placed(start.settings, kind, fight.carved_in)
        if settings is not None:
            yield Way(kind.name, 1.0, replace(start, settings=settings), at, fight.carved_in)


def _placed(settings: dict[str, Any], kind: MoveKind, fold: Fold) -> dict[str, Any] | None:
    """Settings that act in a fold alone, by the move or by each of its bands; None where none can."""
    by_move = "placement" in kind.params.model_fields
    if set(settings) <= {"kind"} or not (by_move or "bands" in settings):
        return None
    placed = {**settings, "placement": fold}
    if not by_move:
        placed = {**settings, "bands": [{**one, "placement": fold} for one in settings["bands"]]}
    move = kind.params.model_validate({"id": "tried", **placed})
    return placed if kind.judged_in(move) == fold else None
