"""Names under which what the ear gets of a sound is kept."""

from __future__ import annotations

from pondel.core.engine.ears import EarSource, file_ears
from pondel.core.made_by import made_by


def hearing_code() -> str:
    """Which code hears a part, and adds parts up."""
    return made_by("pondel.core.hearing", "pondel.core.engine.ears")


def ears_name(source: EarSource) -> str:
    """The name of the analysis of a source over the whole song."""
    return f"ears {hearing_code()} {source.name}"


def file_ears_name(file: str, rate: int) -> str:
    """The name of the analysis of a recording as it came in."""
    return f"ears {hearing_code()} {file_ears(file, rate)}"
