"""Libraries that are loaded on first use, so that a command says what it has to say at once.

A module imports `scipy.signal` and its like where it needs them. A server, which will need them all,
loads them a moment after it listens.
"""

from __future__ import annotations

import gc


def load() -> None:
    """Load what first use would wait for.

    What is loaded by then stays: the collector of garbage, which stops all threads, does not look
    through that again.
    """
    import scipy.ndimage
    import scipy.optimize
    import scipy.signal  # noqa: F401

    gc.freeze()
