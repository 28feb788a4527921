"""Two tones pushed apart or brought together: spectra are taken, and kept in the move."""

from __future__ import annotations

from typing import Annotated, Any, ClassVar, Literal, Self

from pydantic import Field, model_validator

from pondel.core.document import Part, Session, move_of
from pondel.core.dsp.tone import TONE_HZ
from pondel.core.errors import BadDocument
from pondel.core.model import Model
from pondel.core.moves.base import LONGEST_S
from pondel.core.moves.registry import KINDS, kind_of
from pondel.core.operations.base import NOTHING_KNOWN, Done, Facts, Json, MoveAt, MoveId, Operation
from pondel.core.operations.chain import laid
from pondel.core.operations.moves import on_move
from pondel.core.refs import PartRef

APART, TOGETHER = -0.4, 0.5
KIND = next(kind for kind in KINDS.values() if kind.takes_spectra)
Seconds = Annotated[float, Field(ge=0, le=LONGEST_S)]


class NamedSpectrum(Model):
    """A spectrum from elsewhere, in dB at 24 points to the octave from 20 Hz to 20 kHz."""

    name: Annotated[str, Field(min_length=1, max_length=80)]
    levels_db: Annotated[
        list[Annotated[float, Field(ge=-400, le=60)]],
        Field(min_length=TONE_HZ.size, max_length=TONE_HZ.size),
    ]


class Stretch(Operation):
    """Where in the song spectra are taken; without an end, over all of it."""

    start_s: Seconds = 0.0
    end_s: Seconds | None = None

    @model_validator(mode="after")
    def _has_a_length(self) -> Self:
        if self.end_s is not None and self.end_s - self.start_s < 0.1:
            raise ValueError("spectra are taken over a tenth of a second at least")
        return self

    def _words(self) -> str:
        if self.end_s is None and self.start_s == 0:
            return "the whole song"
        return f"{self.start_s:.1f} s to {'the end' if self.end_s is None else f'{self.end_s:.1f} s'}"

    def _spectrum(self, document: Session, part: Part, facts: Facts) -> list[float]:
        levels = facts.spectrum_db(document, part, self.start_s, self.end_s)
        if max(levels, default=-400.0) < -120.0:
            raise BadDocument("there is nothing to be heard in that stretch", where=part.name)
        return [round(float(level), 1) for level in levels]


class Contrast(Stretch):
    """A contrast EQ on a part against another part, a group, or a spectrum from elsewhere.

    Both spectra are taken from `start_s` to `end_s`; `mirrored` lays half of it, turned over, on the
    other part too. Against a spectrum from elsewhere or a reference it begins together, else apart.
    """

    op: Literal["contrast"] = "contrast"
    part: PartRef
    against: PartRef | None = None
    spectrum: NamedSpectrum | None = None
    amount: Annotated[float, Field(ge=-1, le=1)] | None = None
    mirrored: bool = False
    example: ClassVar[Json] = {"part": "tuba", "against": "drum", "start_s": 18.5, "end_s": 27}

    @model_validator(mode="after")
    def _stands_against_one(self) -> Self:
        if (self.against is None) == (self.spectrum is None):
            raise ValueError("a contrast stands against a part, or against a spectrum")
        if self.against == self.part:
            raise ValueError("a part has no contrast with itself")
        if self.mirrored and self.against is None:
            raise ValueError("only two parts can be mirrored")
        return self

    def apply(self, document: Session, facts: Facts = NOTHING_KNOWN) -> Done:
        part = document.part(self.part)
        own = self._spectrum(document, part, facts)
        other = document.part(self.against) if self.against else None
        if other is not None:
            against, levels = other.name, self._spectrum(document, other, facts)
        else:
            assert self.spectrum is not None
            against, levels = self.spectrum.name, self.spectrum.levels_db
        towards = other is None or other.reference
        amount = self.amount if self.amount is not None else TOGETHER if towards else APART
        sources = _made_of(document, [one for one in (part, other) if one is not None], facts)
        mirrored = self.mirrored and other is not None and not other.reference
        common = {
            "kind": KIND.name,
            "amount": amount / 2.0 if mirrored else amount,
            "taken": self._words(),
            "sources": sources,
        }
        why = [
            f"Spectra of {part.name} and {against} over {self._words()}: "
            f"{'brought together' if amount > 0 else 'pushed apart'}, at the same loudness."
        ]
        left = document
        if mirrored and other is not None:
            turned = {**common, "against": part.name, "own_db": levels, "other_db": own}
            left = laid(left, other.id, turned, [*why, f"The other half is on {part.name}."])
            why.append(f"The other half is on {other.name}.")
        given = {**common, "against": against, "own_db": own, "other_db": levels}
        left = laid(left, part.id, given, why)
        added = MoveAt(part.id, left.part(part.id).moves[-1].id)
        return Done(left, f"{part.name}: contrast with {against}", why, move=added, added=True)


class TakeSpectra(Stretch):
    """Take the spectra of a contrast EQ anew; one from elsewhere stays what it is."""

    op: Literal["take spectra"] = "take spectra"
    part: PartRef
    move: MoveId
    example: ClassVar[Json] = {"part": "tuba", "move": "m1", "start_s": 18.5, "end_s": 27}

    def apply(self, document: Session, facts: Facts = NOTHING_KNOWN) -> Done:
        part = document.part(self.part)
        move = move_of(part, self.move)
        if not kind_of(move.kind).takes_spectra:
            raise BadDocument(f"a {kind_of(move.kind).title} has no spectra")
        others = [one for one in move.sources if one != part.id and document.has_part(one)]
        taken = [part, *(document.part(one) for one in others[:1])]
        found: dict[str, Any] = {"own_db": self._spectrum(document, part, facts)}
        if others:
            found["other_db"] = self._spectrum(document, taken[1], facts)
        found |= {"sources": _made_of(document, taken, facts), "taken": self._words()}
        left = on_move(document, part.id, move.id, lambda data: data.update(found))
        return Done(left, f"{part.name}: spectra anew", move=MoveAt(part.id, move.id))


def _made_of(document: Session, parts: list[Part], facts: Facts) -> dict[str, str]:
    return {part.id: facts.made_of(document, part) for part in parts}
