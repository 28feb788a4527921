"""Pondel as a wheel: built, installed into an empty environment, and asked for a session."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
import venv
import zipfile
from pathlib import Path

import pytest
import soundfile
from conftest import RATE, hits

ROOT = Path(__file__).parents[1]


def ran(*words: object, **options) -> str:
    done = subprocess.run(
        [str(word) for word in words], capture_output=True, text=True, check=False, **options
    )
    assert done.returncode == 0, done.stderr[-3000:]
    return done.stdout


@pytest.fixture(scope="module")
def wheel(tmp_path_factory) -> Path:
    folder = tmp_path_factory.mktemp("wheel")
    source = tmp_path_factory.mktemp("source")
    shutil.copytree(ROOT / "pondel", source / "pondel", ignore=shutil.ignore_patterns("__pycache__"))
    for name in ("pyproject.toml", "README.md"):
        shutil.copy(ROOT / name, source)
    pip = (sys.executable, "-m", "pip", "wheel", "--quiet", "--no-deps", "--no-build-isolation")
    ran(*pip, "--wheel-dir", folder, source)
    (built,) = folder.glob("pondel-*.whl")
    return built


def test_a_wheel_is_pure_python_and_holds_all_that_runs(wheel):
    assert wheel.name.endswith("-py3-none-any.whl")
    names = set(zipfile.ZipFile(wheel).namelist())
    for path in (ROOT / "pondel").rglob("*"):
        if path.is_file() and "__pycache__" not in path.parts:
            assert str(path.relative_to(ROOT)) in names, path
    assert not [name for name in names if name.startswith(("tests", "bench", "tools"))]


def test_an_installed_wheel_works_far_from_its_sources(wheel, tmp_path):
    """The libraries it needs are those of this environment; Pondel itself is the wheel's."""
    home = tmp_path / "empty"
    venv.create(home, with_pip=False)
    folder = "Scripts" if os.name == "nt" else "bin"
    python = home / folder / "python"
    site = ran(python, "-c", "import sysconfig; print(sysconfig.get_path('purelib'))").strip()
    ran(sys.executable, "-m", "pip", "install", "--quiet", "--no-deps", "--target", site, wheel)
    here = ran(sys.executable, "-c", "import sysconfig; print(sysconfig.get_path('purelib'))").strip()
    Path(site, "libraries.pth").write_text(here + "\n")
    where = ran(python, "-c", "import pondel; print(pondel.__file__)", cwd=tmp_path).strip()
    assert Path(where).is_relative_to(site)
    (tmp_path / "stems").mkdir()
    soundfile.write(tmp_path / "stems" / "kick.wav", hits(2.0), RATE, "PCM_24")
    pondel = [python, "-m", "pondel"]
    data = ["--data", tmp_path / "data"]
    song = ran(*pondel, "import", tmp_path / "stems", "--name", "Song", *data, cwd=tmp_path).strip()
    report = json.loads(ran(*pondel, "measure", song, "--json", *data, cwd=tmp_path))
    assert report["parts"][0]["hits"] == 4
    page = "from pondel.web import create_app, shipped; import sys; from pathlib import Path; "
    page += "c = create_app(Path(sys.argv[1]), immediate=True, testing=True).test_client(); "
    page += "styles = shipped.shipped_at() + '/css/app.css'; "
    page += "print(c.get('/sessions').status_code, c.get(styles).status_code)"
    assert ran(python, "-c", page, tmp_path / "data", cwd=tmp_path).split() == ["200", "200"]
