"""A fight is opened as a fight, whatever moves the part has already."""

from __future__ import annotations

import re

import numpy as np
import pytest
from conftest import hits, sine
from web_tools import audio, jobs_of

STEMS = {
    "kick.wav": audio(hits(4.0)),
    "snare.wav": audio(hits(4.0, hz=180.0)),
    "tuba.wav": audio(np.hstack([sine(62, 4) + 0.3 * sine(700, 4), sine(110, 4)])),
}


SILENT = 0, 4000
"""Before the first hit: a loop in which there is no zone to be found."""


@pytest.fixture
def song(filled):
    return filled[1]


def page(caller, song, query):
    return caller.client.get(f"/sessions/{song}/moves?{query}").get_data(as_text=True)


def test_treating_a_fight_opens_that_fight_also_where_the_part_has_moves(app, caller, song):
    caller.edit(song, op="give way", part="tuba", leader="kick", kind="compressor")
    caller.edit(song, op="add move", part="tuba", kind="eq")
    of_kick = page(caller, song, "part=tuba&leader=kick")
    assert "Tuba gives way to Kick" in of_kick and 'aria-label="How far it goes for Kick"' in of_kick
    of_snare = page(caller, song, "part=tuba&leader=snare")
    assert "Nothing on Tuba makes way for Snare yet" in of_snare
    assert "Make way for Snare" in of_snare
    caller.edit(song, op="give way", part="tuba", leader="snare", kind="eq")
    assert 'aria-label="How far it goes for Snare"' in page(caller, song, "part=tuba&leader=snare")


def test_the_leader_is_chosen_in_sight_and_a_move_by_its_name_is_shown(app, caller, song):
    caller.edit(song, op="add move", part="tuba", kind="eq")
    shown = page(caller, song, "part=tuba&move=m1&leader=snare")
    assert '<option value="snare" selected>Snare</option>' in shown and "Tuba, EQ" in shown
    assert "Tuba, EQ" in page(caller, song, "part=tuba")


def test_how_far_is_switched_at_the_move(app, caller, song):
    caller.edit(song, op="give way", part="tuba", leader="kick", kind="compressor")
    usual = page(caller, song, "part=tuba&move=m1")
    answer = caller.edit(song, op="go as far", part="tuba", move="m1", how_far="strong")
    assert answer.status_code == 200
    strong = page(caller, song, "part=tuba&move=m1")

    def pressed(text) -> list[str]:
        group = text.partition('aria-label="How far it goes')[2].partition("</div>")[0]
        return re.findall(r'aria-pressed="true"[^>]*>(\w+)</button>', group)

    assert pressed(usual) == ["usual", "body"] and pressed(strong) == ["strong", "body"]
    caller.edit(song, op="set move", part="tuba", move="m1", field="attack_ms", value="9 ms")
    assert "1 set by hand" in page(caller, song, "part=tuba&move=m1")


def test_many_parts_are_put_under_one_leader_from_its_page(app, caller, song):
    shown = page(caller, song, "part=kick")
    assert "Many parts under Kick" in shown and 'name="amount tuba"' in shown
    base = jobs_of(app).library.head(song).id
    amounts = {"amount tuba": "usual", "amount snare": "none"}
    form = {"leader": "kick", "base": base, "loop_start_s": "0", **amounts}
    answer = caller.post(f"/sessions/{song}/ways/under", data=form)
    assert answer.status_code == 303 and "part=tuba" in answer.location
    document = jobs_of(app).library.head(song).document
    assert document.part("tuba").moves[-1].began.leader == "kick"
    assert document.part("snare").moves == []
    form = {**form, "base": jobs_of(app).library.head(song).id, "amount tuba": "none"}
    nobody = caller.post(f"/sessions/{song}/ways/under", data=form)
    assert nobody.status_code == 400 and "at least one" in nobody.text
    none = caller.post(f"/sessions/{song}/ways/under", data={"leader": "snare", "base": form["base"]})
    assert none.status_code in (303, 400)
    form["base"] = jobs_of(app).library.head(song).id
    wrong = caller.post(f"/sessions/{song}/ways/under", data={**form, "amount tuba": "huge"})
    assert wrong.status_code == 400


def test_a_way_is_kept_only_while_it_is_known(app, caller, song):
    form = {"chosen": "nothing", "base": jobs_of(app).library.head(song).id}
    answer = caller.post(f"/sessions/{song}/ways/keep", data=form)
    assert answer.status_code == 404 and "forgotten" in answer.text
    assert jobs_of(app).library.head(song).document.part("tuba").moves == []


def test_a_plan_for_what_has_changed_since_is_not_kept(app, caller, song):
    desk = jobs_of(app).desk
    caller.edit(song, op="decide", leads="kick", gives_way="tuba", low_hz=45, high_hz=120)
    planned = desk.plans.begin(desk.library.head(song).document)
    assert planned.finished.wait(60) and planned.trouble is None
    shown = caller.client.get(f"/sessions/{song}/plan?without=7,x,0,9999999").get_data(as_text=True)
    assert f'name="plan" value="{planned.name}"' not in shown and "Nothing is left of the plan" in shown

    def kept(name, **form):
        found = caller.client.get(f"/sessions/{song}/facts").json["revision"]
        return caller.post(f"/sessions/{song}/plan/keep", data={"plan": name, "base": found, **form})

    assert kept("gone").status_code == 404
    assert kept(planned.name, without="0").status_code == 400
    caller.edit(song, op="set part", part="kick", field="fader_db", value=-3)
    late = kept(planned.name)
    assert late.status_code == 409 and "changed since this was worked out" in late.get_data(
        as_text=True
    )
    assert desk.library.head(song).document.part("tuba").moves == []


def test_a_way_for_what_has_changed_since_is_not_kept(app, caller, song):
    desk = jobs_of(app).desk
    tried = desk.tryouts.begin(desk.library.head(song).document, "kick", "tuba", 0, 2 * 48000)
    assert tried.finished.wait(120)
    caller.edit(song, op="set part", part="kick", field="fader_db", value=-3)
    name = tried.points()[0].name
    for form in ({}, {"variant": "1"}):
        late = caller.post(f"/sessions/{song}/ways/keep", data={"chosen": name, **form})
        assert late.status_code == 409
    assert desk.library.head(song).document.part("tuba").moves == []
    assert len(jobs_of(app).variants.of(song)) == 1


def test_a_treated_part_elsewhere_does_not_move_the_zone_of_a_fight(app, caller, song):
    """What Lanes names as the zone is what a move is laid in, whatever stands on other parts."""
    desk = jobs_of(app).desk
    caller.edit(
        song, op="add move", part="snare", kind="eq", values={"bands": [{"hz": 90, "gain_db": 6}]}
    )
    document = desk.library.head(song).document
    (zone, *_) = desk.analysis.whole_table(document).zones("kick", "tuba")
    found = desk.fights.zone_of(document, "kick", "tuba", *SILENT)
    assert found == (zone.low_hz, zone.high_hz)
    laid = caller.edit(song, op="give way", part="tuba", leader="kick", kind="eq")
    assert laid.status_code == 200
    treated = desk.library.head(song).document
    assert desk.fights.zone_of(treated, "kick", "tuba", *SILENT) == found
