"""Puts the demo session into a library."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path
from typing import Any

from pondel import demo
from pondel.core.document import Part, Send, Session
from pondel.core.errors import NotFound
from pondel.core.ids import fresh_id
from pondel.core.reading import parse_session, to_json
from pondel.demo.references import PIECES, play_references
from pondel.demo.synth import PLAYERS, RATE
from pondel.jobs.desk import Desk
from pondel.jobs.sessions import take_file
from pondel.store.library import Library
from pondel.store.variants import Variants

DEMO = "lantern-parade"
DECIDED = json.loads((Path(__file__).parent / "variants.json").read_text())
"""Who leads in the three fights that are built in, and two ways to make room: B gentle, C firm."""


def _spaces(returns: dict[str, str]) -> list[dict[str, Any]]:
    """The returns as they stand in a document."""
    found = []
    for name, part_id in returns.items():
        move = {"id": "m1", **demo.SPACES[name]}
        fixed = {"id": part_id, "name": name, "role": "effect", "source": "sends"}
        found.append({**fixed, "moves": [move]})
    return found


STEPS = len(PLAYERS) + len(PIECES)
"""So many recordings are played, each of which is said."""


def found_demo(library: Library) -> str | None:
    """The id of the demo session if it is there, brought back if it was set aside."""
    if any(card.id == DEMO for card in library.removed()):
        library.bring_back(DEMO)
    try:
        return library.find(DEMO)
    except NotFound:
        return None


def ensure_demo(desk: Desk, say: Callable[[str], None] = lambda text: None) -> str:
    """The id of the demo session; it is played, measured and made if it is absent."""
    return found_demo(desk.library) or make_demo(desk, say)


def make_demo(
    desk: Desk, say: Callable[[str], None] = lambda text: None, *, measured: bool = True
) -> str:
    """Play the demo, measure it if it is to be `measured`, and make its session: the id of that."""
    library = desk.library
    _, sections, tempo_bpm, _ = demo.score()
    stems = demo.play_stems(library.data_dir / "demo" / "stems", say)
    parts: list[Part] = []
    for stem in stems:
        role, fader_db, pan = demo.MIX[stem.stem]
        file = take_file(library, stem, RATE)
        part_id = fresh_id(stem.stem, {part.id for part in parts})
        parts.append(Part(id=part_id, name=stem.stem, role=role, file=file, fader_db=fader_db, pan=pan))
    references = []
    for track in play_references(library.data_dir / "demo" / "references", say):
        part_id = fresh_id(track.stem, {part.id for part in parts})
        file = take_file(library, track, RATE)
        references.append(Part(id=part_id, name=track.stem, file=file, reference=True))
    returns = {name: fresh_id(name, {part.id for part in parts}) for name in demo.SPACES}
    for part in parts:
        part.sends = [
            Send(to=returns[name], level_db=level_db)
            for name, level_db in demo.SENT_DB.get(part.name, {}).items()
        ]
    document = Session.model_validate(
        {
            "name": demo.NAME,
            "rate": RATE,
            "tempo_bpm": tempo_bpm,
            "sections": sections,
            "parts": [
                *(part.model_dump() for part in parts),
                *_spaces(returns),
                *(track.model_dump() for track in references),
            ],
            "zones": DECIDED["zones"],
        }
    )
    if measured:
        say("measuring who hides whom")
        for part in [*parts, *references]:
            desk.recordings.take(part.file or "")
        desk.analysis.whole_table(document)
    session_id = library.create(document, rate_known=True)
    others = {letter: _treated(document, moves) for letter, moves in DECIDED["variants"].items()}
    Variants(library).put_back(session_id, "A", others)
    return session_id


def _treated(document: Session, moves: dict[str, list[Any]]) -> Session:
    """The demo with moves on some of its parts."""
    data = to_json(document)
    for part in data["parts"]:
        part["moves"] = moves.get(part["id"], part["moves"])
    return parse_session(data)
