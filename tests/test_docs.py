"""Every command that the README and the docs show does what they say, on a short session."""

from __future__ import annotations

import json
import re
import shlex
import shutil
from pathlib import Path

import pytest
from click.testing import CliRunner
from conftest import hits, sine
from web_tools import audio

from pondel.cli import main

DOCS = [Path("README.md"), *sorted(Path("docs").glob("*.md"))]
GO_ON = {"serve", "work", "demo"}
"""Commands that end when they are stopped: their options are looked at, no more."""


def commands(path: Path) -> list[str]:
    """The commands of a page, each with what is handed to it."""
    found = []
    lines = path.read_text().splitlines()
    for n, line in enumerate(lines):
        if not re.match(r"    pondel [a-z]", line):
            continue
        command = line.strip()
        if "<<'JSON'" in command:
            end = next(k for k in range(n, len(lines)) if lines[k].strip() == "JSON")
            handed = "\n".join(lines[n + 1 : end])
            command = f"{command.partition('<<')[0]}\n{handed}"
        found.append(command)
    return found


CASES = [(path, command) for path in DOCS for command in commands(path)]


@pytest.fixture(scope="module")
def base(tmp_path_factory):
    """A folder with stems, and a data folder with both sessions that the docs name."""
    place = tmp_path_factory.mktemp("docs")
    for folder, seconds, names in (
        ("stems", 5.0, ("Kick", "Bass", "Voice")),
        ("parade", 27.0, ("Bass drum", "Tuba", "Accordion")),
    ):
        (place / folder).mkdir()
        tuba = sine(62, seconds, -12) + 0.3 * sine(124, seconds, -12)
        sounds = hits(seconds), tuba, sine(330, seconds, -16)
        for name, sound in zip(names, sounds, strict=True):
            (place / folder / f"{name}.wav").write_bytes(audio(sound))
    for folder, name in (("parade", "Lantern Parade"), ("stems", "Night bus")):
        given = ["import", str(place / folder), "--name", name, "--data", str(place / "data")]
        assert CliRunner().invoke(main, given).exit_code == 0
    duck = {"op": "give way", "leader": "bass-drum", "part": "accordion", "kind": "eq"}
    given = ["do", "Lantern Parade", json.dumps(duck), "--data", str(place / "data")]
    assert CliRunner().invoke(main, given).exit_code == 0
    changes = {"op": "set part", "part": "kick", "field": "fader_db", "value": -1}
    (place / "changes.json").write_text(json.dumps([changes]))
    (copy,) = (place / "data" / "copies").glob("day-*.db")
    shutil.copy(copy, copy.with_name("day-2026-11-25.db"))
    return place


@pytest.mark.parametrize(("path", "command"), CASES, ids=lambda one: str(one)[:60])
def test_a_command_of_the_docs_works_as_it_stands(base, tmp_path, monkeypatch, path, command):
    shutil.copytree(base, tmp_path / "here")
    monkeypatch.chdir(tmp_path / "here")
    monkeypatch.setenv("PONDEL_DATA", str(tmp_path / "here" / "data"))
    line, _, handed = command.partition("\n")
    words = shlex.split(re.split(r" [|>] ", line)[0].replace("DIR", "data"), comments=True)[1:]
    if words[0] in GO_ON:
        words = [words[0], "--help"]
    result = CliRunner().invoke(main, words, input=handed)
    assert result.exit_code == 0, result.output
    assert result.output.strip()


def test_there_is_something_to_run():
    assert len(CASES) >= 20
    assert {path.name for path, _ in CASES} >= {"README.md", "make-room.md", "reliability.md"}
