"""Recipes on the web: kept, laid on a second part and in a second session, out and in as a file."""

from __future__ import annotations

import io
import json

import numpy as np
import pytest
from conftest import hits, sine
from web_tools import audio, jobs_of

from pondel.core.document import Session
from pondel.core.recipes.recipe import shipped

STEMS = {
    "kick.wav": audio(hits(6.0)),
    "tuba.wav": audio(np.hstack([sine(62, 6) + 0.3 * sine(700, 6), sine(110, 6)])),
    "horn.wav": audio(sine(180, 6)),
}


@pytest.fixture
def song(filled):
    return filled[1]


def head(app, song):
    return jobs_of(app).library.head(song).document


def sent(caller, song, what, **form):
    return caller.post(f"/sessions/{song}/recipes/{what}", data=form)


def lay(caller, app, song, **form):
    base = jobs_of(app).library.head(song).id
    return sent(caller, song, "lay", **{"base": base, "loop_start_s": "0", **form})


def test_a_recipe_is_kept_and_laid_on_a_second_part_and_in_a_second_session(app, caller, song):
    caller.edit(song, op="give way", leader="kick", part="tuba", kind="compressor")
    caller.edit(song, op="set move", part="tuba", move="m1", field="range_db", value="4 dB")
    assert (
        sent(caller, song, "keep", part="tuba", name="Brass ducks", why="It pumps.").status_code == 303
    )
    page = caller.client.get(f"/sessions/{song}/moves?part=horn").text
    assert "Brass ducks, kept" in page and "It pumps." in page and "Which part stands for Kick?" in page
    laid = lay(caller, app, song, part="horn", recipe="Brass ducks", kept="1", **{"slot kick": "kick"})
    assert laid.status_code == 303
    (move,) = head(app, song).part("horn").moves
    assert move.key.source == "kick" and move.range_db == 4
    library = jobs_of(app).library
    other = library.create(Session.model_validate(head(app, song).model_dump()), rate_known=True)
    for _ in range(2):
        caller.edit(
            other, op="remove move", part="horn", move=head(app, other).part("horn").moves[0].id
        )
        break
    slots = {"slot kick": "tuba"}
    assert (
        lay(caller, app, other, part="horn", recipe="Brass ducks", kept="1", **slots).status_code == 303
    )
    assert head(app, other).part("horn").moves[0].key.source == "tuba"
    assert sent(caller, song, "put-away", part="horn", recipe="Brass ducks").status_code == 303
    assert "Brass ducks, kept" not in caller.client.get(f"/sessions/{song}/moves?part=horn").text


def test_what_a_recipe_cannot_hold_is_told_when_it_is_kept(app, caller, song):
    for kind in ("compressor", "complementary eq"):
        caller.edit(song, op="give way", leader="kick", part="tuba", kind=kind)
    assert sent(caller, song, "keep", part="tuba", name="Half of it").status_code == 303
    page = caller.client.get(f"/sessions/{song}/moves?part=tuba").text
    assert "Kept without its complementary EQ: what ties two parts is laid for each pair anew." in page
    assert "Kept without" not in caller.client.get(f"/sessions/{song}/moves?part=tuba").text


@pytest.mark.parametrize("name", shipped())
def test_those_that_come_along_are_offered_and_laid(app, caller, song, name):
    page = caller.client.get(f"/sessions/{song}/moves?part=tuba").text
    assert name in page and shipped()[name].why[:40] in page
    slots = {f"slot {slot.name}": "kick" for slot in shipped()[name].slots}
    assert lay(caller, app, song, part="tuba", recipe=name, **slots).status_code == 303
    document = head(app, song)
    assert document.part("tuba").moves or document.part("tuba").sends


def test_out_as_a_file_and_in_again(app, caller, song):
    caller.edit(song, op="give way", leader="kick", part="tuba", kind="multiband")
    sent(caller, song, "keep", part="tuba", name="Lows / first")
    answer = caller.client.get(f"/sessions/{song}/recipes/file?recipe=Lows / first")
    assert answer.headers["Content-Disposition"] == 'attachment; filename="Lows---first.json"'
    body = json.loads(answer.data)
    assert body["pondel_recipe"] == 1 and body["moves"][0]["kind"] == "multiband"
    sent(caller, song, "put-away", part="tuba", recipe="Lows / first")
    file = (io.BytesIO(answer.data), "lows.json")
    assert sent(caller, song, "bring-in", part="tuba", file=file).status_code == 303
    assert jobs_of(app).library.shelf.get("recipe", "Lows / first") == body


@pytest.mark.parametrize(
    "data",
    [
        b"",
        b"RIFF",
        b"[]",
        b"{}",
        b'{"name": "x", "moves": [{"kind": "eq", "settings": {"bands": "no"}}]}',
        b'{"name": "x", "moves": [{"kind": "gate", "settings": {"key": {"source": "../.."}}}]}',
        b'{"name": ' + b"[" * 100_000,
        b'{"name": "' + b"x" * 2_000_000 + b'"}',
        b'{"name": "\\u0000"}',
    ],
    ids=["empty", "wav", "list", "nothing", "bands", "key", "deep", "large", "null"],
)
def test_what_is_no_recipe_is_refused_in_words(app, caller, song, data):
    answer = sent(caller, song, "bring-in", part="tuba", file=(io.BytesIO(data), "x.json"))
    assert answer.status_code in (400, 413) and jobs_of(app).library.shelf.names("recipe") == []


def test_a_chain_without_moves_and_a_recipe_without_a_name_are_refused(app, caller, song):
    assert sent(caller, song, "keep", part="tuba", name="Nothing").status_code == 400
    caller.edit(song, op="add move", part="tuba", kind="eq")
    assert sent(caller, song, "keep", part="tuba", name="  ").status_code == 400
    assert lay(caller, app, song, part="tuba", recipe="Unknown").status_code == 400
    assert lay(caller, app, song, part="tuba", recipe="Unknown", kept="1").status_code == 404


def test_a_recipe_that_this_pondel_cannot_lay_says_so_and_nothing_else_breaks(app, caller, song):
    newer = {"pondel_recipe": 1, "name": "Newer", "moves": [{"kind": "not yet made"}]}
    jobs_of(app).library.shelf.keep("recipe", "Newer", newer)
    page = caller.client.get(f"/sessions/{song}/moves?part=tuba")
    assert page.status_code == 200 and "It cannot be laid" in page.text
    assert lay(caller, app, song, part="tuba", recipe="Newer", kept="1").status_code == 400
