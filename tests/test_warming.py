"""Nothing waits for the compiler: every kernel is compiled before it is needed."""

from __future__ import annotations

import ast
import importlib
import itertools
import json
import subprocess
import sys
from pathlib import Path

import numpy as np
import soundfile
from conftest import RATE, session_of

import pondel.core
from pondel.core import warming
from pondel.core.audio import files
from pondel.core.audio.media import ArrayMedia
from pondel.core.beats import steady
from pondel.core.dsp import compiled
from pondel.core.dsp.welch import Welch
from pondel.core.engine import render
from pondel.core.engine.listen import in_zone
from pondel.core.evidence import small_speakers_lufs
from pondel.core.hearing.excitation import excite
from pondel.core.measures.hits import Hits
from pondel.core.measures.levels import LevelMeter
from pondel.core.measures.loudness import loudness_lufs
from pondel.core.measures.metering import metered
from pondel.core.moves.base import Place
from pondel.core.moves.registry import KINDS
from pondel.jobs.recordings import measure_recording

CORE = Path(pondel.core.__file__).parent


def is_kernel(node) -> bool:
    decorators = [getattr(one, "func", one) for one in getattr(node, "decorator_list", [])]
    return any(isinstance(one, ast.Name) and one.id == "kernel" for one in decorators)


def called_by_python(tree: ast.Module) -> set[str]:
    """The names that are called anywhere but in kernels."""
    found = set()
    for node in tree.body:
        if is_kernel(node):
            continue
        calls = [one.func for one in ast.walk(node) if isinstance(one, ast.Call)]
        found |= {one.id for one in calls if isinstance(one, ast.Name)}
    return found


def first_kernels():
    """Every kernel that Python calls, and so compiles, by its name."""
    trees = {path: ast.parse(path.read_text()) for path in CORE.rglob("*.py")}
    called = set().union(*map(called_by_python, trees.values()))
    for path, tree in trees.items():
        module = ".".join(["pondel.core", *path.relative_to(CORE).with_suffix("").parts])
        for name in (node.name for node in tree.body if is_kernel(node) and node.name in called):
            yield f"{module}.{name}", getattr(importlib.import_module(module), name)


def test_every_kernel_is_reached_in_the_order_of_likely_use():
    """In a process of its own: what another test has compiled would not be missed."""
    told = subprocess.run([sys.executable, __file__], capture_output=True, text=True, check=True)
    steps, count, missed, again = json.loads(told.stdout)
    assert count > 40 and missed == []
    assert again == [], "compiled once more for arrays of another layout, while somebody waits"
    assert list(steps)[:4] == ["recordings", "hearing", "level", "EQ"] and "compressor" in steps
    assert "pondel.core.dsp.cascade._run" in steps["EQ"], "a later kind's step would be waited for"


def test_a_recording_waits_for_the_first_step_only(tmp_path):
    told = subprocess.run(
        [sys.executable, __file__, str(tmp_path)], capture_output=True, text=True, check=True
    )
    assert json.loads(told.stdout) == []


def compiled_by_a_recording(folder: Path) -> list[str]:
    """What the first step left to be compiled while recordings are measured."""
    _, first = next(warming.steps())
    first()
    kernels = dict(first_kernels())
    before = {name: len(one.signatures) for name, one in kernels.items()}
    for channels in (1, 2):
        noise = np.random.default_rng(1).normal(0, 0.1, (96_000, channels))
        soundfile.write(folder / "noise.wav", noise, RATE, "FLOAT")
        measure_recording(folder / "noise.wav", files.read_blocks(folder / "noise.wav"))
    return [name for name, one in kernels.items() if len(one.signatures) != before[name]]


def test_every_step_is_remembered_by_itself(tmp_path, monkeypatch):
    monkeypatch.setattr(compiled, "_CACHE", tmp_path)
    for step, _ in warming.steps():
        assert not compiled.is_compiled(step)
        compiled.reached(step)
        assert compiled.is_compiled(step)


HELD = [
    {"id": "a", "kind": "compressor", "hold_ms": 5},
    {"id": "b", "kind": "gate", "hold_ms": 5},
    {"id": "c", "kind": "dynamic eq", "bands": [{"hz": 100, "hold_ms": 5}]},
    {"id": "d", "kind": "multiband", "bands": [{"hold_ms": 5}, {"hold_ms": 5}], "crossovers_hz": [200]},
    {"id": "e", "kind": "spectral duck", "hold_ms": 5},
]
"""Kinds that wait before they return, and are told to."""


SHORT = [[1, 1], [2, 1], [9, 1], [2049, 1], [9601]]
"""Blocks as branches of one stream pull them: an array of one frame is of every layout at once."""


def run_held() -> None:
    noise = np.random.default_rng(1).normal(0, 0.1, (9600, 2)).astype(np.float32)
    moves = [{**move, "key": {"source": "drum"}} for move in HELD]
    session = session_of({"id": "drum"}, {"id": "tuba", "moves": moves})
    render.region(session, ArrayMedia({"drum": noise, "tuba": noise}), "mix", 0, noise.shape[0])


def run_short() -> None:
    """Every kind, as it is warmed and told to hold, over blocks of hardly a frame."""
    noise = np.random.default_rng(1).normal(0, 0.1, (9601, 2)).astype(np.float32)
    hits = Place(0, steady(120.0), np.array([0.01, 0.1]))
    for kind in KINDS.values():
        held = [one for one in HELD if one["kind"] == kind.name]
        for one in [*({"id": "a", **warmed} for warmed in kind.warmed_by), *held]:
            move = kind.params.model_validate(one)
            for channels, blocks in itertools.product((1, 2), SHORT):
                processor = kind.at_work(move, RATE, channels, lambda *_: None)
                if hasattr(processor, "start_at"):
                    processor.start_at(hits)
                for frames in blocks:
                    part, key = noise[:frames, :channels].copy(), noise[:frames, :1].copy()
                    processor.process(part, key if kind.keyed else None)


def run_kept() -> None:
    """Sound as chunks are kept, not to be written to, and sound that was turned."""
    kept = np.random.default_rng(1).normal(0, 0.1, (48_000, 2)).astype(np.float32)
    kept.setflags(write=False)
    for sound in (kept, kept[:1], kept[:, :1], kept.T.copy().T):
        channels = sound.shape[1]
        for measure in (Hits(RATE), Welch(RATE), LevelMeter(RATE, channels)):
            measure.write(sound)
        loudness_lufs(sound, RATE)
        small_speakers_lufs(sound, RATE)
        in_zone(sound, (60.0, 120.0), RATE)
        excite([sound], RATE)
    for frames in (0, 1, kept.shape[0]):
        metered(kept[:frames], RATE)


def compiled_in_all() -> tuple[dict[str, list[str]], int, list[str], list[str]]:
    """What each step compiles, of how many, what none reached, and what is compiled once more."""
    kernels = dict(first_kernels())
    warmed, reached = {}, set()
    for step, work in warming.steps():
        work()
        warmed[step] = sorted(name for name in kernels.keys() - reached if kernels[name].signatures)
        reached |= set(warmed[step])
    before = {name: len(one.signatures) for name, one in kernels.items()}
    run_held()
    run_short()
    run_kept()
    again = [name for name, one in kernels.items() if len(one.signatures) != before[name]]
    missed = [name for name, count in before.items() if not count]
    return warmed, len(kernels), missed, again


if __name__ == "__main__":
    given = sys.argv[1:]
    print(json.dumps(compiled_by_a_recording(Path(given[0])) if given else compiled_in_all()))
