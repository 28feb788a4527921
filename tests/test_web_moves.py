"""The Moves screen without a browser: every kind of move, its pictures, its checks, right of way."""

from __future__ import annotations

import html
import json
import re
import threading

import numpy as np
import pytest
from conftest import hits, sine
from web_tools import RATE, audio, jobs_of

from pondel.core.moves.base import TRACE_RATE
from pondel.core.moves.registry import KINDS

LOOP = "start_s=0&end_s=6&leader=kick&yielder=tuba"


STEMS = {
    "kick.wav": audio(hits(6.0)),
    "tuba.wav": audio(np.hstack([sine(62, 6) + 0.3 * sine(700, 6), sine(110, 6)])),
}


@pytest.fixture
def song(filled):
    return filled[1]


def head(app, song):
    return jobs_of(app).library.head(song).document


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize("op", ["give way", "add move"])
def test_every_move_is_laid_shown_pictured_and_checked(app, caller, song, kind, op):
    leader = {"leader": "kick"} if op == "give way" else {}
    if op == "give way" and KINDS[kind].start is None:
        refused = caller.edit(song, op=op, part="tuba", kind=kind, **leader)
        assert refused.status_code == 400 and "makes no room" in refused.text
        return
    answer = caller.edit(song, op=op, part="tuba", kind=kind, **leader)
    if kind == "complementary eq" and op == "add move":
        assert answer.status_code == 400
        return
    assert answer.status_code == 200, answer.text
    move = head(app, song).part("tuba").moves[-1]
    assert move.kind == kind
    if op == "give way" and kind not in ("level", "width"):
        assert answer.json["said"] == move.why
        assert answer.json["added"] and answer.json["move"]["move"] == move.id
    page = caller.client.get(f"/sessions/{song}/moves?part=tuba&move={move.id}")
    assert page.status_code == 200 and KINDS[kind].title in page.text
    assert all(reason in html.unescape(page.text) for reason in move.why)
    query = f"part=tuba&move={move.id}&{LOOP}"
    response = caller.client.get(f"/sessions/{song}/moves/response?{query}").json
    assert len(response["still_db"]) == len(response["hz"])
    if op == "add move":
        return
    live = caller.client.get(f"/sessions/{song}/moves/live?{query}").json
    assert len(live["before"]) == len(live["after"]) == len(response["hz"])
    for factor in response["factors"]:
        assert factor["still"] is None or len(factor["still"]["re"]) == len(response["hz"])
        for band in factor["bands"]:
            assert band["trace"] in live["traces"]
            assert band["from"] + len(band["re"]) <= len(response["hz"])
    hit = caller.client.get(f"/sessions/{song}/moves/hit?{query}").json
    assert hit["hits"] == 12 and len(hit["leader"]["mean"]) == len(hit["after"]["mean"])
    assert caller.client.get(f"/sessions/{song}/moves/checks?{query}").status_code == 200
    wanted = {"hear": "mix", "parts": [], "state": "after"}
    heard = caller.edit(song, op="set part", part="tuba", field="fader_db", value=-1, listen=wanted)
    sound = caller.client.get(f"/sound/{heard.json['sound']['hash']}/3")
    assert np.isfinite(np.frombuffer(sound.data, "<f4")).all()


def faults(caller, song, move):
    page = caller.client.get(f"/sessions/{song}/moves/checks?part=tuba&move={move}&{LOOP}")
    return html.unescape(page.text)


@pytest.mark.parametrize("kind", [name for name, one in KINDS.items() if one.start])
def test_a_first_setting_is_told_to_be_out_of_date_only_once_it_is(app, caller, song, kind):
    caller.edit(song, op="give way", part="tuba", leader="kick", kind=kind)
    (move,) = head(app, song).part("tuba").moves
    assert "calculated again" not in faults(caller, song, move.id)


def test_a_part_that_comes_softer_is_told_with_a_recalculation(app, caller, song):
    caller.edit(song, op="give way", part="tuba", leader="kick", kind="compressor")
    caller.edit(song, op="set part", part="kick", field="trim_db", value=-6)
    told = faults(caller, song, "m1")
    assert "calculated again" in told and "Recalculate" in told
    before = head(app, song).part("tuba").moves[0].threshold_db
    caller.edit(song, op="go as far", part="tuba", move="m1")
    after = head(app, song).part("tuba").moves[0].threshold_db
    assert after == pytest.approx(before - 6, abs=0.5)
    assert "calculated again" not in faults(caller, song, "m1")


def test_a_duck_that_is_at_its_range_on_every_hit_is_told(caller, song):
    caller.edit(song, op="give way", part="tuba", leader="kick", kind="compressor")
    assert "at its range" not in faults(caller, song, "m1")
    for field, value in (("range_db", 2), ("threshold_db", -50)):
        caller.edit(song, op="set move", part="tuba", move="m1", field=field, value=value)
    assert "at its range of 2.0 dB on 100 % of the hits" in faults(caller, song, "m1")


def test_a_sidechain_that_is_silent_in_the_loop_is_told_with_where_it_plays(caller, song):
    caller.edit(song, op="set part", part="kick", field="start_s", value=3)
    caller.edit(song, op="give way", part="tuba", leader="kick", kind="compressor")
    page = f"/sessions/{song}/moves/checks?part=tuba&move=m1&start_s=0&end_s=2&leader=kick"
    told = html.unescape(caller.client.get(page).text)
    assert "Kick is silent in the loop" in told and 'data-loop="2.0 4.0"' in told


def test_an_edit_brings_the_sound_under_the_playhead_along(app, caller, song, monkeypatch):
    monkeypatch.setattr("pondel.web.deck.PATIENCE_S", 30.0)
    listen = {"hear": "mix", "parts": [], "state": "after", "at": [3, 4, 5]}
    answer = caller.edit(song, op="set part", part="tuba", field="pan", value=0.25, listen=listen)
    assert answer.mimetype == "application/octet-stream"
    length = int.from_bytes(answer.data[:4], "little")
    told = json.loads(answer.data[4 : 4 + length])
    assert told["value"]["value"] == 0.25 and told["sound"]["at"] == [3, 4]
    assert head(app, song).part("tuba").pan == 0.25
    samples = answer.data[4 + length :]
    assert len(samples) == 2 * told["sound"]["chunk_frames"] * 2 * 4
    assert np.abs(np.frombuffer(samples, "<f4")).max() > 0.01
    both = [caller.client.get(f"/sound/{told['sound']['hash']}/{n}").data for n in (3, 4)]
    assert samples == b"".join(both)


@pytest.mark.parametrize("at", [None, 3, "3", ["3"], [-1], [10**9], [True], [[3]], []])
def test_an_edit_without_a_place_only_says_where_the_sound_is(caller, song, at):
    listen = {"hear": "mix", "parts": [], "state": "after", "at": at}
    answer = caller.edit(song, op="set part", part="tuba", field="pan", value=0.1, listen=listen)
    assert "at" not in answer.json["sound"]


def test_an_edit_does_not_wait_for_a_slow_render(app, caller, song, monkeypatch):
    monkeypatch.setattr("pondel.web.deck.PATIENCE_S", 0.0)
    started, may_end = threading.Event(), threading.Event()
    desk = jobs_of(app).desk
    sound = desk.sound

    def slow(name, index):
        started.set()
        may_end.wait(30)
        return sound(name, index)

    monkeypatch.setattr(desk, "sound", slow)
    listen = {"hear": "mix", "parts": [], "state": "after", "at": [3]}
    answer = caller.edit(song, op="set part", part="tuba", field="pan", value=0.1, listen=listen)
    assert answer.json["sound"]["hash"]
    may_end.set()
    assert started.wait(30)


def test_an_edit_gives_up_what_its_page_asked_before(app, caller, song, monkeypatch):
    dropped = []
    monkeypatch.setattr(jobs_of(app).turns, "drop", dropped.append)
    caller.edit(song, op="set part", part="tuba", field="pan", value=0.1, page="one")
    caller.edit(song, op="set part", part="tuba", field="pan", value=0.2)
    assert dropped == ["one"]


def test_the_response_of_a_band_and_its_handle_agree(app, caller, song):
    caller.edit(song, op="add move", part="tuba", kind="eq")
    move = head(app, song).part("tuba").moves[0]
    for field, value in (("bands.0.hz", "500 Hz"), ("bands.0.gain_db", "-8 dB"), ("bands.0.q", 2)):
        said = caller.edit(song, op="set move", part="tuba", move=move.id, field=field, value=value)
        assert said.status_code == 200
    found = caller.client.get(f"/sessions/{song}/moves/response?part=tuba&move={move.id}").json
    handle = found["handles"][0]
    assert (handle["hz"], handle["db"], handle["q"]) == (500, -8, 2)
    at = int(np.argmin(np.abs(np.array(found["hz"]) - 500)))
    assert found["still_db"][at] == pytest.approx(-8, abs=0.1)


def test_a_faulty_move_is_explained_and_mended_by_its_button(app, caller, song):
    caller.edit(song, op="give way", part="tuba", leader="kick", kind="compressor")
    move = head(app, song).part("tuba").moves[0]
    caller.edit(song, op="set move", part="tuba", move=move.id, field="threshold_db", value=0)
    page = caller.client.get(f"/sessions/{song}/moves/checks?part=tuba&move={move.id}&{LOOP}").text
    assert "never crosses the threshold" in page
    fix = json.loads(html.unescape(re.search(r'data-do="([^"]+)"', page)[1]))
    assert caller.edit(song, **fix).status_code == 200
    page = caller.client.get(f"/sessions/{song}/moves/checks?part=tuba&move={move.id}&{LOOP}").text
    assert "never crosses" not in page


def test_right_of_way_lays_the_usual_move_on_who_gives_way(app, caller, song):
    caller.edit(song, op="decide", leads="kick", gives_way="tuba", low_hz=40, high_hz=110)
    zone = head(app, song).zones[0].id
    answer = caller.edit(song, op="right of way", zone=zone)
    assert answer.status_code == 200, answer.text
    move = head(app, song).part("tuba").moves[0]
    assert move.kind == "multiband" and move.key.source == "kick"
    swapped = caller.edit(song, op="swap", leader="kick", part="tuba")
    assert swapped.status_code == 200
    assert head(app, song).zones[0].leads == "tuba"
    assert head(app, song).part("kick").moves[0].key.source == "tuba"
    assert caller.edit(song, op="right of way", zone="nowhere").status_code == 400


def ducks(app, song):
    """How far the first move of the tuba lowers it over a second, 200 points."""
    chunked = jobs_of(app).desk.now(head(app, song))
    move = head(app, song).part("tuba").moves[0].id
    return chunked.reductions("tuba", 0, RATE)[move].high


def test_a_drawn_duck_follows_corrected_hits(app, caller, song):
    caller.edit(song, op="give way", part="tuba", leader="kick", kind="drawn duck")
    move = head(app, song).part("tuba").moves[0].id
    before = ducks(app, song)
    caller.edit(song, op="toggle hit", part="kick", at_s=0.35)
    after = ducks(app, song)
    assert before[round(0.4 * TRACE_RATE)] == 0 and after[round(0.4 * TRACE_RATE)] > 1
    assert after[round(0.15 * TRACE_RATE)] == before[round(0.15 * TRACE_RATE)] > 1
    caller.edit(song, op="set move", part="tuba", move=move, field="hits_of", value="tuba")
    assert head(app, song).part("tuba").moves[0].hits_of == "tuba"
    bad = caller.edit(song, op="set move", part="tuba", move=move, field="hits_of", value="gone")
    assert bad.status_code == 400


def test_variants_and_history_by_address(app, caller, song):
    first = caller.client.get(f"/sessions/{song}/facts").json["revision"]
    kept = caller.post(f"/sessions/{song}/variants", json={}).json["session"]
    assert [v["name"] for v in kept["variants"]] == ["A", "B"]
    caller.edit(song, op="set part", part="tuba", field="fader_db", value=-6)
    opened = caller.post(f"/sessions/{song}/variants/A", json={}).json["session"]
    assert opened["revision"] == first
    second = caller.client.get(f"/sessions/{song}/match?hear=mix&start_s=0&end_s=4").json
    query = f"match?hear=mix&start_s=0&end_s=4&reference={first + 1}"
    other = caller.client.get(f"/sessions/{song}/{query}").json
    assert second["gain_db"] == 0 and other["gain_db"] > 0.5
    assert caller.post(f"/sessions/{song}/variants/Z", json={}).status_code == 404
    page = caller.client.get(f"/sessions/{song}/history").text
    assert "Created" in page and "Bring in Kick" in page
    back = caller.post(f"/sessions/{song}/history/{first - 1}", json={})
    assert len(back.json["session"]["parts"]) == 1
    heard = caller.client.get(f"/sessions/{song}/listen?hear=mix&revision={first}")
    assert heard.status_code == 200 and heard.json["rate"] == RATE


def test_nonsense_edits_of_moves_are_refused_in_words(app, caller, song):
    caller.edit(song, op="add move", part="tuba", kind="eq")
    bad = [
        {"op": "add item", "part": "tuba", "move": "m1", "list": "bands", "values": {"hz": "x"}},
        {"op": "add item", "part": "tuba", "move": "m1", "list": "bands", "values": 3},
        {"op": "remove item", "part": "tuba", "move": "m1", "list": "bands", "index": "0"},
        {"op": "act on move", "part": "tuba", "move": "m1", "action": "split"},
        {"op": "act on move", "part": "tuba", "move": "m1", "action": "join", "index": 0},
        {"op": "reorder move", "part": "tuba", "move": "m1", "to": None},
        {"op": "copy moves", "part": "tuba", "to": []},
        {"op": "swap", "leader": "nobody", "part": "tuba"},
        {"op": "give way", "part": "tuba", "leader": "tuba"},
        {"op": "give way", "part": "tuba", "leader": "kick", "kind": "magic"},
        {"op": "set move", "part": "tuba", "move": "m1", "field": "bands.0.hz", "value": [1]},
        {"op": "set move", "part": "tuba", "move": "m1", "field": "bands", "value": "all"},
    ]
    for body in bad:
        answer = caller.edit(song, **body)
        assert answer.status_code in (400, 404), body
        assert answer.json["message"]
