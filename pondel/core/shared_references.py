"""Reference tracks belong to the session: a change of them in one variant is one of all.

with_changed_references(variant_b, before, after)     # B with what changed from `before` to `after`
"""

from __future__ import annotations

from pondel.core.document import Part, Session
from pondel.core.losses import without
from pondel.core.reading import parse_session, to_json


def references_in(document: Session) -> dict[str, Part]:
    """The parts that are references, by id."""
    return {part.id: part for part in document.parts if part.reference}


def with_changed_references(document: Session, before: Session, after: Session) -> Session:
    """A document with the references that came or went between two states of another variant.

    What the document has besides stays as it is.
    """
    was, now, own = references_in(before), references_in(after), references_in(document)
    gone = {one for one in was if not after.has_part(one)} & own.keys()
    left = without(document, parts=gone)[0] if gone else document
    new, ended = now.keys() - was.keys(), was.keys() - now.keys()
    parts = [
        part.model_copy(update={"reference": part.id in new}) if part.id in new | ended else part
        for part in left.parts
    ]
    here = {part.id for part in parts}
    parts += [
        now[one].model_copy(update={"group": None, "sends": []}) for one in now if one in new - here
    ]
    if parts == left.parts:
        return left
    return parse_session(to_json(left.model_copy(update={"parts": parts})))
