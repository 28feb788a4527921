"""Recipes laid on a part: moves, keys, sends and returns at once."""

from __future__ import annotations

from typing import Annotated, Any, ClassVar, Literal

from pydantic import Field

from pondel.core.advice.proposals import propose
from pondel.core.document import Part, Session
from pondel.core.errors import BadDocument
from pondel.core.operations.base import NOTHING_KNOWN, Done, Facts, Json, MoveAt, Operation
from pondel.core.operations.chain import laid
from pondel.core.operations.parts import AddReturn, SetSend
from pondel.core.operations.ways import StartS
from pondel.core.recipes.recipe import (
    MOST_SLOTS,
    PART,
    Recipe,
    RecipeMove,
    RecipeReturn,
    parse_recipe,
    settings_for,
    shipped,
)
from pondel.core.refs import PartRef


class LayRecipe(Operation):
    """A recipe on a part, each of its slots filled with a part; `recipe` is the name of a shipped one,
    or a recipe as JSON.

    What is computed for a slot is worked out from the fight near `start_s`.
    """

    op: Literal["lay recipe"] = "lay recipe"
    part: PartRef
    recipe: Annotated[str, Field(max_length=80)] | dict[str, Any]
    slots: dict[str, PartRef] = Field(default_factory=dict, max_length=MOST_SLOTS)
    start_s: StartS = 0.0
    example: ClassVar[Json] = {
        "part": "tuba",
        "recipe": "Guitars under the kick, 3 dB",
        "slots": {"kick": "drum"},
    }

    def apply(self, document: Session, facts: Facts = NOTHING_KNOWN) -> Done:
        part, recipe = document.part(self.part), self._recipe()
        parts = {PART: part.id}
        for slot in recipe.slots:
            chosen = self.slots.get(slot.name)
            if not chosen:
                raise BadDocument(slot.question, where=recipe.name)
            if chosen == part.id:
                raise BadDocument(
                    f"{part.name} cannot be its own key: {slot.question}", where=recipe.name
                )
            parts[slot.name] = document.part(chosen).id
        left = document
        for move in recipe.moves:
            left = self._with(left, part, move, parts, facts, recipe.why)
        for back in recipe.returns:
            left = self._with_return(left, part, back, parts, facts, recipe.why)
        title = f"{part.name}: {recipe.name}"
        moves = left.part(part.id).moves
        at = MoveAt(part.id, moves[-1].id) if len(moves) > len(part.moves) else None
        return Done(left, title, [recipe.why] if recipe.why else [], move=at, added=True)

    def _recipe(self) -> Recipe:
        if isinstance(self.recipe, dict):
            return parse_recipe(self.recipe)
        if self.recipe not in shipped():
            raise BadDocument(f"no recipe is called {self.recipe!r:.42}")
        return shipped()[self.recipe]

    def _with(
        self,
        document: Session,
        part: Part,
        move: RecipeMove,
        parts: dict[str, str],
        facts: Facts,
        why: str,
    ) -> Session:
        given, reasons = settings_for(move, parts), [why] if why else []
        if move.computed_for is not None:
            leader = parts[move.computed_for]
            proposal = propose(facts.fight(document, leader, part.id, self.start_s, None), move.kind)
            given = {**proposal.settings, **given}
            reasons += proposal.reasons
        return laid(document, part.id, given, reasons)

    def _with_return(
        self,
        document: Session,
        part: Part,
        back: RecipeReturn,
        parts: dict[str, str],
        facts: Facts,
        why: str,
    ) -> Session:
        if part.source == "sends":
            raise BadDocument("a return sends to no return of its own: choose a part", where=part.name)
        known = {one.id for one in document.parts}
        name = back.name.replace("{part}", part.name)[:80]
        left = AddReturn(name=name).apply(document).document
        added = next(one for one in left.parts if one.id not in known)
        sent = SetSend(part=part.id, to=added.id, value=back.send_db, tap=back.tap)
        left = sent.apply(left).document
        for move in back.moves:
            left = self._with(left, added, move, parts, facts, why)
        return left
