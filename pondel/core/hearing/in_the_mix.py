"""What the ear gets of a part over a stretch of the song, as it stands in the mix."""

from __future__ import annotations

from pondel.core.engine.chunks import ChunkedSession
from pondel.core.hearing.excitation import Excitation, excitation_of
from pondel.core.hearing.spectra import ear_spectrum


def in_the_mix(chunked: ChunkedSession, part_id: str, start: int, frames: int) -> Excitation:
    """Excitation of a part after its fader over a region, at the listening level.

    Where trim, fader and pan act on all channels alike, a change of them needs no new analysis.
    """
    session, source = chunked.session, chunked.for_the_ear(part_id)
    bands = chunked.kept(
        ("ears", source.name, start, frames),
        lambda: ear_spectrum(chunked.ear_blocks(source, start, frames), session.rate),
    )
    return excitation_of(bands, session.listening_level_db_spl, source.gain)
