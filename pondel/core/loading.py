"""Libraries that are loaded on first use, so that a command says what it has to say at once.

A module imports `scipy.signal` and its like where it needs them. A server, which will need them all,
loads them a moment after it listens.
"""

from __future__ import annotations


def load() -> None:
    """Load what first use would wait for."""
    import scipy.ndimage
    import scipy.optimize
    import scipy.signal  # noqa: F401
