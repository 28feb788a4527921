"""How far a thread gives way to those that render sound."""

from __future__ import annotations

import os
import threading

NICENESS, NICENESS_BEHIND = 1, 4
"""For what a page waits for, and for what nobody looks at.

Small, since other programs on the machine count too: with more, analysis all but stops beside a
busy one. Between its steps it stands still for the ear in any case.
"""


def be_nice(niceness: int = NICENESS_BEHIND, task: int | None = None) -> None:
    """Let this thread, or another task, give way to those that render sound."""
    if hasattr(os, "setpriority"):
        os.setpriority(os.PRIO_PROCESS, task or threading.get_native_id(), niceness)
