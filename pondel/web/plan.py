"""A plan for the whole mix: its lines in words and numbers, each to be kept or struck."""

from __future__ import annotations

from flask import Blueprint, redirect, render_template, request, url_for

from pondel.core.moves.registry import kind_of
from pondel.jobs.planned import Planned
from pondel.web import asked
from pondel.web.context import desk, jobs, opened, song_facts, still_as
from pondel.web.ink import inked

blueprint = Blueprint("plan", __name__, url_prefix="/sessions/<session_id>/plan")


def _struck(planned: Planned, text: str) -> frozenset[int]:
    """The lines that are struck, from "0,2"; what names no line is left out."""
    numbers = {int(one) for one in text.split(",") if one.isdecimal() and len(one) < 4}
    return frozenset(n for n in numbers if n < len(planned.lines))


def written(struck: frozenset[int]) -> str | None:
    """The same for an address; None without any."""
    return ",".join(str(n) for n in sorted(struck)) or None


@blueprint.get("")
def show(session_id: str):
    """The screen."""
    revision = opened(session_id)
    document = revision.document
    planned = desk().plans.begin(document)
    struck = _struck(planned, request.args.get("without", "")[:200])
    kept = planned.kept(struck)
    is_weighed = bool(kept) and planned.is_complete
    return render_template(
        "plan.html",
        stage="moves",
        facts=song_facts(session_id, revision),
        document=document,
        marks=inked(document),
        planned=planned,
        struck=struck,
        turned={n: written(struck ^ {n}) for n in range(len(planned.lines))},
        without=written(struck),
        kept=kept,
        weighing=desk().plans.weighing(planned, struck) if is_weighed else None,
        sections=[section.name for section in document.sections] or ["the whole song"],
        kind_of=kind_of,
    )


@blueprint.post("/keep")
def keep(session_id: str):
    """Keep the lines that were not struck, in one step: here, or in a variant of their own."""
    planned = desk().plans.named(asked.words("plan", most=40))
    still_as(session_id, planned.document)
    operation = planned.operation(_struck(planned, asked.words("without", most=200)))
    base = asked.whole("base")
    if request.form.get("variant") == "1":
        base = jobs().variants.keep(session_id, base).id
    done = desk().do(session_id, [operation], base=base)
    first = operation.lines[0]
    part = done.document.part(first.part)
    where = {"part": part.id, "leader": first.leader, "move": part.moves[-1].id}
    return redirect(url_for("moves.show", session_id=session_id, **where), 303)
