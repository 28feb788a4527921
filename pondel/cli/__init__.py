"""The command line.

pondel demo
pondel import stems/ --name "Night bus"
pondel measure "Night bus" --json
pondel render "Night bus" --out printed --what both

What a command needs is imported when it runs, so that help comes at once.
"""

from pondel.cli import evidence, keeping, serving, sessions
from pondel.cli.base import main

__all__ = ["evidence", "keeping", "main", "serving", "sessions"]
