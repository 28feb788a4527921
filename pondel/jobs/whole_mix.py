"""What is measured of the whole mix, in one pass over it, and kept by what is heard.

desk.whole_mix.outline(document, 600)      # lowest and highest sample of each column
desk.whole_mix.tone(without_moves(document)).spectrum_db
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import asdict, dataclass

import numpy as np

from pondel.core.document import Session
from pondel.core.dsp.welch import Welch
from pondel.core.engine.chunks import ChunkedSession
from pondel.core.engine.listen import Plan, make_plan, plan_hash
from pondel.core.made_by import made_by
from pondel.core.measures.levels import LevelMeter
from pondel.core.measures.outline import Outline
from pondel.core.measures.spectrum import levels_db
from pondel.core.survival import chunk_of
from pondel.store.measures import Measures


@dataclass(frozen=True)
class MixTone:
    """The average spectrum of a mix at the points of `axis_hz`, and how loud it is."""

    spectrum_db: list[float]
    integrated_lufs: float | None


@dataclass(frozen=True)
class MixPeak:
    """The highest peak of a mix, and about where in the song it lies."""

    true_peak_dbtp: float
    at_s: float


@dataclass(frozen=True)
class SumLevels:
    """How loud several parts are together, and their highest sample."""

    integrated_lufs: float | None
    sample_peak_dbfs: float


AROUND_S = 0.1


class WholeMix:
    """Renders the mix from end to end. Thread-safe; calls `step` between its chunks."""

    def __init__(
        self,
        measures: Measures,
        now: Callable[[Session], ChunkedSession],
        frames: Callable[[Session], int],
        step: Callable[[], None],
    ) -> None:
        self._measures, self._now, self._frames, self._step = measures, now, frames, step

    def outline(self, document: Session, columns: int) -> list[list[float]]:
        """Lowest and highest sample of the mix in each column over the song; its peak besides."""
        step = -(-self._frames(document) // columns)
        collected, levels = Outline(step), LevelMeter(document.rate, 2)
        for block in self._blocks(document):
            collected.write(block)
            levels.write(block)
        found, measured = collected.columns(), levels.levels()
        highest = int(np.abs(found).max(axis=1).argmax()) if len(found) else 0
        peak = MixPeak(measured.true_peak_dbtp, (highest + 0.5) * step / document.rate)
        self._measures.keep(self._peak_key(document), asdict(peak))
        body = np.round(found, 4).tolist()
        self._measures.keep(self._outline_key(document, columns), body)
        return body

    def known_peak(self, document: Session) -> MixPeak | None:
        """The mix's highest peak if its outline was drawn, else None."""
        found = self._measures.get(self._peak_key(document))
        return MixPeak(**found) if found else None

    def loudest_at(self, document: Session, at_s: float, count: int = 2) -> list[str]:
        """The parts that are highest around a moment, the highest first."""
        now, rate = self._now(document), document.rate
        start, frames = max(0, round((at_s - AROUND_S) * rate)), round(2 * AROUND_S * rate)
        heights = {}
        for part in document.summed():
            sound = now.region((part.id, "after fader"), start, frames)
            heights[part.name] = float(np.abs(sound).max(initial=0.0))
        highest = sorted(heights, key=lambda name: -heights[name])
        return [name for name in highest if heights[name] > 0.0][:count]

    def known_outline(self, document: Session, columns: int) -> list[list[float]] | None:
        """The mix's outline if it is known, else None."""
        return self._measures.get(self._outline_key(document, columns))

    def tone(self, document: Session) -> MixTone:
        """The tone of the mix over the whole song."""
        spectrum, levels = Welch(document.rate), LevelMeter(document.rate, 2)
        for block in self._blocks(document):
            spectrum.write(block)
            levels.write(block)
        found = levels.levels()
        body = {
            "spectrum_db": np.round(levels_db(spectrum), 3).tolist(),
            "integrated_lufs": found.integrated_lufs,
        }
        self._measures.keep(self._tone_key(document), body)
        return MixTone(**body)

    def levels(self, document: Session, parts: list[str]) -> SumLevels:
        """The levels of some parts' sum as it reaches the mix, over the whole song."""
        plan = make_plan(document, "pair", parts)
        meter = LevelMeter(document.rate, 2)
        for block in self._blocks(document, plan):
            meter.write(block)
        found = meter.levels()
        levels = SumLevels(found.integrated_lufs, found.sample_peak_dbfs)
        self._measures.keep(self._levels_key(document, parts), asdict(levels))
        return levels

    def known_levels(self, document: Session, parts: list[str]) -> SumLevels | None:
        """The levels of their sum if they are known, else None."""
        found = self._measures.get(self._levels_key(document, parts))
        return SumLevels(**found) if found else None

    def known_tone(self, document: Session) -> MixTone | None:
        """The mix's tone if it is known, else None."""
        found = self._measures.get(self._tone_key(document))
        return MixTone(**found) if found else None

    def _blocks(self, document: Session, plan: Plan | None = None) -> Iterator[np.ndarray]:
        plan, chunked = plan or make_plan(document, "mix"), self._now(document)
        frames = self._frames(document)
        for index in range(-(-frames // chunked.frames)):
            self._step()
            yield chunk_of(plan, chunked, index)

    def _levels_key(self, document: Session, parts: list[str]) -> str:
        name = plan_hash(make_plan(document, "pair", parts), self._now(document))
        return f"sum-levels:{made_by('pondel.core.measures')}:{name}"

    def _name(self, document: Session) -> str:
        return plan_hash(make_plan(document, "mix"), self._now(document))

    def _outline_key(self, document: Session, columns: int) -> str:
        made = made_by("pondel.core.measures.outline")
        return f"mix-outline-and-peak:{made}:{self._name(document)}:{columns}"

    def _peak_key(self, document: Session) -> str:
        return f"mix-peak:{made_by('pondel.core.measures')}:{self._name(document)}"

    def _tone_key(self, document: Session) -> str:
        return f"mix-tone:{made_by('pondel.core.measures')}:{self._name(document)}"
