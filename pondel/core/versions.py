"""The road from every older form of the mix document to the present one.

    found = brought_up(json.loads(text))
    found.document      # in the present form, as far as the older one was sound
    found.notes         # what a listener may notice, in words

A document says its version in `pondel`; one that says none is taken for the first. Nothing is checked
here: what is wrong with a document is left in it, for the model to name.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from typing import Any, Literal

from pondel.core.errors import BadDocument

VERSION: Literal[3] = 3
Json = dict[str, Any]


@dataclass(frozen=True)
class BroughtUp:
    """A document in the present form; `came_from` is the version it said."""

    document: Any
    came_from: int = VERSION
    notes: list[str] = field(default_factory=list)


def brought_up(data: Any) -> BroughtUp:
    """A document as parsed from JSON, in the present form; BadDocument when it is a newer one's."""
    if not isinstance(data, dict):
        return BroughtUp(data)
    said = data.get("pondel", 1)
    if isinstance(said, bool) or not isinstance(said, int) or said < 1:
        return BroughtUp(data)
    if said > VERSION:
        raise BadDocument(
            f"pondel: this was made by a newer Pondel (form {said}; this one reads up to {VERSION})"
        )
    notes: list[str] = []
    for version in range(said, VERSION):
        data, more = STEPS[version](data)
        notes += more
    return BroughtUp({**data, "pondel": VERSION}, said, notes)


def _dicts(holder: Json, name: str) -> Iterator[Json]:
    rows = holder.get(name)
    if isinstance(rows, list):
        yield from (row for row in rows if isinstance(row, dict))


def _copied(value: Any) -> Any:
    if isinstance(value, dict):
        return {key: _copied(one) for key, one in value.items()}
    return [_copied(one) for one in value] if isinstance(value, list) else value


def _ids(data: Json, name: str) -> set[str]:
    return {row["id"] for row in _dicts(data, name) if isinstance(row.get("id"), str)}


def _hits_leave_moves(data: Json) -> tuple[Json, list[str]]:
    """1 to 2: moves say whose hits they follow and hold no copy of them; pairs are tied by one field.

    What pointed at nothing is told, and sounds as before: a limit to sections that are gone was none.
    """
    data = _copied(data)
    parts, sections = _ids(data, "parts"), _ids(data, "sections")
    owners = _owners_of_hits(data, parts)
    notes: list[str] = []
    for part in _dicts(data, "parts"):
        for move in _dicts(part, "moves"):
            if isinstance(move.get("sections"), list):
                move["sections"] = _known(move["sections"], sections)
            if "tied_part" in move or "tied_move" in move:
                move["tied_to"] = {"part": move.pop("tied_part", ""), "move": move.pop("tied_move", "")}
            key = move.get("key")
            heard = key.get("source") if isinstance(key, dict) else None
            if isinstance(heard, str) and heard not in parts:
                move["lost"] = "The part it listened to was taken out."
            if "hits_s" in move and move.get("kind") in ("drawn duck", "tail trim"):
                notes += _follow_hits(part, move, parts, owners)
    zones = data.get("zones")
    if isinstance(zones, list):
        data["zones"] = [zone for zone in zones if _still_fought(zone, parts, sections)]
    return data, notes


def _known(ids: list[Any], known: set[str]) -> list[Any]:
    return [one for one in ids if not isinstance(one, str) or one in known]


def _still_fought(zone: Any, parts: set[str], sections: set[str]) -> bool:
    """Whether a zone's parts are there; what is gone besides leaves it."""
    if not isinstance(zone, dict):
        return True
    for name, known in (("gives_way", parts), ("sections", sections)):
        if isinstance(zone.get(name), list):
            left = _known(zone[name], known)
            if zone[name] and not left and name == "gives_way":
                return False
            zone[name] = left
    return not isinstance(zone.get("leads"), str) or zone["leads"] in parts


def _times(move: Json) -> tuple[float, ...]:
    times = move.get("hits_s")
    plain = isinstance(times, list) and all(
        isinstance(one, int | float) and not isinstance(one, bool) for one in times
    )
    return tuple(times) if plain else ()  # type: ignore[arg-type]


def _owners_of_hits(data: Json, parts: set[str]) -> dict[tuple[float, ...], str]:
    """Whose hits a list of times is, as far as a move says so."""
    found = {}
    for part in _dicts(data, "parts"):
        for move in _dicts(part, "moves"):
            named = move.get("hits_of")
            if isinstance(named, str) and named in parts and _times(move):
                found[_times(move)] = named
    return found


def _follow_hits(
    part: Json, move: Json, parts: set[str], owners: dict[tuple[float, ...], str]
) -> list[str]:
    """Put whose hits a move follows in place of their times."""
    times, named = _times(move), move.get("hits_of")
    move.pop("hits_s", None)
    own = part.get("id")
    name = f"{move.get('kind')} of {part.get('name', own)!r:.80}"
    if move.get("kind") == "tail trim":
        owner = owners.get(times)
        move["hits_of"] = None if owner == own else owner
        if not times and move.get("on", True) is True:
            move["on"] = False
            return [f"The {name} had no hits to follow; it is off, which sounds the same."]
        return []
    if not times or (isinstance(named, str) and named in parts):
        return []
    if times in owners:
        move["hits_of"] = owners[times]
        return []
    hits = part.get("hits")
    if part.get("file") and not (isinstance(hits, dict) and _by_hand(hits)):
        start_s = part.get("start_s", 0.0)
        shift = start_s if isinstance(start_s, int | float) else 0.0
        kept = hits if isinstance(hits, dict) else {}
        part["hits"] = {**kept, "midi_s": [round(one - shift, 4) for one in times]}
        move["hits_of"] = own
        return []
    move |= {"on": False, "lost": "The hits it followed belong to no part any more."}
    return [f"The {name} followed hits that belong to no part; it is off: choose whose it follows."]


def _by_hand(hits: Json) -> bool:
    return any(hits.get(name) for name in ("added_s", "removed_s", "midi_s"))


def _words_of_the_trade(data: Json) -> tuple[Json, list[str]]:
    """2 to 3: the spectral duck's sensitivity and sharpness are a threshold and a ratio.

    What is tied to another part listens to that part. A tempo that was never changed was never told.
    """
    data = _copied(data)
    data.setdefault("tempo_from", "nobody" if data.get("tempo_bpm", 120) == 120 else "told")
    notes: list[str] = []
    for part in _dicts(data, "parts"):
        for move in _dicts(part, "moves"):
            notes += _hear_the_other_side(part, move)
            if move.get("kind") != "spectral duck":
                continue
            move.setdefault("threshold_db", move.pop("sensitivity_db", -40.0))
            sharpness = move.pop("sharpness", 0.5)
            if isinstance(sharpness, int | float) and not isinstance(sharpness, bool):
                move.setdefault("ratio", 1.0 / (1.0 - sharpness) if sharpness < 1.0 else "inf")
            else:
                move["ratio"] = sharpness
    return data, notes


def _hear_the_other_side(part: Json, move: Json) -> list[str]:
    tie, key = move.get("tied_to"), move.get("key")
    if not isinstance(tie, dict) or move.get("lost"):
        return []
    heard = key.get("source") if isinstance(key, dict) else None
    other = tie.get("part", heard)
    if isinstance(key, dict):
        key["source"] = other
    sides = (move.get("side", "gives"), "both")
    moving = any(band.get("dynamic") in sides for band in _dicts(move, "bands"))
    if heard == other or not moving:
        return []
    name = f"{move.get('kind')} of {part.get('name', part.get('id'))!r:.80}"
    return [f"The {name} listens to the part it is tied to now."]


STEPS: dict[int, Callable[[Json], tuple[Json, list[str]]]] = {
    1: _hits_leave_moves,
    2: _words_of_the_trade,
}
