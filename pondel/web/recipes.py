"""Recipes: laid on a part, kept on the shelf for all sessions, out and in as open JSON."""

from __future__ import annotations

import json
from dataclasses import dataclass
from typing import Any

from flask import Blueprint, Response, flash, redirect, request

from pondel.core.document import Part, Session
from pondel.core.errors import BadDocument
from pondel.core.operations import parse_operation
from pondel.core.recipes.recipe import Recipe, not_held, parse_recipe, recipe_of, shipped
from pondel.web import asked
from pondel.web.context import at_moves, desk, head, library

blueprint = Blueprint("recipes", __name__, url_prefix="/sessions/<session_id>/recipes")
MOST_BYTES = 1 << 20


@dataclass(frozen=True)
class Offered:
    """A recipe as it is offered: whether it is kept, and the likeliest part for each slot."""

    recipe: Recipe
    kept: bool
    likely: dict[str, str]


def offered(document: Session, part: Part, leader: Part | None) -> list[Offered]:
    """All recipes, those of the shelf first; each slot with the part whose role fits, or the leader."""
    shelf = library().shelf
    kept = [_read(name, shelf.get("recipe", name)) for name in shelf.names("recipe")]

    def likely(recipe: Recipe) -> dict[str, str]:
        found = {}
        for slot in recipe.slots:
            fitting = [p.id for p in document.parts if slot.role and p.role == slot.role and p != part]
            lead = [leader.id] if leader is not None else []
            found[slot.name] = next(iter([*fitting, *lead]), "")
        return found

    return [
        *(Offered(one, True, likely(one)) for one in kept),
        *(Offered(one, False, likely(one)) for one in shipped().values()),
    ]


def _read(name: str, body: Any) -> Recipe:
    """A kept recipe; one that another Pondel kept and this one cannot lay says so."""
    try:
        return parse_recipe(body)
    except BadDocument as error:
        return Recipe(name=name, why=f"It cannot be laid: {error.message}.")


def _asked_recipe() -> dict[str, Any] | str:
    name = asked.words("recipe", most=80)
    return library().shelf.get("recipe", name) if request.form.get("kept") == "1" else name


def _to_part(session_id: str, part_id: str) -> Response:
    return redirect(at_moves(session_id, part_id), 303)  # type: ignore[return-value]


@blueprint.post("/lay")
def lay(session_id: str):
    """A recipe on a part."""
    slots = {
        name.removeprefix("slot "): asked.checked_text(value, 40)
        for name, value in request.form.items()
        if name.startswith("slot ")
    }
    part_id = asked.words("part", most=40)
    operation = parse_operation(
        {
            "op": "lay recipe",
            "part": part_id,
            "recipe": _asked_recipe(),
            "slots": slots,
            "start_s": asked.number("loop_start_s", 0.0),
        }
    )
    desk().do(session_id, [operation], base=asked.whole("base"))
    return _to_part(session_id, part_id)


@blueprint.post("/keep")
def keep(session_id: str):
    """Keep a part's chain as a recipe, for all sessions."""
    part_id, name = asked.words("part", most=40), asked.words("name", most=80).strip()
    if not name:
        raise BadDocument("give the recipe a name first")
    document = head(session_id).document
    recipe = recipe_of(document, part_id, name, asked.words("why", most=600).strip())
    library().shelf.keep("recipe", name, recipe.model_dump(mode="json"))
    if left := not_held(document, part_id):
        flash(f"Kept without its {' and '.join(left)}: what ties two parts is laid for each pair anew.")
    return _to_part(session_id, part_id)


@blueprint.post("/put-away")
def put_away(session_id: str):
    """Keep a recipe no longer."""
    library().shelf.put_away("recipe", asked.words("recipe", most=80))
    return _to_part(session_id, asked.words("part", most=40))


@blueprint.get("/file")
def file(session_id: str):
    """A kept recipe as a JSON file."""
    name = asked.words("recipe", most=80)
    text = json.dumps(library().shelf.get("recipe", name), indent=2, ensure_ascii=False)
    plain = "".join(letter if letter.isalnum() and letter.isascii() else "-" for letter in name)
    answer = Response(text + "\n", mimetype="application/json")
    answer.headers["Content-Disposition"] = f'attachment; filename="{plain or "recipe"}.json"'
    return answer


@blueprint.post("/bring-in")
def bring_in(session_id: str):
    """Keep a recipe that comes as a JSON file."""
    handed = request.files.get("file")
    if handed is None or not handed.filename:
        raise BadDocument("no recipe was chosen")
    data = handed.stream.read(MOST_BYTES + 1)
    if len(data) > MOST_BYTES:
        raise BadDocument("a recipe is no larger than 1 MB")
    try:
        recipe = parse_recipe(json.loads(data))
    except (ValueError, RecursionError) as error:
        raise BadDocument("this file is no recipe: it is not JSON") from error
    library().shelf.keep("recipe", recipe.name, recipe.model_dump(mode="json"))
    return _to_part(session_id, asked.words("part", most=40))
