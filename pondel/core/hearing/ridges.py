"""Ridges: each part along the ear's scale, how much of it is hidden there, and by whom.

ridge_of(table, "kick").hidden      # 0 to 1 at each place of PLACES_HZ
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from pondel.core.hearing.table import WHOLE, HiddenTable, Scope

LEAST_HEIGHT = 0.01
"""Where a ridge is lower than this share of its top, nothing of it counts as hidden."""
LEAST_TOLD = 0.1
"""A part that hides less than this of another at a place is not told there."""


@dataclass(frozen=True)
class Ridge:
    """One part along the scale.

    `alone` is its specific loudness by itself over the highest there is (places,), `hidden` the share
    of it that all others take (places,), `main` names who takes most there, "" where nobody does
    (places,), and `by` has, of each that takes a tenth or more somewhere, the places and shares.
    """

    alone: np.ndarray
    hidden: np.ndarray
    main: list[str]
    by: dict[str, dict[int, float]]


def ridge_of(table: HiddenTable, part: str, scope: Scope = WHOLE) -> Ridge:
    """The ridge of one part of a table."""
    alone = table.alone(part, scope).astype(np.float64)
    top = float(alone.max())
    counts = alone > LEAST_HEIGHT * top
    divisor = np.where(counts, alone, np.inf)
    shares = table.taken(part, scope) / divisor
    hidden = np.minimum(1.0, table.lost(part, None, scope) / divisor)
    most = shares.argmax(axis=0)
    is_hidden = shares.max(axis=0) > 0.0
    by: dict[str, dict[int, float]] = {}
    for other, place in np.argwhere(shares >= LEAST_TOLD):
        by.setdefault(table.ids[other], {})[int(place)] = float(min(1.0, shares[other, place]))
    return Ridge(
        alone / top if top > 0.0 else alone,
        hidden,
        [table.ids[other] if told else "" for other, told in zip(most, is_hidden, strict=True)],
        by,
    )
