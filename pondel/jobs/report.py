"""The measures of a session as one JSON object; docs/measure.md describes its fields."""

from __future__ import annotations

from typing import Any

from pondel.core.document import Session
from pondel.jobs.desk import Desk


def measure_report(desk: Desk, document: Session, session_id: str) -> dict[str, Any]:
    """Levels of every part, hidden shares, pairs worst first, and the zones of the document."""
    table = desk.table(document)
    parts = []
    for part in document.parts:
        if part.file is None:
            continue
        recording = desk.recording(part.file)
        found = table.parts.get(part.id)
        parts.append(
            {
                "id": part.id,
                "name": part.name,
                "role": part.role,
                **recording.levels.as_json(),
                "hits": int(recording.hits_s.size),
                "hidden_share": round(found.hidden_share, 4) if found else 0.0,
                "loudness_sone": round(found.loudness_sone, 4) if found else 0.0,
            }
        )
    return {
        "session": session_id,
        "name": document.name,
        "rate": document.rate,
        "listening_level_db_spl": document.listening_level_db_spl,
        "parts": parts,
        "pairs": [pair.as_json() for pair in table.pairs],
        "zones": [zone.model_dump(mode="json") for zone in document.zones],
    }
