"""What the ear gets of a part over a stretch of the song, as it stands in the mix."""

from __future__ import annotations

import numpy as np

from pondel.core.dsp.fold import Side, folded
from pondel.core.engine.chunks import ChunkedSession
from pondel.core.engine.ears import EarSource
from pondel.core.hearing.excitation import Excitation, excitation_of
from pondel.core.hearing.spectra import ear_spectrum


def in_the_mix(
    chunked: ChunkedSession, part_id: str, start: int, frames: int, side: Side = "both"
) -> Excitation:
    """Excitation of a part, through its groups, over a region, at the listening level.

    Where trim, fader and pan act on all channels alike, a change of them needs no new analysis. With a
    `side` it is that of the middle, the sides, left or right alone.
    """
    session, heard = chunked.session, chunked.in_the_mix(part_id)

    def of(source: EarSource) -> np.ndarray:
        blocks, heard_side = chunked.ear_blocks(source, start, frames), source.side_of(side)
        bands = chunked.kept(
            ("ears", source.name, start, frames, heard_side),
            lambda: ear_spectrum(folded(blocks, heard_side), session.rate),
        )
        gain = source.gain_in(side)
        return bands if gain == 1.0 else bands * np.float32(gain)

    return excitation_of(heard.power(of), session.listening_level_db_spl)
