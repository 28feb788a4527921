"""Lanes: two parts over each other, and the fights of the song in order."""

from __future__ import annotations

from flask import Blueprint, render_template

from pondel.core.document import Session
from pondel.web.context import asked_pair, desk, head, library, song_facts
from pondel.web.ink import inked

blueprint = Blueprint("lanes", __name__, url_prefix="/sessions/<session_id>")
FIGHTS_SHOWN = 12


def fights(document: Session) -> list:
    """The worst pairs of the whole song."""
    return desk().table(document).pairs[:FIGHTS_SHOWN] if len(document.parts) > 1 else []


@blueprint.get("/lanes")
def show(session_id: str):
    """The screen."""
    library().touch(session_id)
    revision = head(session_id)
    document = revision.document
    table = desk().table(document)
    return render_template(
        "lanes.html",
        stage="lanes",
        facts=song_facts(session_id, revision),
        document=document,
        marks=inked(document),
        pair=asked_pair(document),
        table=table,
        fights=fights(document),
    )
