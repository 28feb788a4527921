"""A mix that goes too high: by how much, where, and what to lower.

over_words(0.8, 31.2, ["Bass drum", "Tuba"])
# "The mix goes to +0.8 dBTP at 0:31, over full scale: ..."
"""

from __future__ import annotations

from collections.abc import Sequence

from pondel.core.units import signed

HIGHEST_DBTP = -1.0
"""What is handed on stays under this, so that a lossy copy of it does not clip (EBU R 128, 2.5)."""


def over_words(true_peak_dbtp: float, at_s: float, loudest: Sequence[str]) -> str:
    """What to say of a mix whose highest peak, at a place in the song, lies over `HIGHEST_DBTP`."""
    over_db = true_peak_dbtp - HIGHEST_DBTP
    minutes, seconds = divmod(int(at_s), 60)
    how = "over full scale" if true_peak_dbtp > 0.0 else f"over {signed(HIGHEST_DBTP, 'dBTP')}"
    verb = "are" if len(loudest) > 1 else "is"
    who = f": {' and '.join(loudest)} {verb} loudest there" if loudest else ""
    return (
        f"The mix goes to {signed(true_peak_dbtp, 'dBTP')} at {minutes}:{seconds:02}, {how}{who}. "
        f"All faders {over_db:.1f} dB down keep it under, or a print that much lower."
    )
