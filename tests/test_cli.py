"""The command line on files nobody prepared."""

from __future__ import annotations

import json
import os
import subprocess
import sys

import numpy as np
import pytest
import soundfile
from click.testing import CliRunner
from conftest import hits, sine

from pondel.cli import main
from pondel.store.library import Library

RATE = 44100


@pytest.fixture
def stems(tmp_path):
    """Three 24-bit stereo stems at 44.1 kHz."""
    rng = np.random.default_rng(2)
    folder = tmp_path / "stems"
    folder.mkdir()
    drum = np.repeat(hits(4.0, rate=RATE), 2, axis=1) * 0.6
    bass = np.hstack([sine(65, 4.0, -14, RATE), sine(65, 4.0, -15, RATE)])
    hiss = rng.normal(0, 0.02, (4 * RATE, 2)).astype("f4")
    for name, samples in {"01 Kick.wav": drum, "02 Bass.wav": bass, "03_shaker.wav": hiss}.items():
        soundfile.write(folder / name, samples, RATE, "PCM_24")
    return folder


@pytest.fixture
def run(tmp_path):
    """Run a command over a fresh data folder."""

    def invoke(*words, data=True):
        extra = ["--data", str(tmp_path / "data")] if data else []
        return CliRunner().invoke(main, [*map(str, words), *extra])

    return invoke


def test_import_measure_and_render_a_folder(run, stems, tmp_path):
    made = run("import", stems, "--name", "Night bus")
    assert made.exit_code == 0, made.output
    session_id = made.stdout.strip()
    assert session_id == "night-bus"
    assert "Night bus\t3 parts" in run("list").stdout

    measured = run("measure", session_id, "--json")
    assert measured.exit_code == 0
    report = json.loads(measured.stdout)
    kick = report["parts"][0]
    assert set(kick) >= {
        "id",
        "name",
        "role",
        "seconds",
        "sample_peak_dbfs",
        "true_peak_dbtp",
        "rms_dbfs",
        "integrated_lufs",
        "clipped_runs",
        "hits",
        "hidden_share",
        "loudness_sone",
    }
    assert (kick["id"], kick["role"], kick["hits"], kick["seconds"]) == ("kick", "kick", 8, 4.0)
    pair = report["pairs"][0]
    assert (pair["hidden"], pair["by"]) == ("kick", "bass")
    assert set(pair) == {
        "hidden",
        "by",
        "share",
        "alone_share",
        "sone",
        "low_hz",
        "high_hz",
        "on_hits",
        "weight",
    }
    assert 0.2 < pair["share"] <= pair["alone_share"] + 0.05

    out = tmp_path / "out"
    printed = run("render", "Night bus", "--out", out, "--what", "both", "--bits", "32f")
    assert printed.exit_code == 0, printed.output
    assert sorted(p.name for p in out.iterdir()) == ["Bass.wav", "Kick.wav", "Shaker.wav", "mix.wav"]
    mix, rate = soundfile.read(out / "mix.wav", dtype="float32")
    plain = sum(soundfile.read(p, dtype="float32")[0] for p in sorted(stems.iterdir()))
    assert rate == RATE
    assert 20 * np.log10(np.abs(mix - plain).max() + 1e-12) < -120
    assert soundfile.info(out / "mix.wav").subtype == "FLOAT"


def test_a_stretch_and_other_formats(run, stems, tmp_path):
    run("import", stems, "--name", "x")
    for format_, bits, subtype in [
        ("flac", "16", "PCM_16"),
        ("aiff", "24", "PCM_24"),
        ("ogg", "24", "VORBIS"),
    ]:
        out = tmp_path / format_
        options = ["--format", format_, "--bits", bits, "--start", "1", "--end", "2.5"]
        assert run("render", "x", "--out", out, *options).exit_code == 0
        info = soundfile.info(out / f"mix.{format_}")
        assert (info.subtype, info.frames, info.channels) == (subtype, round(1.5 * RATE), 2)


def test_dithered_sixteen_bits_keep_what_lies_below_a_step(run, tmp_path):
    quiet = np.repeat(sine(1000, 2.0, -104, RATE), 2, axis=1)
    (tmp_path / "q").mkdir()
    soundfile.write(tmp_path / "q" / "quiet.wav", quiet, RATE, "FLOAT")
    run("import", tmp_path / "q", "--name", "q")
    run("render", "q", "--out", tmp_path / "o", "--bits", "16")
    samples, _ = soundfile.read(tmp_path / "o" / "mix.wav")
    bins = np.abs(np.fft.rfft(samples[:RATE, 0] * np.hanning(RATE))) * 4 / RATE
    assert 20 * np.log10(bins[1000]) == pytest.approx(-104, abs=1.5)
    assert bins[1000] > 5 * np.median(bins)


def test_the_ways_of_a_fight_from_a_script(run, stems):
    run("import", stems, "--name", "first")
    asked = ("tryouts", "first", "--leader", "Kick", "--part", "bass", "--end", "4")
    told = run(*asked, "--json")
    assert told.exit_code == 0, told.output
    report = json.loads(told.stdout)
    assert (report["leader"], report["part"]) == ("kick", "bass")
    points = report["points"]
    assert {"level", "eq", "compressor", "multiband"} <= {one["kind"] for one in points}
    reliefs = [one["relief_db"] for one in points if one["judged_in"] == "both"]
    assert reliefs == sorted(reliefs, reverse=True) and reliefs[0] > 1
    # What is judged on one side alone is not ranked among the others.
    assert {one["kind"] for one in points[len(reliefs) :]} == {"pan"}
    level = next(one for one in points if (one["kind"], one["amount"]) == ("level", "usual"))
    assert level["settings"]["gain_db"] == -5 and level["tone"]["largest_db"] == -5
    table = run(*asked[:-1], "1").stdout
    assert "Multiband" in table and "strong" in table
    wrong = run("tryouts", "first", "--leader", "Nobody", "--part", "bass")
    assert wrong.exit_code == 2 and "no part is called 'Nobody'" in wrong.stderr
    short = run("tryouts", "first", "--leader", "Kick", "--part", "bass", "--start", "3", "--end", "2")
    assert short.exit_code == 2 and "has to end after it starts" in short.stderr


def test_archive_and_session_json_bring_the_same_session_back(run, stems, tmp_path):
    run("import", stems, "--name", "first")
    assert run("archive", "first", "--out", tmp_path / "first.zip").exit_code == 0
    again = run("import", tmp_path / "first.zip", "--name", "second")
    assert again.exit_code == 0, again.output
    for name in ("first", "second"):
        run("render", name, "--out", tmp_path / name, "--bits", "32f")
    first, second = ((tmp_path / n / "mix.wav").read_bytes() for n in ("first", "second"))
    assert first == second
    document = {
        "name": "by hand",
        "rate": RATE,
        "parts": [{"id": "k", "name": "K", "file": "01 Kick.wav"}],
    }
    file = stems / "session.json"
    file.write_text(json.dumps(document))
    report = json.loads(run("measure", file, "--json").stdout)
    assert [part["id"] for part in report["parts"]] == ["k"]
    assert run("render", file, "--out", tmp_path / "o").exit_code == 0


def fails(result, *words):
    assert result.exit_code == 2
    lines = result.stderr.strip().splitlines()
    assert lines and all(line.startswith("pondel: ") for line in lines)
    assert all(word in result.stderr for word in words), result.stderr
    assert "Traceback" not in result.output


def test_bad_input_is_one_line_and_status_two(run, stems, tmp_path):
    for command in (("list",), ("measure", "x"), ("tidy",)):
        fails(run(*command), "no data folder here")
    assert not (tmp_path / "data").exists()
    fails(run("import", tmp_path / "gone", "--name", "x"), "gone")
    (tmp_path / "bad").mkdir()
    (tmp_path / "bad" / "notes.wav").write_text("not audio")
    fails(run("import", tmp_path / "bad", "--name", "x"), "notes.wav")
    outside = {"name": "x", "parts": [{"id": "a", "name": "A", "file": "../stems/01 Kick.wav"}]}
    (tmp_path / "bad" / "session.json").write_text(json.dumps(outside))
    fails(run("measure", tmp_path / "bad" / "session.json"), "outside")
    run("import", stems, "--name", "x")
    fails(run("measure", "nowhere", "--json"), "no session", "nowhere")
    fails(run("render", "x", "--out", tmp_path / "o", "--format", "flac", "--bits", "32f"), "FLAC")
    fails(run("render", "x", "--out", tmp_path / "o", "--start", "3", "--end", "2"), "ends before")
    fails(run("serve", "--host", "0.0.0.0"), "PONDEL_PASSWORD")


def test_a_bad_file_among_good_ones_is_named_and_the_others_come_in(run, stems):
    (stems / "04 broken.wav").write_bytes((stems / "01 Kick.wav").read_bytes()[:5000])
    result = run("import", stems, "--name", "x")
    fails(result, "04 broken.wav", "cut short")
    assert result.stdout.strip() == "x"
    assert "3 parts" in run("list").stdout


def test_a_folder_comes_in_with_the_folders_below_it_and_what_stays_out_is_named(run, stems):
    (stems / "drums").mkdir()
    (stems / "01 Kick.wav").rename(stems / "drums" / "01 Kick.wav")
    for name in ("notes.txt", "more.txt", ".hidden.wav", "cover.png"):
        (stems / name).write_text("no sound")
    result = run("import", stems, "--name", "x")
    assert result.exit_code == 0 and "3 parts" in run("list").stdout
    assert "more.txt, notes.txt" in result.stderr and "cover.png" in result.stderr
    assert "hidden" not in result.stderr
    (stems / "drums" / "old.m4a").write_bytes(b"\0\0\0 ftypM4A ")
    fails(run("import", stems, "--name", "y"), "old.m4a")


def test_what_is_refused_leaves_the_last_good_print_and_nothing_else(run, stems, tmp_path):
    run("import", stems, "--name", "x")
    out = tmp_path / "out"
    assert run("render", "x", "--out", out).exit_code == 0
    good = (out / "mix.wav").read_bytes()
    fails(run("render", "x", "--out", out), "mix.wav", "already", "--replace")
    run("do", "x", '{"op": "set part", "part": "kick", "field": "fader_db", "value": 20}')
    fails(run("render", "x", "--out", out, "--replace"), "over full scale")
    assert (out / "mix.wav").read_bytes() == good and [p.name for p in out.iterdir()] == ["mix.wav"]
    assert run("render", "x", "--out", out, "--replace", "--bits", "32f").exit_code == 0
    assert (out / "mix.wav").read_bytes() != good
    packed = tmp_path / "x.zip"
    assert run("archive", "x", "--out", packed).exit_code == 0
    fails(run("archive", "x", "--out", packed), "x.zip", "already")


def test_a_terminal_that_knows_ascii_alone_is_told_all_the_same(run, stems, tmp_path):
    run("import", stems, "--name", "Größe")
    env = {**os.environ, "PYTHONIOENCODING": "ascii", "PONDEL_DATA": str(tmp_path / "data")}
    command = [sys.executable, "-m", "pondel", "measure", "Größe"]
    done = subprocess.run(command, env=env, capture_output=True, check=False)
    assert done.returncode == 0 and b"Kick" in done.stdout, done.stderr[-500:]


def test_schema_is_json(run):
    result = run("schema", data=False)
    assert json.loads(result.stdout)["title"] == "Session"


def test_operations_from_a_script(run, stems, tmp_path):
    session_id = run("import", stems, "--name", "Night bus").stdout.strip()
    script = tmp_path / "changes.json"
    decide = {"op": "decide", "leads": "kick", "gives_way": "bass", "low_hz": 40, "high_hz": "120 Hz"}
    script.write_text(json.dumps([decide, {"op": "right of way", "zone": "z1"}]))
    made = run("do", "Night bus", script)
    assert made.exit_code == 0, made.output
    first, *said = made.stdout.splitlines()
    assert first.startswith("revision ") and "Kick leads 40 Hz to 120 Hz" in first
    assert any("release" in line.lower() for line in said)
    before = json.loads(run("measure", session_id, "--json").stdout)
    script.write_text(json.dumps([decide, {"op": "remove part", "part": "nobody"}]))
    refused = run("do", session_id, script)
    assert refused.exit_code == 2 and refused.stderr.count("\n") == 1 and "nobody" in refused.stderr
    assert json.loads(run("measure", session_id, "--json").stdout) == before
    for wrong in ("{", "3", '{"op": "burn"}', '[{"op": "set part", "part": "kick"}]'):
        script.write_text(wrong)
        refused = run("do", session_id, script)
        assert refused.exit_code == 2 and refused.stderr.count("\n") == 1, wrong
    assert run("do", "nothing", script).exit_code == 2
    in_place = run(
        "do", session_id, '{"op": "set part", "part": "kick", "field": "fader_db", "value": -3}'
    )
    assert in_place.exit_code == 0 and "revision " in in_place.stdout
    assert "write the JSON itself" in run("do", session_id, tmp_path / "gone.json").stderr
    assert "oneOf" in json.loads(run("schema", "--operations", data=False).stdout)


def test_groups_returns_and_silent_keys_in_the_report_and_in_prints(run, stems, tmp_path):
    parts = [
        {"id": "k", "name": "Kick", "role": "kick", "file": "01 Kick.wav", "group": "g"},
        {"id": "b", "name": "Bass", "file": "02 Bass.wav", "group": "g", "fader_db": -2},
        {"id": "s", "name": "Shaker", "file": "03_shaker.wav", "sends": [{"to": "r", "tap": "source"}]},
        {"id": "m", "name": "Muted", "file": "03_shaker.wav", "mute": True, "sends": [{"to": "r"}]},
        {
            "id": "q",
            "name": "Quiet key",
            "file": "01 Kick.wav",
            "silent_key": True,
            "sends": [{"to": "r"}],
        },
        {"id": "g", "name": "Lows", "file": None, "source": "sends", "fader_db": -3},
        {"id": "r", "name": "Hall", "file": None, "source": "sends"},
    ]
    path = stems / "session.json"
    path.write_text(json.dumps({"pondel": 3, "name": "Groups", "rate": RATE, "parts": parts}))
    out = tmp_path / "out"
    printed = run("render", path, "--out", out, "--what", "both", "--bits", "32f")
    assert printed.exit_code == 0, printed.output
    names = sorted(one.stem for one in out.iterdir())
    assert names == ["Hall", "Lows", "Shaker", "mix"]
    mix, *rest = (soundfile.read(out / f"{name}.wav")[0] for name in ("mix", "Hall", "Lows", "Shaker"))
    assert 20 * np.log10(np.abs(mix - sum(rest)).max() + 1e-12) < -120
    report = json.loads(run("measure", path, "--json").output)
    by_id = {part["id"]: part for part in (*report["parts"], *report["returns"])}
    assert by_id["m"]["hidden_share"] is None and by_id["m"]["silent"] == "Muted is muted"
    assert by_id["q"]["silent"] == "Quiet key is a silent key"
    assert by_id["g"]["hidden_share"] is None and by_id["g"]["silent"] is None
    assert by_id["r"]["hidden_share"] > 0.05 and by_id["k"]["hidden_share"] is not None
    table = run("measure", path)
    assert table.exit_code == 0 and "Hall" in table.output


def test_an_older_session_that_is_brought_in_says_once_what_sounds_different(run, stems, tmp_path):
    gate = {"id": "m", "kind": "gate", "range_db": 30}
    part = {"id": "k", "name": "Kick", "file": "01 Kick.wav", "moves": [gate]}
    path = stems / "session.json"
    path.write_text(json.dumps({"pondel": 2, "name": "Old", "rate": RATE, "parts": [part]}))
    assert run("import", path, "--name", "Old").exit_code == 0
    library = Library(tmp_path / "data")
    (told,) = library.bring_up("old")
    assert "Kick, gate / expander: up to 30.0 dB." in told
    assert library.bring_up("old") == []
    library.close()


def test_help_needs_no_sound():
    """What computes and serves is imported by the commands that need it: help comes at once."""
    heavy = ("numpy", "scipy", "numba", "soundfile", "flask", "peewee", "pydantic", "rich")
    ask = f"import sys, pondel.cli; print([one for one in {heavy} if one in sys.modules])"
    told = subprocess.run([sys.executable, "-c", ask], capture_output=True, text=True, check=True)
    assert told.stdout.strip() == "[]"
