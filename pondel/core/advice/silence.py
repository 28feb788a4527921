"""Why a part is not heard in the mix."""

from __future__ import annotations

from pondel.core.document import Part, Session


def why_silent(session: Session, part: Part) -> str:
    """What keeps a part out of the mix, in words; empty when it is in it."""
    seen: set[str] = set()
    one = part
    while one.id not in seen:
        seen.add(one.id)
        if not one.sounds:
            how = "muted" if one.mute else "a silent key"
            return f"{one.name} is {how}" if one is part else f"{part.name}'s group {one.name} is {how}"
        if one.group is None:
            return ""
        one = session.part(one.group)
    return ""
