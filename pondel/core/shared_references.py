"""Reference tracks are of the session, not of one variant: all variants have the same ones.

with_references_of(variant_b, variant_a)     # B with the references of A
"""

from __future__ import annotations

from pondel.core.document import Part, Session
from pondel.core.losses import without
from pondel.core.reading import parse_session, to_json


def references_in(document: Session) -> list[Part]:
    """The parts that are references."""
    return [part for part in document.parts if part.reference]


def with_references_of(document: Session, other: Session) -> Session:
    """A document with the references of another one of the same session.

    What is a reference there becomes one here; what is a part there is a part here; what is gone
    there goes.
    """
    wanted = {part.id: part for part in references_in(other)}
    gone = {one.id for one in references_in(document)} - {part.id for part in other.parts}
    left = without(document, parts=gone)[0] if gone else document
    parts = [
        part.model_copy(update={"reference": part.id in wanted})
        if part.reference or part.id in wanted
        else part
        for part in left.parts
    ]
    here = {part.id for part in parts}
    parts += [
        part.model_copy(update={"group": None, "sends": []})
        for part in wanted.values()
        if part.id not in here
    ]
    if parts == left.parts:
        return left
    return parse_session(to_json(left.model_copy(update={"parts": parts})))
