"""One room for every kind: nothing of it stands outside, and a new file is a new kind."""

from __future__ import annotations

import ast
import json
import re
import subprocess
import sys
import textwrap
from pathlib import Path

import pytest

import pondel
from pondel.core.moves.registry import KINDS

ROOT = Path(pondel.__file__).parent
ROOMS = ROOT / "core" / "moves"
ALLOWED = {ROOT / "core" / "versions.py"}
"""Migrations name the kinds they change."""
ROOM_FILES = {ROOMS / f"{name.replace(' ', '_')}.py" for name in KINDS}
PLAIN_WORDS = {"level", "width", "gate", "alignment", "pan"}
"""Names that are words of the trade besides: they count where a kind is meant."""


def constants_of_kinds(path: Path) -> set[str]:
    """The names of kinds that a module has as plain strings where they can mean a kind."""
    tree = ast.parse(path.read_text())
    found = {
        node.value
        for node in ast.walk(tree)
        if isinstance(node, ast.Constant) and isinstance(node.value, str) and node.value in KINDS
    }
    meant = set()
    for node in ast.walk(tree):
        if isinstance(node, ast.Compare) and "kind" in ast.unparse(node.left):
            meant |= {c.value for c in ast.walk(node) if isinstance(c, ast.Constant)}
        if isinstance(node, ast.Dict):
            pairs = zip(node.keys, node.values, strict=True)
            meant |= {
                v.value
                for k, v in pairs
                if isinstance(k, ast.Constant) and k.value == "kind" and isinstance(v, ast.Constant)
            }
    return {name for name in found if name not in PLAIN_WORDS or name in meant}


@pytest.mark.parametrize("path", sorted(ROOT.rglob("*.py")), ids=lambda p: str(p.relative_to(ROOT)))
def test_no_kind_is_named_or_imported_outside_its_room(path):
    if path in ROOM_FILES | ALLOWED or "demo" in path.parts:
        return
    assert not constants_of_kinds(path)
    rooms = "|".join(one.stem for one in ROOM_FILES)
    imported = re.findall(rf"core\.moves(?:\.({rooms})\b| import .*\b({rooms})\b)", path.read_text())
    assert not imported


@pytest.mark.parametrize("pattern", ["*.html", "*.js"])
def test_templates_and_scripts_know_no_kind(pattern):
    names = "|".join(re.escape(name) for name in KINDS if name not in PLAIN_WORDS | {"eq"})
    for path in ROOT.rglob(pattern):
        if "vendor" in path.parts:
            continue
        text = path.read_text()
        assert not re.search(rf"\b({names})\b", text), path
        assert not re.search(r"(?:move|one)\.kind\s*={2,3}", text), path


def test_rooms_do_not_know_each_other():
    for path in ROOM_FILES:
        others = "|".join(one.stem for one in ROOM_FILES if one != path)
        assert not re.search(rf"core\.moves\.({others})\b", path.read_text()), path


MADE_UP = '''
"""Halver: a made-up kind, all of it in this file."""
from typing import Literal

import numpy as np

from pondel.core.moves.base import MoveBase, MoveKind
from pondel.core.moves.describe import choice, frequency, share
from pondel.core.moves.fight import Start
from pondel.core.moves.picture import Factor, Handle, Picture
from pondel.core.units import say


class Halver(MoveBase):
    """Parameters of the halver."""

    kind: Literal["halver"] = "halver"
    amount: float = share("Amount", 0.5, "How much of the part is left.")
    round_hz: float = frequency("Round", 800.0, 20, 18000, "Where it is drawn.")
    gentle: bool = choice("Gentle", default=False, help="Nothing else.")


class HalverProcessor:
    latency = 0

    def __init__(self, move, rate, channels, on_trace=None):
        self._amount = np.float32(move.amount)

    def process(self, block, key):
        return block * self._amount


KIND = MoveKind(
    name="halver",
    title="Halver",
    summary="Leaves a share of the part.",
    params=Halver,
    make=HalverProcessor,
    settle_s=lambda move: 0.0,
    picture=lambda move, hz, rate: Picture(
        [Factor(np.full(hz.size, move.amount, complex))],
        [Handle("round", move.round_hz, "round_hz")],
    ),
    start=lambda fight: Start({"kind": "halver", "amount": 0.25}, [f"For {fight.leader.name}."]),
    in_brief=lambda move: f"{say(move.amount, '%')} left",
)
'''
ASK = """
import io, json, re, sys
from pathlib import Path
from pondel.core import moves
moves.__path__.append(sys.argv[1])
sys.path.insert(0, sys.argv[3])
from conftest import hits, sine
from web_tools import Caller, audio, jobs_of
from pondel.core.document import Session
from pondel.core.reading import json_schema
from pondel.web import create_app
app = create_app(Path(sys.argv[2]), immediate=True, testing=True)
caller, library = Caller(app.test_client()), jobs_of(app).library
song = library.create(Session(name="Song"))
caller.upload(song, ("kick.wav", audio(hits(2.0))), ("tuba.wav", audio(sine(70, 2.0))))
laid = caller.edit(song, op="give way", part="tuba", leader="kick", kind="halver").json
at = {"part": "tuba", "move": laid["move"]["move"]}
typed = caller.edit(song, op="set move", **at, field="amount", value="40 %").json
page = caller.client.get(f"/sessions/{song}/moves?part=tuba").text
loop = "start_s=0&end_s=2&part=tuba&move=" + at["move"]
drawn = caller.client.get(f"/sessions/{song}/moves/response?{loop}").json
chunked = jobs_of(app).desk.now(library.head(song).document)
sound = chunked.region(("tuba", "before fader"), 0, 1000) / chunked.region(("tuba", "source"), 0, 1000)
print(json.dumps({
    "schema": "halver" in json.dumps(json_schema()),
    "offered": '<option value="halver"' in page,
    "sliders": re.findall(r'role="slider" tabindex="0" aria-labelledby="name-([a-z_]+)"', page),
    "why": laid["said"], "brief": typed["move"]["brief"], "words": typed["value"]["words"],
    "still_db": drawn["still_db"][0], "handles": [one["hz_field"] for one in drawn["handles"]],
    "recall": caller.client.get(f"/sessions/{song}/recall").text.count("Halver"),
    "checks": caller.client.get(f"/sessions/{song}/moves/checks?{loop}").status_code,
    "sound": round(float(sound[500, 0]), 6),
}))
"""


def test_a_made_up_kind_is_one_file(tmp_path):
    """Form, picture, schema, recall line, starting point and keys come with the file alone."""
    room = tmp_path / "rooms"
    room.mkdir()
    (room / "halver.py").write_text(textwrap.dedent(MADE_UP))
    here = Path(__file__).parent
    words = [sys.executable, "-c", ASK, str(room), str(tmp_path / "data"), str(here)]
    done = subprocess.run(words, capture_output=True, text=True, cwd=here.parent, check=False)
    assert done.returncode == 0, done.stderr[-2000:]
    found = json.loads(done.stdout.splitlines()[-1])
    assert found["schema"] and found["offered"] and found["recall"]
    assert found["sliders"] == ["amount", "round_hz"]
    assert found["why"] == ["For Kick."]
    assert (found["brief"], found["words"]) == ("40 % left", "40 %")
    assert found["still_db"] == pytest.approx(-7.96, abs=0.01)
    assert found["handles"] == ["round_hz"]
    assert found["checks"] == 200 and found["sound"] == pytest.approx(0.4)
