"""Recipes: a chain with its keys, sends and returns, saved by name and laid on other parts.

recipe = recipe_of(document, "tuba", "Tuba under drum", "Keeps the hits free.")
recipe.slots                   # what has to be chosen anew: [Slot("kick", "Which part ...?")]

In a recipe a reference is the name of a slot; PART is the part on which it is laid.
"""

from __future__ import annotations

from functools import lru_cache
from importlib.resources import files
from typing import Annotated, Any, Literal

from pydantic import Field, TypeAdapter, ValidationError

from pondel.core.document import Part, Session
from pondel.core.errors import BadDocument
from pondel.core.model import Model
from pondel.core.moves.describe import Tap
from pondel.core.moves.registry import kind_of
from pondel.core.reading import first_fault
from pondel.core.refs import Mapping, rebind, references

PART = "part"
MOST_MOVES, MOST_SLOTS, MOST_RETURNS = 24, 8, 4
NOT_KEPT = ("id", "sections", "lost", "why", "began", "sources")
SlotName = Annotated[str, Field(pattern=r"^[a-z][a-z0-9-]{0,39}$")]
Name = Annotated[str, Field(min_length=1, max_length=80, pattern=r"^[^\x00-\x1f]+$")]


class Slot(Model):
    """One part that has to be chosen: by what question, and which role fits."""

    name: SlotName
    question: Annotated[str, Field(min_length=1, max_length=200)]
    role: Annotated[str, Field(max_length=40)] = ""


class RecipeMove(Model):
    """A move; where `computed_for` names a slot, its first setting is worked out from that fight.

    `settings` then stand over what was worked out.
    """

    kind: Annotated[str, Field(max_length=40)]
    settings: dict[str, Any] = Field(default_factory=dict, max_length=80)
    computed_for: SlotName | None = None


class RecipeReturn(Model):
    """A return that the part feeds."""

    name: Name
    send_db: Annotated[float, Field(ge=-120, le=24)] = 0.0
    tap: Tap = "after fader"
    moves: Annotated[list[RecipeMove], Field(max_length=MOST_MOVES)] = Field(default_factory=list)


class Recipe(Model):
    """A chain by name, and what to ask before it is laid."""

    pondel_recipe: Literal[1] = 1
    name: Name
    why: Annotated[str, Field(max_length=600)] = ""
    slots: Annotated[list[Slot], Field(max_length=MOST_SLOTS)] = Field(default_factory=list)
    moves: Annotated[list[RecipeMove], Field(max_length=MOST_MOVES)] = Field(default_factory=list)
    returns: Annotated[list[RecipeReturn], Field(max_length=MOST_RETURNS)] = Field(default_factory=list)


def parse_recipe(data: Any) -> Recipe:
    """A recipe from parsed JSON; BadDocument says what is wrong with it.

    Each move is one of its kind, and points at nothing but slots.
    """
    try:
        recipe = Recipe.model_validate(data)
    except ValidationError as error:
        raise BadDocument(first_fault(error), where="recipe") from error
    slots = {slot.name for slot in recipe.slots}
    if PART in slots or len(slots) < len(recipe.slots):
        raise BadDocument("every slot has a name of its own", where="recipe")
    for move in [*recipe.moves, *(move for one in recipe.returns for move in one.moves)]:
        known = {PART, *slots}
        if move.computed_for is not None and move.computed_for not in slots:
            raise BadDocument(f"{move.computed_for!r} is no slot of it", where="recipe")
        pointed = {one for _, one in references(_built(move))}
        if pointed - known:
            raise BadDocument(f"{sorted(pointed - known)[0]!r:.42} is no slot of it", where="recipe")
    return recipe


def _built(move: RecipeMove) -> Any:
    """The move as one of its kind, with slots for parts."""
    if kind_of(move.kind).pair is not None:
        raise BadDocument(f"a {kind_of(move.kind).title} ties two parts: no recipe holds one")
    try:
        return kind_of(move.kind).params.model_validate({**move.settings, "kind": move.kind, "id": "m"})
    except ValidationError as error:
        raise BadDocument(first_fault(error), where=move.kind) from error


def settings_for(move: RecipeMove, parts: dict[str, str]) -> dict[str, Any]:
    """A recipe's move with its slots filled in, as JSON without an id."""
    bound, _ = rebind(_built(move), Mapping(parts=parts))
    data = bound.model_dump(mode="json", exclude_unset=True)
    return {name: value for name, value in data.items() if name not in NOT_KEPT}


def recipe_of(document: Session, part_id: str, name: str, why: str = "") -> Recipe:
    """A part's chain as a recipe: the parts it listens to become slots, its returns come along."""
    part = document.part(part_id)
    fed = [document.part(send.to) for send in part.sends]
    own = {part.id: PART}
    moves, *of_returns = ([one for one in chain if _is_held(one)] for chain in _chains(document, part))
    slots: list[Slot] = []
    for move in [*moves, *(move for chain in of_returns for move in chain)]:
        for at, one in references(move):
            if at != "section" and one not in own and document.has_part(one):
                slots.append(_slot(document.part(one), {slot.name for slot in slots}))
                own[one] = slots[-1].name
    kept = [_kept(one, own) for one in moves]
    returns = [
        RecipeReturn(
            name=back.name.replace(part.name, "{part}"),
            send_db=send.level_db,
            tap=send.tap,
            moves=[_kept(one, {**own, back.id: PART}) for one in chain],
        )
        for send, back, chain in zip(part.sends, fed, of_returns, strict=True)
    ]
    if not kept and not returns:
        raise BadDocument("there is no move that a recipe could hold", where=part.name)
    return parse_recipe(
        Recipe(name=name, why=why, slots=slots, moves=kept, returns=returns).model_dump(mode="json")
    )


def not_held(document: Session, part_id: str) -> list[str]:
    """The moves of a part and of the returns it feeds that no recipe holds, in words."""
    chains = _chains(document, document.part(part_id))
    return [kind_of(one.kind).in_words for chain in chains for one in chain if not _is_held(one)]


def _chains(document: Session, part: Part) -> list[list[Any]]:
    """A part's moves, and those of each return it feeds."""
    return [list(part.moves), *(list(document.part(send.to).moves) for send in part.sends)]


def _is_held(move: Any) -> bool:
    return kind_of(move.kind).pair is None


def _slot(part: Part, taken: set[str]) -> Slot:
    word = "".join(letter if letter.isalnum() and letter.isascii() else "-" for letter in part.role)
    base = word.lower().strip("-")[:30] or "other"
    name = next(one for n in range(1, 99) if (one := base if n == 1 else f"{base}-{n}") not in taken)
    return Slot(name=name, question=f"Which part stands for {part.name}?", role=part.role)


def _kept(move: Any, own: dict[str, str]) -> RecipeMove:
    bound, _ = rebind(move, Mapping(parts=own))
    data = bound.model_dump(mode="json")
    settings = {name: value for name, value in data.items() if name not in (*NOT_KEPT, "kind")}
    return RecipeMove(kind=move.kind, settings=settings)


@lru_cache(maxsize=1)
def shipped() -> dict[str, Recipe]:
    """The recipes that come with Pondel, by name, in the order in which they are offered."""
    text = (files("pondel.core.recipes") / "recipes.json").read_text(encoding="utf-8")
    found = TypeAdapter(list[dict[str, Any]]).validate_json(text)
    return {recipe.name: recipe for recipe in map(parse_recipe, found)}
