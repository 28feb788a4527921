"""What the lines of a plan give together: the mix, and each leader section by section."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import numpy as np

from pondel.core.advice.claims import Claim
from pondel.core.document import Session
from pondel.core.families import groups_among
from pondel.core.hearing.table import HiddenTable, Scope
from pondel.core.judgement.thinness import Thinned
from pondel.core.judgement.tone import warmth_db
from pondel.jobs.analysis import Analysis
from pondel.jobs.planned import STRETCH_S, Line, Stands, WholePlan
from pondel.jobs.thinness import Thinness
from pondel.jobs.whole_mix import MixTone, WholeMix

WHOLE_SONG = "the whole song"


def table_for(analysis: Analysis, document: Session, claim: Claim) -> HiddenTable:
    """The whole song's table, in which both sides of a fight have a row."""
    return analysis.whole_table(document, groups_among(document, (claim.leader, claim.yielder)))


def weighed(
    analysis: Analysis,
    whole_mix: WholeMix,
    thinness: Thinness,
    before: Session,
    after: Session,
    lines: Sequence[Line],
) -> WholePlan:
    """Compare a session without and with the lines of a plan, over the whole song.

    What gets thin is looked for where each line was judged, by the guard that Proof asks too.
    """
    tones = _tone(whole_mix, before), _tone(whole_mix, after)
    loudness = [tone.integrated_lufs for tone in tones]
    warmth = [warmth_db(np.array(tone.spectrum_db)) for tone in tones]
    return WholePlan(
        after,
        [list(_stands(analysis, before, after, line.claim)) for line in lines],
        None if loudness[0] is None or loudness[1] is None else loudness[1] - loudness[0],
        warmth[1] - warmth[0],
        list(_thin(thinness, after, lines)),
    )


def _thin(thinness: Thinness, after: Session, lines: Sequence[Line]) -> Iterator[Thinned]:
    """What gets thin where the lines were judged: each part, and the mix, once at its worst."""
    frames = round(STRETCH_S * after.rate)
    found: dict[tuple[str, str], Thinned] = {}
    for start_s in sorted({line.start_s for line in lines}):
        for one in thinness.thin(after, round(start_s * after.rate), frames):
            key = one.name, one.where
            if key not in found or one.change_db < found[key].change_db:
                found[key] = one
    yield from found.values()


def _tone(whole_mix: WholeMix, document: Session) -> MixTone:
    return whole_mix.known_tone(document) or whole_mix.tone(document)


def _stands(analysis: Analysis, before: Session, after: Session, claim: Claim) -> Iterator[Stands]:
    """A leader in each section in which both sound; in the whole song where there are none."""
    tables = [table_for(analysis, one, claim) for one in (before, after)]
    sections: list[tuple[str, tuple[int, ...] | None]] = [
        (section.name, (n,)) for n, section in enumerate(before.sections)
    ]
    for name, segments in sections or [(WHOLE_SONG, None)]:
        if tables[0].loudness_sone(claim.yielder, Scope(segments)) <= 0.0:
            continue
        on_hits = tables[0].has_hits(claim.leader, Scope(segments))
        scope = Scope(segments, on_hits, claim.zone_hz)
        heard = [table.clear_db(claim.leader, scope) for table in tables]
        if heard[0] is not None and heard[1] is not None:
            yield Stands(name, heard[0], heard[1])
