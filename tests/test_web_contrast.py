"""Contrast on the web: against a part or a kept spectrum, taken anew, told when parts change."""

from __future__ import annotations

import numpy as np
import pytest
from conftest import hits, sine
from web_tools import audio, jobs_of

from pondel.core.document import Session
from pondel.core.errors import BadDocument, NotFound
from pondel.core.measures.spectrum import axis_hz
from pondel.store.library import Library

STEMS = {
    "kick.wav": audio(hits(6.0)),
    "tuba.wav": audio(np.hstack([sine(62, 6) + 0.3 * sine(700, 6), sine(110, 6)])),
}


@pytest.fixture
def song(filled):
    return filled[1]


def head(app, song):
    return jobs_of(app).library.head(song).document


def lay(caller, app, song, **more):
    form = {"base": jobs_of(app).library.head(song).id, "part": "tuba", "over": "loop"}
    form |= {"loop_start_s": "0", "loop_end_s": "5", "against": "kick", **more}
    return caller.post(f"/sessions/{song}/contrast/lay", data=form)


def test_it_is_laid_over_the_loop_and_says_when_the_parts_have_changed(app, caller, song):
    answer = lay(caller, app, song)
    assert answer.status_code == 303 and "move=m1" in answer.location
    (move,) = head(app, song).part("tuba").moves
    assert move.against == "Kick" and move.taken == "0.0 s to 5.0 s" and len(move.own_db) == 240
    page = caller.client.get(answer.location).text
    assert "Against Kick, over 0.0 s to 5.0 s." in page and "changed since" not in page
    caller.edit(song, op="set part", part="kick", field="trim_db", value="-6 dB")
    page = caller.client.get(answer.location).text
    assert "Kick changed since the spectra were taken." in page
    caller.edit(song, op="take spectra", part="tuba", move="m1", start_s=1, end_s=5)
    assert "changed since" not in caller.client.get(answer.location).text
    # Its own gain is no change of the part.
    caller.edit(song, op="set move", part="tuba", move="m1", field="amount", value="-70 %")
    assert "changed since" not in caller.client.get(answer.location).text
    shape = caller.client.get(f"/sessions/{song}/moves/response?part=tuba&move=m1").json
    assert len(shape["asked_db"]) == len(shape["hz"])


def test_a_section_the_song_and_the_mirror(app, caller, song):
    caller.edit(song, op="set sections", sections=[{"name": "Verse", "start_s": 1, "end_s": 4}])
    section = head(app, song).sections[0].id
    assert lay(caller, app, song, over=f"section {section}", mirrored="1").status_code == 303
    tuba, kick = head(app, song).part("tuba").moves[0], head(app, song).part("kick").moves[0]
    assert tuba.taken == "1.0 s to 4.0 s" and tuba.amount == kick.amount == -0.2
    assert lay(caller, app, song, over="song").status_code == 303
    assert head(app, song).part("tuba").moves[1].taken == "the whole song"
    assert lay(caller, app, song, over="section gone").status_code == 400


def test_a_spectrum_is_kept_and_used_in_another_session(app, caller, song):
    form = {"part": "kick", "over": "song", "name": "Round drum"}
    assert caller.post(f"/sessions/{song}/contrast/keep", data=form).status_code == 303
    library = jobs_of(app).library
    other = library.create(Session.model_validate(head(app, song).model_dump()), rate_known=True)
    assert "Round drum, kept" in caller.client.get(f"/sessions/{other}/moves?part=tuba").text
    assert lay(caller, app, other, against="kept Round drum").status_code == 303
    (move,) = library.head(other).document.part("tuba").moves
    assert move.against == "Round drum" and move.amount == 0.5
    form = {"part": "tuba", "name": "Round drum"}
    assert caller.post(f"/sessions/{other}/contrast/put-away", data=form).status_code == 303
    assert "Round drum, kept" not in caller.client.get(f"/sessions/{other}/moves?part=tuba").text
    # What was laid with it stays what it is.
    assert library.head(other).document.part("tuba").moves[0].other_db == move.other_db


@pytest.mark.parametrize(
    "wrong",
    [
        {"against": "tuba"},
        {"against": "nobody"},
        {"against": "kept nothing"},
        {"against": "kept ' or 1=1 --"},
        {"loop_start_s": "nan"},
        {"loop_end_s": "0.01"},
        {"part": "../kick"},
        {"base": "99999"},
    ],
)
def test_what_cannot_be_laid_is_told_and_nothing_changes(app, caller, song, wrong):
    before = jobs_of(app).library.head(song).id
    answer = lay(caller, app, song, **wrong)
    assert answer.status_code in (400, 404, 409)
    assert jobs_of(app).library.head(song).id == before


def test_the_shelf_keeps_by_name_and_is_bounded(tmp_path, monkeypatch):
    shelf = Library(tmp_path).shelf
    shelf.keep("spectrum", " One ", {"n": 1})
    shelf.keep("recipe", "One", {"n": 2})
    shelf.keep("spectrum", "One", {"n": 3})
    assert shelf.names("spectrum") == ["One"] and shelf.get("spectrum", "One") == {"n": 3}
    assert Library(tmp_path).shelf.get("recipe", "One") == {"n": 2}
    for name in ("", "x" * 81):
        with pytest.raises(BadDocument):
            shelf.keep("spectrum", name, {})
    monkeypatch.setattr("pondel.store.shelf.MOST", 1)
    with pytest.raises(BadDocument, match="put some away"):
        shelf.keep("spectrum", "Two", {})
    shelf.put_away("spectrum", "One")
    with pytest.raises(NotFound):
        shelf.get("spectrum", "One")
    with pytest.raises(NotFound):
        shelf.put_away("spectrum", "One")


def test_spectra_at_any_point_of_the_chain_and_any_side(app, caller, song):
    for gain in (-9, 6):
        values = {"bands": [{"hz": 110, "gain_db": gain, "q": 0.5, "placement": "right"}]}
        caller.edit(song, op="add move", part="tuba", kind="eq", values=values)
    caller.post(
        f"/sessions/{song}/contrast/keep", data={"part": "kick", "over": "song", "name": "Drum"}
    )
    where = f"/sessions/{song}/moves/live?part=tuba&leader=kick&start_s=0&end_s=6"

    def change_db(move, **look) -> float:
        """What happens to the spectrum around 110 Hz, where the right channel sounds."""
        query = "&".join(f"{name}={value}" for name, value in look.items())
        found = caller.client.get(f"{where}&move={move}&{query}").json
        at = int(np.argmin(np.abs(axis_hz() - 110)))
        return found["after"][at] - found["before"][at]

    assert change_db("m1") == pytest.approx(-3, abs=0.3)
    assert change_db("m1", point="move", fold="right") == pytest.approx(-9, abs=0.3)
    assert change_db("m2", point="move", fold="right", how="peak") == pytest.approx(6, abs=0.3)
    assert change_db("m2", point="move", fold="left") == pytest.approx(0, abs=0.1)
    found = caller.client.get(f"{where}&move=m1&kept=Drum").json
    moving = caller.client.get(f"{where}&move=m2&point=move&fold=right&how=now").json["moving"]
    assert moving["step_s"] == pytest.approx(0.1) and len(moving["rows"]["after"]) == 60
    at = int(np.argmin(np.abs(axis_hz() - 110)))
    rows = {name: np.array(rows)[5:55, at] for name, rows in moving["rows"].items()}
    assert np.abs(rows["after"] - rows["before"] - 6).max() <= 1
    # The drum strikes twice a second and falls in between; the tuba holds.
    assert np.ptp(rows["before"]) <= 2 and np.ptp(np.array(moving["rows"]["key"]).max(axis=1)) > 12
    power = lambda levels: 10 * np.log10((10 ** (np.array(levels) / 10)).sum())  # noqa: E731
    assert power(found["kept"]) == pytest.approx(power(found["after"]), abs=0.1)
    assert caller.client.get(f"{where}&move=m1&fold=up").status_code == 400
    assert caller.client.get(f"{where}&move=m1&kept=gone").status_code == 404
