"""Commands that measure nothing do not wait for the libraries of those that do."""

import subprocess
import sys

import pytest

HEAVY = ("scipy.signal", "scipy.stats", "scipy.optimize", "scipy.ndimage")
LIST = """
from pondel.cli import main
main(["list", "--data", {folder!r}])
"""
SERVE = """
from pathlib import Path
from pondel.web import create_app
page = create_app(Path({folder!r})).test_client().get("/sessions")
assert page.status_code == 200
"""
DEMO = """
import pondel.demo.session
"""
TELLS = """
import sys
try:
    exec({work!r})
finally:
    print("loaded:", *(name for name in {heavy} if name in sys.modules))
"""


def loaded_by(work: str) -> str:
    """Which of them a process loads that does some work."""
    told = TELLS.format(work=work, heavy=HEAVY)
    done = subprocess.run(
        [sys.executable, "-c", told], capture_output=True, text=True, timeout=120, check=False
    )
    assert done.returncode == 0, done.stderr
    return done.stdout.partition("loaded:")[2].strip()


@pytest.mark.parametrize(
    "work", [LIST, SERVE, DEMO], ids=["a list", "a first page", "a demo not begun"]
)
def test_what_measures_nothing_loads_none_of_them(work, tmp_path):
    assert loaded_by(work.format(folder=str(tmp_path))) == ""
