"""What every view starts from: the jobs of the app, and the session an address names."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import asdict, dataclass
from functools import wraps
from typing import Any, TypeVar

from flask import current_app, flash, request, url_for

from pondel.core.document import Part, Session
from pondel.core.errors import BadDocument, NotFound, NotYet, StaleEdit
from pondel.core.first_loop import UNKNOWN_S, first_loop
from pondel.jobs.desk import Desk
from pondel.jobs.references import references_of
from pondel.jobs.tasks import Jobs
from pondel.jobs.turns import Superseded
from pondel.store.library import Library
from pondel.store.revisions import Revision
from pondel.web import asked
from pondel.web.ink import inked

EXTENSION = "pondel"
LEVELS_DB_SPL = {"quiet": 60.0, "loud": 95.0}
"""What the model assumes where the deck says so; else the session's own level."""
Result = TypeVar("Result")
Answer = TypeVar("Answer")


def jobs() -> Jobs:
    return current_app.extensions[EXTENSION]


def library() -> Library:
    return jobs().library


def desk() -> Desk:
    return jobs().desk


def head(session_id: str) -> Revision:
    """The session's present state; NotFound becomes a 404 page."""
    return library().head(session_id)


def opened(session_id: str) -> Revision:
    """The present state of a session whose screen is opened; NotYet until all of it is measured."""
    revision = head(session_id)
    if desk().recordings.missing(revision.document):
        raise NotYet("the recordings are being measured: a moment")
    for note in library().bring_up(session_id):
        flash(note)
    library().touch(session_id)
    return revision


def still_as(session_id: str, document: Session) -> None:
    """StaleEdit when a session is not any more what something was worked out for."""
    if head(session_id).document != document:
        raise StaleEdit("the session was changed since this was worked out: look at it again")


def asked_revision(session_id: str) -> Revision:
    """The revision the address asks for, or the head.

    A drag replaces its own revisions, so one that was the newest a moment ago may be gone: its
    place is taken by the head.
    """
    revision = asked.whole("revision")
    if revision is None:
        return head(session_id)
    try:
        return library().revision(session_id, revision)
    except NotFound:
        return head(session_id)


def take_turn(what: str, work: Callable[[], Result]) -> Result:
    """Analyse when its turn comes; Superseded when a newer question of the page and kind came."""
    app = current_app._get_current_object()  # type: ignore[attr-defined]

    def inside() -> Result:
        with app.app_context():
            return work()

    is_gone = request.environ.get("waitress.client_disconnected", nobody_left)
    return jobs().turns.take(what, asked.words("page", most=40) or None, inside, is_gone)


def in_turn(what: str, work: Callable[[], dict[str, Any]]) -> dict[str, Any]:
    """Analyse when its turn comes; a newer question of the same page and kind goes first."""
    try:
        return take_turn(what, work)
    except Superseded:
        return {"superseded": True}


NOTHING_NEW = ("", 204)
"""The answer with nothing to show: a newer question came first, or what it was about is gone."""


def nobody_left() -> bool:
    """Where the server cannot tell whether the asker has gone."""
    return False


def for_the_ear(view: Callable[..., Answer]) -> Callable[..., Answer]:
    """A view whose work goes first: analysis stands still meanwhile."""

    @wraps(view)
    def hurried(*args: Any, **kwargs: Any) -> Answer:
        with jobs().ear.hurry():
            return view(*args, **kwargs)

    return hurried


@dataclass(frozen=True)
class Stretch:
    """The part of the song a picture or number is about."""

    start_s: float
    end_s: float
    start: int
    frames: int


LONGEST_STRETCH_S = 120.0
SHORTEST_STRETCH_S = 0.5


def asked_stretch(document: Session) -> Stretch:
    """`start_s` and `end_s` of the address, else the loop to begin with.

    BadDocument when they make no stretch.
    """
    song_s = desk().frames(document) / document.rate
    start_s, end_s = asked.number("start_s"), asked.number("end_s")
    if start_s is None and end_s is None:
        start_s, end_s = first_loop(document, song_s)
    start_s = start_s or 0.0
    end_s = end_s or min(song_s, start_s + UNKNOWN_S)
    if not 0.0 <= start_s < end_s <= max(song_s, SHORTEST_STRETCH_S) + 60.0:
        raise BadDocument("the loop has to end after it starts, within the song")
    end_s = max(min(end_s, start_s + LONGEST_STRETCH_S), start_s + SHORTEST_STRETCH_S)
    start = round(start_s * document.rate)
    return Stretch(start_s, end_s, start, round(end_s * document.rate) - start)


@dataclass(frozen=True)
class Pair:
    """The fight in view."""

    leader: Part
    yielder: Part


def asked_pair(document: Session) -> Pair | None:
    """`leader` and `yielder` of the address, or a sensible choice; None with fewer than two parts."""
    if len(document.parts) < 2:
        return None
    ids = [part.id for part in document.parts]
    leader = request.args.get("leader", "")
    yielder = request.args.get("yielder", "")
    if leader in ids and yielder in ids and leader != yielder:
        return Pair(document.part(leader), document.part(yielder))
    by_role = {part.role: part for part in reversed(document.parts)}
    first = by_role.get("kick", document.parts[0])
    second = by_role.get("bass", document.parts[1])
    if leader in ids:
        first = document.part(leader)
    if second.id == first.id:
        second = next(part for part in document.parts if part.id != first.id)
    return Pair(first, second)


def at_moves(session_id: str, part: str, move: str | None = None) -> str:
    """The address of a part at Moves, in the fight that the page which asks has in view."""
    leader = request.args.get("in_view")
    kept = leader if leader != part else None
    return url_for("moves.show", session_id=session_id, part=part, move=move, leader=kept)


def both_asked(document: Session) -> Pair:
    """The same where nothing can be said without two parts; BadDocument with fewer."""
    pair = asked_pair(document)
    if pair is None:
        raise BadDocument("bring in two parts first")
    return pair


def song_facts(session_id: str, revision: Revision) -> dict:
    """What the deck and the pictures need to know of a session, as JSON."""
    document = revision.document
    song_s = desk().frames(document) / document.rate
    loop_s = first_loop(document, song_s)
    neighbours = library().history.neighbours(revision)
    marks = inked(document)
    return {
        "id": session_id,
        "name": document.name,
        "revision": revision.id,
        "undo": neighbours.undo,
        "redo": neighbours.redo,
        "rate": document.rate,
        "listening_level_db_spl": document.listening_level_db_spl,
        "levels_db_spl": LEVELS_DB_SPL,
        "seconds": song_s,
        "first_loop": {"start_s": loop_s[0], "end_s": loop_s[1]},
        "faults": library().media.faults(document),
        "tempo_bpm": document.tempo_bpm,
        "tempo_estimated": document.tempo_from == "hits",
        "tempo_known": document.known_tempo_bpm is not None,
        "beats": document.counted().facts(),
        "sections": [s.model_dump() for s in document.sections],
        "variants": [asdict(variant) for variant in jobs().variants.of(session_id)],
        "zones": [z.model_dump() for z in document.zones],
        "parts": [
            {"id": p.id, "name": p.name, "tag": marks[p.id].tag, "ink": marks[p.id].ink}
            for p in document.parts
        ],
        "references": [{"id": p.id, "name": p.name} for p in references_of(document)],
    }
