"""How a leader stands, in the words that Lanes, Moves and Proof share."""

from __future__ import annotations

from collections.abc import Callable

from pondel.core.dsp.fold import Side
from pondel.core.evidence import Change, FightEvidence
from pondel.core.hearing.clear import standing
from pondel.core.units import say_hz
from pondel.web.words import percent, signed

NOTHING = "–"
WHERE: dict[Side, str] = {
    "both": "on both sides",
    "middle": "in the middle",
    "sides": "at the sides",
    "left": "at the left",
    "right": "at the right",
}
"""Where something is judged."""


def clear(clear_db: float | None) -> str:
    """A clear-by, "+2.4 dB"; a dash of what does not sound, or has no hits."""
    return NOTHING if clear_db is None else signed(clear_db, "dB")


def _bare(clear_db: float | None) -> str:
    return NOTHING if clear_db is None else signed(clear_db, "")


def word(clear_db: float | None) -> str:
    """What a clear-by means."""
    return "silent" if clear_db is None else standing(clear_db)


def arrow(before: str, after: str) -> str:
    """Both, or one where they are the same; a unit that both have is said once."""
    if before == after:
        return after
    number, _, unit = before.rpartition(" ")
    return f"{number if number and after.endswith(' ' + unit) else before} → {after}"


def _both(change: Change, pick: Callable, say: Callable[[float | None], str]) -> str:
    return arrow(say(pick(change.before)), say(pick(change.after)))


def _words(before: str, after: str) -> str:
    return after if before == after else f"{before} → {after}"


def _share(share: float | None) -> str:
    return NOTHING if share is None else percent(share)


def fight_words(found: FightEvidence, side: Side = "both") -> dict[str, str]:
    """All figures of a fight, before and after, by the name of their place on the screen.

    `side` is where alone it was judged, if not on both channels together.
    """
    zone, whole = found.zone, found.whole
    words = _words(word(zone.before.clear_db), word(zone.after.clear_db))
    is_same = found.zone.before == found.zone.after
    where = "" if side == "both" else f", {WHERE[side]} alone"
    return {
        "zone": f"{say_hz(found.zone_hz[0])} to {say_hz(found.zone_hz[1])}{where}",
        "standing": words if is_same or not zone.is_small else f"{words}: too small to hear",
        "clear": _both(zone, lambda one: one.clear_db, _bare),
        "clear-on-hits": _both(zone, lambda one: one.clear_on_hits_db, _bare),
        "hidden": _both(zone, lambda one: one.share, _share),
        "on-hits": _both(zone, lambda one: one.on_hits, _share),
        "whole-clear": _both(whole, lambda one: one.clear_db, _bare),
        "whole-hidden": _both(whole, lambda one: one.share, _share),
        "cost": f"{signed(-100 * found.cost_share, '', 1)} %",
    }
