"""The web application without a browser."""

from __future__ import annotations

import re
from sqlite3 import OperationalError

import numpy as np
import pytest
from conftest import hits, sine
from web_tools import RATE, Caller, audio, jobs_of, until

from pondel.core.document import Session
from pondel.core.engine.listen import make_plan, plan_region
from pondel.core.errors import PondelError
from pondel.core.measures.levels import measure
from pondel.jobs.songs import Measuring
from pondel.web import create_app, security
from pondel.web.shipped import shipped_at

SCREENS = ["intake", "lanes", "moves", "proof", "hand-off"]


STEMS = {
    "kick.wav": audio(hits(6.0)),
    "tuba.flac": audio(np.hstack([sine(70, 6), sine(110, 6)]), format="FLAC"),
}


@pytest.fixture
def song(filled):
    return filled[1]


def test_every_screen_answers_empty_and_full(app, caller, song):
    empty = jobs_of(app).library.create(Session(name="Empty"))
    for session_id in (empty, song):
        for screen in SCREENS:
            answer = caller.client.get(f"/sessions/{session_id}/{screen}")
            assert answer.status_code == 200, screen
            assert 'aria-current="page"' in answer.text
    assert caller.client.get("/").status_code == 302
    assert caller.client.get("/sessions").status_code == 200


def test_the_intake_table_shows_what_was_measured(caller, song):
    page = caller.client.get(f"/sessions/{song}/intake").text
    assert "Kick" in page and "Tuba" in page
    assert "0:06.0" in page and "−12.0" in page


def test_a_file_that_comes_in_while_the_page_is_made_is_shown_or_asked_for_again(
    app, caller, song, monkeypatch
):
    jobs = jobs_of(app)
    take_in, look = jobs.intake.take_in, jobs.arrivals.of_session
    monkeypatch.setattr(jobs.intake, "take_in", lambda arrival_id: None)
    assert caller.upload(song, ("Late.wav", audio(sine(300, 1)))).status_code == 202
    (late,) = [one.id for one in look(song) if one.state == "waiting"]

    def look_when_it_is_in(session_id):
        take_in(late)
        return look(session_id)

    monkeypatch.setattr(jobs.arrivals, "of_session", look_when_it_is_in)
    page = caller.client.get(f"/sessions/{song}/intake").text
    assert 'aria-label="Name of Late"' in page or "data-poll" in page


def test_a_duck_is_set_up_heard_undone_and_redone(caller, song):
    answer = caller.edit(
        song,
        op="give way",
        kind="compressor",
        leader="kick",
        part="tuba",
        start_s=0,
        listen={"hear": "part", "parts": ["tuba"], "state": "after"},
    )
    assert answer.status_code == 200
    assert answer.json["session"]["undo"] == "Tuba: compressor for Kick"
    pair = "leader=kick&yielder=tuba&start_s=0&end_s=5"
    found = caller.client.get(f"/sessions/{song}/evidence?{pair}&move=m1").json
    assert found["zone"]["after"]["share"] < found["zone"]["before"]["share"]
    assert found["zone"]["after"]["clear_db"] > found["zone"]["before"]["clear_db"] + 1
    assert " → " in found["words"]["clear"] and "too small" not in found["words"]["standing"]
    before_analysis = found["words"]["zone"]
    jobs_of(caller.client.application).desk.analysis.whole_table(
        jobs_of(caller.client.application).library.head(song).document
    )
    found = caller.client.get(f"/sessions/{song}/evidence?{pair}&move=m1").json
    assert found["words"]["zone"] == before_analysis
    proof = caller.client.get(f"/sessions/{song}/proof/figures?start_s=0&end_s=5").text
    for place in ("clear", "clear-on-hits", "standing", "cost"):
        assert found["words"][place] in proof, place
    assert found["move"]["gain"]["median_db"] == pytest.approx(4, abs=1)
    assert found["move"]["level"]["median_db"] == pytest.approx(4, abs=1)
    sound = answer.json["sound"]
    after = chunk(caller, sound["hash"])
    before = caller.client.get(f"/sessions/{song}/listen?hear=part&part=tuba&state=before").json
    untreated = chunk(caller, before["hash"])
    assert np.abs(after).mean() < 0.95 * np.abs(untreated).mean()

    assert caller.post(f"/sessions/{song}/undo").json["session"]["redo"] == "Tuba: compressor for Kick"
    now = caller.client.get(f"/sessions/{song}/listen?hear=part&part=tuba").json
    assert now["hash"] == before["hash"]
    caller.post(f"/sessions/{song}/redo")
    again = caller.client.get(f"/sessions/{song}/listen?hear=part&part=tuba").json
    assert again["hash"] == sound["hash"]


def chunk(caller, name: str, index: int = 1) -> np.ndarray:
    answer = caller.client.get(f"/sound/{name}/{index}")
    assert answer.status_code == 200
    assert "immutable" in answer.headers["Cache-Control"]
    return np.frombuffer(answer.data, "<f4").reshape(2, RATE // 2)


def test_after_a_change_a_hall_rings_on_under_a_name_that_is_not_kept(caller, song):
    caller.edit(song, op="give way", kind="compressor", leader="kick", part="tuba")
    caller.edit(song, op="add move", part="tuba", kind="reverb", values={"decay_s": 3.0, "mix": 0.4})
    heard = caller.client.get(f"/sessions/{song}/listen?hear=mix").json["hash"]
    was = chunk(caller, heard, 5)
    target = {"op": "set move", "part": "tuba", "move": "m1", "field": "threshold_db"}
    listen = {"hear": "mix", "heard": heard}
    changed = caller.edit(song, **target, value=-60, listen=listen).json["sound"]["hash"]
    exact = caller.client.get(f"/sessions/{song}/listen?hear=mix").json["hash"]
    assert changed.startswith(f"{exact}_") and exact != heard
    went_on = caller.client.get(f"/sound/{changed}/5")
    assert went_on.headers["Cache-Control"] == "no-store"
    samples = np.frombuffer(went_on.data, "<f4").reshape(2, RATE // 2)
    assert np.abs(samples - was).max() > 0.001
    assert np.abs(samples - chunk(caller, exact, 5)).max() > 0.001
    for forgotten in ("", "nothing-like-it", "x" * 70):
        asked = caller.client.get(f"/sessions/{song}/listen?hear=mix&heard={forgotten}").json["hash"]
        assert asked == exact
    # Where no change reaches a hall, the sound is the exact one at once.
    listen["heard"] = exact
    fader = {"op": "set part", "part": "kick", "field": "fader_db", "value": -1}
    assert "_" not in caller.edit(song, **fader, listen=listen).json["sound"]["hash"]


@pytest.mark.parametrize(
    "what", ["/intake", "/lanes", "/moves?part=tuba", "/facts", "/strips", "/match?hear=mix"]
)
def test_a_browser_keeps_no_answer_about_the_session_as_it_was(caller, song, what):
    answer = caller.client.get(f"/sessions/{song}{what}", follow_redirects=True)
    assert answer.status_code == 200 and answer.headers["Cache-Control"] == "no-store"


def test_a_drag_that_replaced_its_revision_is_still_answered(caller, song):
    target = {"op": "set part", "part": "tuba", "field": "fader_db", "gesture": "drag-1"}
    gone = caller.edit(song, **target, value=-2).json["session"]["revision"]
    newest = caller.edit(song, **target, value=-3).json["session"]["revision"]
    assert newest != gone
    answer = caller.client.get(f"/sessions/{song}/evidence?revision={gone}&start_s=0&end_s=2")
    assert answer.status_code == 200
    assert caller.client.get(f"/sessions/{song}/facts?revision={gone}").json["revision"] == newest


def test_a_control_takes_typed_values_and_says_what_it_holds(caller, song):
    caller.edit(song, op="give way", kind="compressor", leader="kick", part="tuba")
    target = {"op": "set move", "part": "tuba", "move": "m1"}
    answer = caller.edit(song, **target, field="release_ms", value="0.25 s")
    assert answer.json["value"] == {"value": 250, "words": "250 ms"}
    told = answer.json["move"]
    assert told["move"] == "m1" and not answer.json["added"]
    assert "250 ms" in told["brief"] and told["brief"].endswith("; hears KI")
    assert caller.edit(song, **target, field="ratio", value="inf:1").json["value"]["words"] == "∞:1"
    refused = caller.edit(song, **target, field="ratio", value="half")
    assert refused.status_code == 400
    assert refused.json["where"] == "Ratio" and "half" in refused.json["message"]


def test_a_stale_edit_is_told(caller, song):
    old = caller.client.get(f"/sessions/{song}/facts").json["revision"]
    caller.edit(song, op="set part", part="tuba", field="fader_db", value=-3)
    answer = caller.edit(song, op="set part", part="tuba", field="fader_db", value=-9, base=old)
    assert answer.status_code == 409
    assert "another window" in answer.json["message"]


def test_trim_brings_parts_to_the_target(app, caller, song):
    assert caller.edit(song, op="trim to", by="rms", target="−18 dB").status_code == 200
    document = jobs_of(app).library.head(song).document
    for part in document.parts:
        levels = jobs_of(app).desk.recording(part.file).levels
        assert levels.rms_dbfs + part.trim_db == pytest.approx(-18, abs=0.01)
    assert caller.edit(song, op="trim to", target="loud").status_code == 400
    alone = caller.edit(song, op="trim to", by="peak", target="-12 dB", part="kick")
    assert alone.status_code == 200
    after = jobs_of(app).library.head(song).document
    assert after.part("tuba") == document.part("tuba")
    peak = jobs_of(app).desk.recording(after.part("kick").file).levels.sample_peak_dbfs
    assert peak + after.part("kick").trim_db == pytest.approx(-12, abs=0.01)


def test_strips_spectra_and_match_are_drawn_from_the_sound(caller, song):
    caller.edit(song, op="give way", kind="compressor", leader="kick", part="tuba")
    pair = "leader=kick&yielder=tuba&start_s=1&end_s=3"
    strips = caller.client.get(f"/sessions/{song}/strips?{pair}").json
    assert len(strips["leader"]) == len(strips["after"]) == len(strips["before"])
    assert len(strips["reductions"]["m1"]["most"]) == 400
    assert strips["hits_s"] == pytest.approx([1.1, 1.6, 2.1, 2.6], abs=0.005)
    spectra = caller.client.get(f"/sessions/{song}/spectra?{pair}").json
    tuba = np.array(spectra["before"])
    assert spectra["hz"][int(np.argmax(tuba))] == pytest.approx(70, rel=0.12) or spectra["hz"][
        int(np.argmax(tuba))
    ] == pytest.approx(110, rel=0.12)
    match = caller.client.get(f"/sessions/{song}/match?hear=part&part=tuba&start_s=1&end_s=3").json
    assert -6 < match["gain_db"] < -0.2
    outline = f"/sessions/{song}/song-outline"
    assert until(lambda: caller.client.get(outline).json["columns"])


def test_printing_the_part_the_parts_and_the_mix(caller, song):
    for what, names in [
        ("tuba", ["Tuba.wav"]),
        ("both", ["Kick.wav", "Tuba.wav", "mix.wav"]),
    ]:
        order = {"what": what, "format": "wav", "bits": "16"}
        assert caller.post(f"/sessions/{song}/prints", data=order).status_code == 303
        page = caller.client.get(f"/sessions/{song}/hand-off").text
        for name in names:
            assert f"/{name}" in page
    path = page.split('href="/sessions/song/prints/')[1].split('"')[0]
    answer = caller.client.get(f"/sessions/song/prints/{path}")
    assert answer.status_code == 200 and answer.data[:4] == b"RIFF"
    bad = caller.post(f"/sessions/{song}/prints", data={"format": "flac", "bits": "32f"})
    assert bad.status_code == 400 and "FLAC" in bad.json["message"]
    assert caller.client.get(f"/sessions/{song}/archive.zip").data[:2] == b"PK"
    assert caller.client.get(f"/sessions/{song}/session.json").json["name"] == "Song"


def test_writes_need_a_token_and_pages_forbid_inline_script(app, song):
    answer = app.test_client().post(f"/sessions/{song}/undo")
    assert answer.status_code == 400
    page = app.test_client().get(f"/sessions/{song}/moves")
    policy = page.headers["Content-Security-Policy"]
    assert "script-src 'self'" in policy and "unsafe" not in policy
    assert "<script>" not in page.text and "onclick" not in page.text and " style=" not in page.text


def test_strange_host_names_are_refused(app):
    assert app.test_client().get("/sessions", headers={"Host": "evil.example"}).status_code == 400


def test_a_password_guards_every_address(tmp_path):
    app = create_app(tmp_path, password="drum & tuba", immediate=True)
    jobs_of(app).library.create(Session(name="Song"))
    client = app.test_client()
    rules = [rule for rule in app.url_map.iter_rules() if rule.endpoint != "static"]
    for rule in rules:
        path = rule.rule.replace("<session_id>", "song").replace("<int:index>", "0")
        path = path.replace("<", "").replace(">", "")
        if path.startswith("/login"):
            continue
        if "GET" in rule.methods:
            answer = client.get(path)
            assert answer.status_code in (302, 401), path
            assert answer.status_code == 401 or answer.location == "/login"
    caller = Caller(client, "/login")
    assert caller.post("/sessions", data={"name": "x"}).status_code == 401
    assert caller.post("/login", data={"password": "wrong"}).status_code == 401
    assert client.get("/sessions").status_code == 302
    assert caller.post("/login", data={"password": "drum & tuba"}).status_code == 302
    assert client.get("/sessions").status_code == 200


@pytest.mark.parametrize(
    ("host", "fine"),
    [("127.0.0.1", True), ("localhost", True), ("::1", True), ("0.0.0.0", False), ("studio", False)],
)
def test_another_host_needs_a_password(host, fine):
    security.check_host(host, "secret")
    if fine:
        security.check_host(host, None)
        return
    with pytest.raises(PondelError, match="PONDEL_PASSWORD"):
        security.check_host(host, None)


def test_an_upload_over_the_limit_is_told_the_limit(caller, song):
    answer = caller.upload(song, ("big.wav", b"\0" * (9 << 20)))
    assert answer.status_code == 413
    assert "8 MB" in answer.json["message"]


@pytest.mark.parametrize(
    "path",
    [
        "/sessions/nowhere/lanes",
        "/sessions/song/listen?hear=part&part=gone",
        "/sessions/song/listen?hear=everything",
        "/sessions/song/listen?hear=key&part=tuba",
        "/sessions/song/evidence?start_s=5&end_s=1",
        "/sessions/song/prints/none/mix.wav",
    ],
)
def test_what_does_not_exist_is_said_in_words(caller, song, path):
    answer = caller.client.get(path, headers={"Accept": "application/json"})
    assert answer.status_code in (400, 404)
    assert answer.json["message"]
    assert "<h1>" in caller.client.get(path).text


def test_what_only_the_player_asks_for_is_never_answered_by_a_page(caller):
    answer = caller.client.get("/sound/unknown/0")
    assert answer.status_code == 404 and "ask for it again" in answer.json["message"]


@pytest.mark.parametrize(
    "body",
    [
        None,
        [],
        {"op": "burn"},
        {"op": "set part", "part": "tuba"},
        {"op": "set part", "part": "tuba", "field": "pan", "value": {"x": 1}},
        {"op": "set part", "part": "tuba", "field": "name", "value": ""},
        {"op": "set move", "part": "tuba", "move": "m1", "field": "ratio", "value": 2},
        {"op": "give way", "leader": "tuba", "part": "tuba"},
    ],
)
def test_edits_that_make_no_sense_change_nothing(caller, song, body):
    facts = caller.client.get(f"/sessions/{song}/facts").json
    for asked in (body, {"do": body, "base": facts["revision"]}):
        refused = caller.post(f"/sessions/{song}/edit", json=asked)
        assert refused.status_code in (400, 404) and refused.json["message"]
    answer = caller.edit(song, op="set session", field="tempo_bpm", value="fast")
    assert answer.status_code in (400, 404)
    assert answer.json["message"]
    assert caller.client.get(f"/sessions/{song}/facts").json == facts


def test_the_figures_of_proof_come_by_themselves(caller, song):
    caller.edit(song, op="give way", kind="compressor", leader="kick", part="tuba")
    page = caller.client.get(f"/sessions/{song}/proof").text
    assert "Working the figures out" in page and "gives way to" not in page.split("<main", 1)[1]
    asked = f"/sessions/{song}/proof/figures?start_s=1&end_s=3"
    figures = caller.client.get(asked).text
    assert "Tuba gives way to Kick" in figures
    assert "On 4 hits, median" in figures and "0:01.0 to 0:03.0" in figures
    caller.edit(song, op="set part", part="tuba", field="mute", value=True)
    muted = caller.client.get(asked).text
    assert "Tuba is muted: nothing is hidden" in muted and "hidden</span>" not in muted


def test_a_drawn_duck_is_a_case_for_proof(caller, song):
    caller.edit(song, op="give way", kind="drawn duck", leader="kick", part="tuba")
    figures = caller.client.get(f"/sessions/{song}/proof/figures?start_s=1&end_s=3").text
    assert "Tuba gives way to Kick" in figures and "Open the drawn duck" in figures


def test_an_unmeasured_session_is_measured_on_the_queue_and_opens_by_itself(tmp_path):
    app = create_app(tmp_path, testing=True)
    caller, jobs = Caller(app.test_client()), jobs_of(app)
    jobs.start()
    session_id = jobs.library.create(Session(name="Song"))
    caller.upload(session_id, ("kick.wav", audio(hits(3.0))))
    until(lambda: jobs.library.head(session_id).document.parts)
    jobs.library.tables.Measure.delete().execute()
    jobs.desk.recordings._known.clear()
    jobs.desk.recordings._tones.clear()
    jobs.desk.recordings._whole.clear()
    first = caller.client.get(f"/sessions/{session_id}/intake")
    assert first.status_code == 503 and "Measuring the recordings" in first.text
    swap = {"HX-Request": "true", "X-CSRFToken": caller.token}
    soft = caller.client.get(f"/sessions/{session_id}/moves", headers=swap)
    assert soft.headers.get("HX-Refresh") == "true" or soft.status_code == 200
    until(lambda: caller.client.get(f"/sessions/{session_id}/intake").status_code == 200)
    assert not jobs.desk.recordings.missing(jobs.library.head(session_id).document)
    jobs.stop()


@pytest.mark.parametrize("what", ["recording", "stereo", "pitch", "tone"])
def test_a_session_opens_only_when_all_is_measured(app, caller, song, what):
    library, recordings = jobs_of(app).library, jobs_of(app).desk.recordings
    measure = jobs_of(app).songs.measure
    jobs_of(app).songs.measure = lambda _: Measuring(1, 2)
    library.tables.Measure.delete().where(library.tables.Measure.key.startswith(what)).execute()
    recordings._known.clear()
    recordings._tones.clear()
    recordings._whole.clear()
    for screen in SCREENS:
        answer = caller.client.get(f"/sessions/{song}/{screen}")
        assert answer.status_code == 503 and "of <span" in answer.text, screen
    jobs_of(app).songs.measure = measure
    caller.client.get(f"/sessions/{song}/lanes")
    assert caller.client.get(f"/sessions/{song}/lanes").status_code == 200


def test_what_is_shipped_is_kept_by_browsers_under_a_name_that_changes_with_it(caller, song, tmp_path):
    page = caller.client.get(f"/sessions/{song}/moves").text
    shipped = re.findall(r'(?:src|href)="(/static/[^"]+)"', page)
    assert len(shipped) >= 5
    for address in shipped:
        answer = caller.client.get(address)
        assert answer.status_code == 200 and "immutable" in answer.headers["Cache-Control"]
        older = re.sub(r"/static/\w+/", "/static/0123456789abcdef/", address)
        assert caller.client.get(older).status_code == 404, "an older Pondel's is not there any more"
    (tmp_path / "app.js").write_text("let a = 1;")
    before = shipped_at(tmp_path)
    (tmp_path / "app.js").write_text("let a = 2;")
    assert shipped_at(tmp_path) != before


def test_what_the_queue_did_not_take_is_asked_of_it_again(app, song, monkeypatch):
    songs, document = jobs_of(app).songs, jobs_of(app).library.head(song).document
    monkeypatch.setattr(jobs_of(app).queue, "enqueue", refuse)
    for _ in range(2):
        with pytest.raises(OperationalError, match="locked"):
            songs.listen(song, document)
    monkeypatch.undo()
    assert songs.listen(song, document) is None, "the queue does it at once here"


def refuse(_task):
    raise OperationalError("database is locked")


def test_a_fight_of_which_nothing_is_heard_is_told_as_silent(caller, song):
    for part in ("kick", "tuba"):
        caller.edit(song, op="set part", part=part, field="mute", value=True)
    pair = "leader=kick&yielder=tuba&start_s=0&end_s=5"
    answer = caller.client.get(f"/sessions/{song}/evidence?{pair}")
    assert answer.status_code == 200 and "muted" in answer.json["silent"]
    for asked in ("fight-zone", "spectra"):
        found = caller.client.get(
            f"/sessions/{song}/{asked}?leader=kick&yielder=tuba&start_s=0&end_s=5"
        )
        assert found.status_code == 200, asked
    proof = caller.client.get(f"/sessions/{song}/proof/figures?start_s=0&end_s=5")
    assert proof.status_code == 200


def test_a_mix_that_goes_too_high_is_said_with_what_to_lower(app, caller, song):
    """A full-scale square of 3 dB more: its true peak is told, and silence falls when it is lowered."""

    def over():
        return until(lambda: (found := caller.client.get(at).json)["columns"] and [found["over"]])[0]

    at = f"/sessions/{song}/song-outline"
    assert over() == ""
    caller.edit(song, op="set part", part="kick", field="fader_db", value=9)
    words = over()
    document = jobs_of(app).library.head(song).document
    desk = jobs_of(app).desk
    mix = plan_region(make_plan(document, "mix"), desk.now(document), 0, desk.frames(document))
    true_db = measure([mix], 48000, 2).true_peak_dbtp
    assert true_db > 0 and f"goes to +{true_db:.1f} dBTP" in words
    assert "over full scale: Kick" in words and f"{true_db + 1:.1f} dB down" in words
    caller.post(f"/sessions/{song}/undo")
    assert over() == ""
