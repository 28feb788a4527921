"""The recall sheet as a page that prints well, as a PDF and as JSON."""

from __future__ import annotations

import json
from typing import Any

import numpy as np
from flask import Blueprint, Response, render_template

from pondel.core.document import Part, Session
from pondel.core.dsp.tone import PINK, Tone
from pondel.core.engine.listen import without_moves
from pondel.core.handon.recall import decided_in_words, levels_in_words, recall
from pondel.core.judgement.sides import decided, fight_stands
from pondel.web.context import desk, head, opened
from pondel.web.ink import inked
from pondel.web.words import file_names

blueprint = Blueprint("recall", __name__, url_prefix="/sessions/<session_id>/recall")
WIDTH, HEIGHT, TOP_DB, LOWEST_DB = 300.0, 84.0, 12.0, -24.0


def _sheet(document: Session) -> dict[str, Any]:
    def tone_of(part: Part) -> Tone:
        known = part.file is not None and desk().recordings.readable(part.file) is not None
        return desk().media.tone(part.file, document.rate) if known and part.file else PINK

    sheet = recall(document, tone_of)
    sheet["figures"] = _figures(document)
    return sheet


def _figures(document: Session) -> list[dict[str, Any]]:
    """How each decided leader stands over the whole song, before and after, once that was heard."""
    tables = [desk().analysis.known_table(one) for one in (without_moves(document), document)]
    found = []
    for contest in decided(document):
        if any(table is None or contest.leader not in table.ids for table in tables):
            continue
        before, after = (fight_stands(table, contest) for table in tables if table is not None)
        found.append(
            {
                "leader": document.part(contest.leader).name,
                "clear_db": [before.clear_db, after.clear_db],
                "clear_on_hits_db": [before.clear_on_hits_db, after.clear_on_hits_db],
            }
        )
    return found


def drawn(hz: list[float], gains_db: list[float]) -> str:
    """A curve as the points of an SVG line, 20 Hz to 20 kHz by +12 to -24 dB."""
    x = np.log2(np.array(hz) / 20.0) / np.log2(1000.0) * WIDTH
    share = (TOP_DB - np.clip(gains_db, LOWEST_DB, TOP_DB)) / (TOP_DB - LOWEST_DB)
    return " ".join(f"{a:.1f},{b:.1f}" for a, b in zip(x, share * HEIGHT, strict=True))


@blueprint.get("")
def show(session_id: str):
    """The sheet: a page a part."""
    document = opened(session_id).document
    return render_template(
        "recall.html",
        session_id=session_id,
        sheet=_sheet(document),
        document=document,
        marks=inked(document),
        levels_in_words=levels_in_words,
        decided_in_words=decided_in_words,
        drawn=drawn,
        width=WIDTH,
        height=HEIGHT,
        dbs=[(db, (TOP_DB - db) / (TOP_DB - LOWEST_DB) * HEIGHT) for db in (12, 0, -12, -24)],
        hzs=[
            (name, float(np.log2(hz / 20.0) / np.log2(1000.0) * WIDTH))
            for hz, name in ((50, "50"), (200, "200"), (1000, "1k"), (5000, "5k"))
        ],
    )


@blueprint.get("/recall.json")
def as_json(session_id: str):
    """The same as JSON."""
    sheet = _sheet(head(session_id).document)
    text = json.dumps(sheet, indent=1, ensure_ascii=False)
    headers = {"Content-Disposition": 'attachment; filename="recall.json"'}
    return Response(text, mimetype="application/json", headers=headers)


@blueprint.get("/recall.pdf")
def as_pdf(session_id: str):
    """The same as a PDF."""
    from pondel.web.recall_pdf import recall_pdf

    document = head(session_id).document
    response = Response(recall_pdf(_sheet(document)), mimetype="application/pdf")
    response.headers.set(
        "Content-Disposition", "attachment", **file_names(document.name, " recall.pdf")
    )
    return response
