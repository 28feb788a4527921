"""Commands that measure nothing do not wait for the libraries of those that do."""

import subprocess
import sys

HEAVY = ("scipy.signal", "scipy.stats", "scipy.optimize", "scipy.ndimage")
TELLS = """
import sys
from pondel.cli import main
try:
    main({words})
finally:
    print("loaded:", *(name for name in {heavy} if name in sys.modules))
"""


def loaded_by(*words: str) -> str:
    """Which of them a process loads that runs `pondel WORDS`."""
    told = TELLS.format(words=list(words), heavy=HEAVY)
    done = subprocess.run(
        [sys.executable, "-c", told], capture_output=True, text=True, timeout=120, check=False
    )
    assert done.returncode == 0, done.stderr
    return done.stdout.partition("loaded:")[2].strip()


def test_a_list_of_sessions_loads_none_of_them(tmp_path):
    assert loaded_by("list", "--data", str(tmp_path)) == ""
