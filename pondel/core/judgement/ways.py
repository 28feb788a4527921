"""All ways to make room in a fight that make sense, each at five amounts.

for way in ways(fight):
    way.kind, way.far, way.start.settings
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Any

from pondel.core.advice.proposals import propose
from pondel.core.dsp.fold import Side
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
    fold: Side = "both"
    """Where alone it works: it is judged there, and not ranked among the others."""


def ways(fight: Fight, amounts: tuple[float, ...] = AMOUNTS) -> Iterator[Way]:
    """Every kind at the first amount, those that fit fastest leading; then the other amounts.

    A kind that does nothing here is left out, and one that knows no amounts comes once.
    """
    kinds = [kind for kind in KINDS.values() if kind.start is not None and not kind.aside]
    yield from _at_amounts(fight, sorted(kinds, key=lambda kind: kind.fits_slowly), amounts)


def folded_ways(fight: Fight, amounts: tuple[float, ...] = AMOUNTS) -> Iterator[Way]:
    """What works on one side alone: aside at every amount, and where the stereo field allows it the
    usual amount in the middle or at the sides."""
    yield from _at_amounts(fight, [kind for kind in KINDS.values() if kind.aside], amounts)
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


def _at_amounts(fight: Fight, kinds: Sequence[MoveKind], amounts: tuple[float, ...]) -> Iterator[Way]:
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
            side = _judged_in(kind, start.settings) if kind.aside else "both"
            yield Way(kind.name, far, start, at, side)


def _judged_in(kind: MoveKind, settings: dict[str, Any]) -> Side:
    """Where alone a move of these settings works, or both."""
    return kind.judged_in(kind.params.model_validate({"id": "tried", **settings}))


def _placed(settings: dict[str, Any], kind: MoveKind, fold: Side) -> dict[str, Any] | None:
    """Settings that act in a fold alone, by the move or by each of its bands; None where none can."""
    by_move = "placement" in kind.params.model_fields
    if set(settings) <= {"kind"} or not (by_move or "bands" in settings):
        return None
    placed = {**settings, "placement": fold}
    if not by_move:
        placed = {**settings, "bands": [{**one, "placement": fold} for one in settings["bands"]]}
    return placed if _judged_in(kind, placed) == fold else None
