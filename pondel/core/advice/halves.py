"""Left and right halves of stereo parts, told by their names.

halves(["Room L", "Kick", "Room R"])     # [(0, 2, "Room")]
"""

from __future__ import annotations

import re
from collections.abc import Sequence

_SIDE = re.compile(
    r"^(?P<name>.*?)[\s._\-(\[]*(?<![A-Za-z])(?P<side>left|right|l|r)[\s)\]]*$|^(?P<joined>.+[a-z0-9])(?P<capital>[LR])$",
    re.IGNORECASE,
)
_LEFT = {"l", "left"}


def _half_of(name: str) -> tuple[str, bool] | None:
    """The name without its side, and whether that is the left one; None where it tells none."""
    found = _SIDE.match(name.strip())
    if found is None:
        return None
    if found["side"] and found["name"].strip():
        return found["name"].strip(), found["side"].lower() in _LEFT
    if found["joined"] and found["capital"].isupper():
        return found["joined"].strip(), found["capital"] == "L"
    return None


def halves(names: Sequence[str]) -> list[tuple[int, int, str]]:
    """Which names are the left and the right of one: places of both, and the name without a side.

    Only where exactly one of each is there.
    """
    sides: dict[str, dict[bool, list[int]]] = {}
    shown: dict[str, str] = {}
    for n, name in enumerate(names):
        half = _half_of(name)
        if half is None:
            continue
        key = half[0].casefold()
        shown.setdefault(key, half[0])
        sides.setdefault(key, {True: [], False: []})[half[1]].append(n)
    return [
        (both[True][0], both[False][0], shown[key])
        for key, both in sides.items()
        if len(both[True]) == len(both[False]) == 1
    ]
