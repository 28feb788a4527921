"""Every setting of a move in words: what a recall sheet tells, and what tells two variants apart.

[(one.label, one.words) for one in settings_of(document, move)]
# [("on", "on"), ("key", "Bass drum, at source"), ("threshold", "-30.0 dB"), ...]
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from pondel.core.document import Session
from pondel.core.moves.face import Face, face_of, fields_of
from pondel.core.moves.registry import kind_of

NOBODY = "a part that was taken out"


@dataclass(frozen=True)
class Setting:
    """One value: what it is called, how it is said, and where in the move it stands."""

    label: str
    words: str
    path: str


def settings_of(document: Session, move: Any) -> list[Setting]:
    """All that matters of a move as its values are now, the switch and the key first."""
    face = face_of(kind_of(move.kind), move)
    found = [Setting("on", "on" if move.on else "off", "on")]
    found += [*_key(document, move), *_parts(document, face)]
    grouped = (one for group in face.groups for one in group.fields)
    found += [Setting(_label(one.control.title), one.words, one.path) for one in grouped]
    for n, number in enumerate(face.numbers, 1):
        found.append(Setting(f"{_label(number.control.title)} {n}", number.words, number.path))
    found += _items(face)
    if move.sections:
        names = [one.name for one in document.sections if one.id in move.sections]
        found.append(Setting("only in", ", ".join(names) or "no section", "sections"))
    return [one for n, one in enumerate(found) if one.path not in {each.path for each in found[:n]}]


def changed_by_hand(document: Session, move: Any) -> list[str]:
    """The settings of a first setting that were set by hand since, each with its value now."""
    paths = move.began.by_hand if move.began is not None else []
    return [
        f"{one.label} {one.words}"
        for one in settings_of(document, move)
        if any(one.path == path or one.path.startswith(f"{path}.") for path in paths)
    ]


def name_of(document: Session, part_id: str | None, own: str = "its own part") -> str:
    """What a part that is pointed at is called."""
    if part_id is None:
        return own
    return document.part(part_id).name if document.has_part(part_id) else NOBODY


def _label(title: str) -> str:
    return title if title.isupper() else title[:1].lower() + title[1:]


def _key(document: Session, move: Any) -> Iterator[Setting]:
    key = getattr(move, "key", None)
    if key is None:
        return
    yield Setting("key", name_of(document, key.source), "key.source")
    for one in fields_of(key, "key."):
        yield Setting(f"key, {_label(one.control.title)}", one.words, one.path)


def _parts(document: Session, face: Face) -> Iterator[Setting]:
    for one in face.parts:
        own = "its own part" if one.own else "no part"
        yield Setting(_label(one.title), name_of(document, one.value, own), one.field)


def _items(face: Face) -> Iterator[Setting]:
    for several in face.items:
        name = _label(several.items.title).rstrip("s")
        for n, owner in enumerate(several.owners):
            where = f"{several.items.field}.{n}."
            if not getattr(owner, "on", True):
                yield Setting(f"{name} {n + 1}", "off", where + "on")
                continue
            for one in fields_of(owner, where):
                yield Setting(f"{name} {n + 1}, {_label(one.control.title)}", one.words, one.path)
