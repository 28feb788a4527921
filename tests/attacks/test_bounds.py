"""Large documents: five hundred parts work, one more is refused, and nothing grows with the square."""

from __future__ import annotations

import sys

import numpy as np
import pytest
from click.testing import CliRunner
from conftest import NO_MEDIA, RATE, hits, session_of, sine
from web_tools import Caller, audio, jobs_of

from pondel.cli import main
from pondel.core.audio import files
from pondel.core.audio.media import ArrayMedia
from pondel.core.document import MOST_PARTS, Part, Session
from pondel.core.engine import render, routing
from pondel.core.engine.routing import MOST_IN_A_ROW, check_cycles
from pondel.core.errors import BadDocument, PondelError
from pondel.core.operations.parts import SetPart
from pondel.core.reading import parse_session, to_json
from pondel.jobs import sessions
from pondel.store.library import Library
from pondel.web import create_app
from pondel.web.ink import tags_of


def returns(count: int, *, chained: bool = False) -> list[dict]:
    rows = [{"id": f"r{n}", "name": f"R {n}", "source": "sends", "file": None} for n in range(count)]
    if chained:
        for n in range(1, count):
            rows[n]["sends"] = [{"to": f"r{n - 1}"}]
    return rows


MANY = [{"id": f"m{n}", "kind": "level"} for n in range(40)]


def test_five_hundred_and_twelve_parts_work_and_one_more_is_refused(tmp_path):
    app = create_app(tmp_path, immediate=True)
    caller, jobs = Caller(app.test_client()), jobs_of(app)
    song = jobs.library.create(Session(name="Song"))
    caller.upload(song, ("kick.wav", audio(hits(0.6))), ("tuba.wav", audio(sine(70, 0.6))))
    document = to_json(jobs.library.head(song).document)
    kick = document["parts"][0]
    document["parts"] += [
        {**kick, "id": f"p{n}", "name": f"Part {n}", "mute": True} for n in range(MOST_PARTS - 2)
    ]
    full = jobs.library.create(parse_session(document))
    for page in ("intake", "lanes", "moves", "proof", "hand-off", "facts"):
        assert caller.client.get(f"/sessions/{full}/{page}").status_code == 200, page
    edit = caller.edit(full, op="set part", part="p7", field="fader_db", value=-3)
    assert edit.status_code == 200
    more = caller.edit(full, op="add return", name="One more")
    assert more.status_code == 400 and "at most 512 parts" in more.json["message"]
    caller.upload(full, ("late.wav", audio(sine(99, 0.5))))
    (late,) = jobs.arrivals.of_session(full)
    assert "at most 512 parts" in late.message and late.state == "failed"
    parts = jobs.library.head(full).document.parts
    assert len(parts) == MOST_PARTS
    tags = tags_of(jobs.library.head(full).document)
    assert len(set(tags.values())) == MOST_PARTS


@pytest.mark.parametrize(
    ("names", "tags"),
    [
        (["Bass drum", "Tuba"], ["BD", "TU"]),
        (["Voice 1", "Voice 2", "Voice 12"], ["V1", "V2", "V12"]),
        (["Kick", "Kick", "Kicker"], ["KI", "KC", "KK"]),
        (["Tom 1", "Tuba"], ["TO", "TU"]),
        (["鼓", "鼓", "!!"], ["P1", "P2", "P3"]),
        (["A", "A", "A"], ["A1", "A2", "A3"]),
    ],
)
def test_tags_are_short_and_unlike(names, tags):
    rows = [{"id": f"p{n}", "name": name} for n, name in enumerate(names)]
    assert list(tags_of(session_of(*rows)).values()) == tags


def test_a_tag_may_be_typed_and_no_two_are_alike(tmp_path):
    library = Library(tmp_path)
    song = library.create(session_of({"id": "a", "name": "Kick"}, {"id": "b", "name": "Kite"}))
    library.edit(song, None, SetPart(part="b", field="tag", value="ki").apply)
    assert tags_of(library.head(song).document) == {"a": "KC", "b": "KI"}
    with pytest.raises(BadDocument, match="tag"):
        library.edit(song, None, SetPart(part="a", field="tag", value="KI").apply)
    with pytest.raises(BadDocument, match="tag"):
        library.edit(song, None, SetPart(part="a", field="tag", value="toolong").apply)
    library.edit(song, None, SetPart(part="b", field="tag", value="").apply)
    assert library.head(song).document.part("b").tag is None
    library.close()


def test_a_chain_of_returns_is_refused_not_a_stack_that_overflows():
    for count in (MOST_IN_A_ROW + 1, 300, MOST_PARTS):
        with pytest.raises(BadDocument, match="in a row"):
            check_cycles(parse_session({"name": "x", "parts": returns(count, chained=True)}))
    check_cycles(parse_session({"name": "x", "parts": returns(MOST_IN_A_ROW, chained=True)}))


def test_the_longest_chain_that_is_allowed_renders():
    level = [{"id": f"m{n}", "kind": "level"} for n in range(40)]
    rows = returns(MOST_IN_A_ROW - 1, chained=True)
    for row in rows:
        row["moves"] = level
    first = {"id": "a", "name": "A", "file": "a", "moves": level, "sends": [{"to": rows[-1]["id"]}]}
    session = parse_session({"name": "x", "parts": [first, *rows]})
    check_cycles(session)
    media = ArrayMedia({"a": sine(99, 0.2)})
    mix = render.region(session, media, "mix", 0, RATE // 10)
    assert np.abs(mix).max() > 0.1
    assert routing.fingerprint(session, NO_MEDIA, ("r0", "after fader"))
    assert sys.getrecursionlimit() <= 1000


def test_sends_that_branch_again_and_again_are_walked_once():
    rows = returns(MOST_IN_A_ROW * 8)
    for n, row in enumerate(rows):
        layer = n // 8
        if layer:
            row["sends"] = [{"to": f"r{(layer - 1) * 8 + k}"} for k in range(8)]
    session = parse_session({"name": "x", "parts": rows})
    check_cycles(session)
    visits = []
    needs = routing.needs
    routing.needs, kept = lambda *a, **k: visits.append(a) or needs(*a, **k), needs
    try:
        routing.run_up_s(session, ("r0", "after fader"))
        routing.fingerprint(session, NO_MEDIA, ("r0", "after fader"))
    finally:
        routing.needs = kept
    assert len(visits) <= 3 * len(rows)


def test_checks_grow_with_the_size_of_a_document_not_its_square():
    """Counted in calls, since clocks lie: a document four times as large takes about four times."""
    counted = {}
    for count in (128, MOST_PARTS):
        calls = 0

        def count_calls(*_):
            nonlocal calls
            calls += 1

        session = {"name": "x", "parts": returns(count)}
        sys.setprofile(count_calls)
        try:
            check_cycles(parse_session(session))
        finally:
            sys.setprofile(None)
        counted[count] = calls
    assert counted[MOST_PARTS] < 5 * counted[128]


@pytest.mark.parametrize(
    ("fields", "words"),
    [
        ({"parts": returns(513)}, "parts: 512 at most, not 513"),
        (
            {
                "sections": [
                    {"id": f"s{n}", "name": "S", "start_s": n, "end_s": n + 1} for n in range(300)
                ]
            },
            "256",
        ),
        ({"parts": [{"id": "a", "name": "A", "file": "a", "start_s": 1e9}]}, "36000"),
        ({"parts": [{"id": "a", "name": "A" * 81, "file": "a"}]}, "80"),
        ({"parts": [{"id": "../a", "name": "A", "file": "a"}]}, "pattern"),
        ({"parts": [{"id": "a", "name": "A", "file": "a", "sends": [{"to": "a"}] * 99}]}, "64 at most"),
        ({"sections": [{"id": "s", "name": "S", "start_s": 0, "end_s": 1e300}]}, "36000"),
        (
            {
                "parts": [
                    {"id": "a", "name": "A", "file": "a", "moves": [{"id": "m", "kind": "level"}] * 41}
                ]
            },
            "40 at most",
        ),
        ({"parts": [{"id": "a", "name": "A", "file": "a", "hits": {"added_s": [1e300]}}]}, "36000"),
        ({"parts": [{**row, "moves": MANY} for row in returns(128)]}, "4096 moves, not 5120"),
    ],
)
def test_documents_are_bounded(fields, words):
    with pytest.raises(BadDocument) as told:
        parse_session({"name": "x", **fields})
    assert words in told.value.message


def test_names_are_cleaned_and_short_enough_for_any_disk():
    part = Part(id="a", name="A\0\n\x1b[31m", file="a")
    assert part.name.isprintable()
    assert len(files.safe_name("🥁" * 80).encode()) <= 160
    assert files.safe_name("\0/..") == "part"


@pytest.fixture
def run(tmp_path):
    def invoke(*words):
        return CliRunner().invoke(main, [*map(str, words), "--data", str(tmp_path / "data")])

    return invoke


def is_told(result, *words):
    assert result.exit_code == 2, result.output
    assert "Traceback" not in result.output
    assert result.stderr.startswith(("pondel: ", "Usage: "))
    assert all(word in result.stderr for word in words), result.stderr


def test_the_command_line_answers_anything_in_one_line(run, tmp_path):
    stems = tmp_path / "stems"
    stems.mkdir()
    (stems / "a.wav").write_bytes(audio(sine(99, 1.0)))
    (stems / "dead.wav").symlink_to(tmp_path / "nowhere.wav")
    (stems / "folder.wav").mkdir()
    made = run("import", stems, "--name", "x")
    assert made.exit_code == 2 and made.stdout.strip() == "x"
    assert "dead.wav" in made.stderr and "folder.wav" in made.stderr
    out = tmp_path / "out"
    for words, told in (
        (("render", "x", "--out", out, "--start", "nan"), "not a place"),
        (("render", "x", "--out", out, "--end", "inf"), "not a place"),
        (("render", "x", "--out", out, "--start", "-5"), "not a place"),
        (("render", "x", "--out", out, "--start", "1e9"), "the song ends"),
        (("render", "x", "--out", stems / "a.wav"), ""),
        (("render", "\ud800", "--out", out), "no session"),
        (("render", "x" * 9000, "--out", out), "no session"),
        (("import", stems / "a.wav", "--name", ""), "--name"),
        (("import", stems / "a.wav", "--name", "n" * 81), "--name"),
        (("import", stems / "dead.wav", "--name", "y"), "dead.wav"),
        (("measure", "../../etc/passwd"), "no session"),
        (("archive", "x", "--out", tmp_path / "no" / "such" / "x.zip"), ""),
    ):
        is_told(run(*words), told)
    for body in ("[" * 100_000, "\udcff", '{"name": 1e999}', '{"parts": [[]]}', "nul\0"):
        path = tmp_path / "session.json"
        path.write_bytes(body.encode(errors="surrogateescape"))
        is_told(run("measure", path), "session.json")
    assert not [path for path in tmp_path.iterdir() if path.suffix == ".part"]


def test_an_unforeseen_failure_is_one_line_too(run, tmp_path, monkeypatch):
    Library(tmp_path / "data").close()
    monkeypatch.setattr(Library, "sessions", lambda _: 1 / 0)
    result = run("list")
    assert result.exit_code == 1
    assert result.stderr.count("\n") == 1 and "ZeroDivisionError" in result.stderr


def test_neighbours_are_found_by_index(tmp_path):
    library = Library(tmp_path)
    library.create(session_of({"id": "a"}))
    plan = library.database.execute_sql(
        "explain query plan select * from revision where parent = 7 order by id desc"
    )
    assert "USING INDEX" in " ".join(str(row) for row in plan)
    library.close()


def test_a_folder_with_more_files_than_parts_is_refused(tmp_path, monkeypatch):
    monkeypatch.setattr(sessions, "MOST_PARTS", 2)
    stems = tmp_path / "stems"
    stems.mkdir()
    for n in range(3):
        (stems / f"{n}.wav").write_bytes(audio(sine(99, 0.1)))
    library = Library(tmp_path / "data")
    with pytest.raises(PondelError, match="at most 2 parts, not 3"):
        found = sessions.audio_files([stems], pytest.fail)
        sessions.import_files(library, "x", found, refused=pytest.fail)
    assert library.sessions() == []
    library.close()
