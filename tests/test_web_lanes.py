"""Lanes and what Intake knows of the song, asked without a browser."""

from __future__ import annotations

import html
import io
import re
import time

import mido
import numpy as np
import pytest
from conftest import hits, sine, unfinished
from web_tools import RATE, Caller, audio, jobs_of, until

from pondel.core.document import Session
from pondel.web import create_app

PAIR = "leader=kick&yielder=tuba"


STEMS = {
    "kick.wav": audio(hits(6.0)),
    "tuba.flac": audio(np.hstack([sine(70, 6), sine(110, 6)]), format="FLAC"),
    "flute.wav": audio(sine(1500, 6, -30)),
}


@pytest.fixture
def song(filled):
    return filled[1]


def get(caller, song, path):
    answer = caller.client.get(f"/sessions/{song}/{path}")
    assert answer.status_code == 200, answer.text
    return answer


def test_the_fights_and_the_table_of_the_song(caller, song):
    page = get(caller, song, f"lanes/fights?{PAIR}").text
    assert "Tuba hides Kick" in page and "Row hidden by column" in page
    first = page.split("</ol>")[0].split("<li")[1]
    assert "Tuba hides Kick" in first
    whole = get(caller, song, f"lanes/ridges?{PAIR}").json
    assert not whole["is_loop"] and not whole["for_now"]
    kick = next(lane for lane in whole["lanes"] if lane["id"] == "kick")
    assert 0.2 < kick["share"] < 1 and "tuba" in kick["by"]
    assert max(kick["alone"]) == 1.0 and len(kick["alone"]) == len(whole["hz"])
    assert whole["zone"]["low_hz"] < 70 < whole["zone"]["high_hz"]


def test_a_look_is_a_section_the_loop_hits_a_role_or_a_level(caller, song):
    sections = [{"name": "One", "start_s": 0, "end_s": 3}, {"name": "Two", "start_s": 3, "end_s": 6}]
    assert caller.edit(song, op="set sections", sections=sections).status_code == 200
    shares = {}
    for look in ("where=song", "where=s1", "where=loop", "on_hits=1", "level=quiet", "level=loud"):
        found = get(caller, song, f"lanes/ridges?{PAIR}&{look}&start_s=0&end_s=3").json
        shares[look] = next(lane["share"] for lane in found["lanes"] if lane["id"] == "kick")
        assert found["is_loop"] == (look == "where=loop")
    assert shares["where=s1"] == pytest.approx(shares["where=loop"], abs=0.03)
    # The model spreads more at higher levels.
    assert len({shares["level=quiet"], shares["where=song"], shares["level=loud"]}) == 3
    assert shares["on_hits=1"] != shares["where=song"]
    page = get(caller, song, f"lanes/fights?{PAIR}&role=lead").text
    assert "Tuba hides Kick" not in page.split("<ol")[1]


def test_the_loops_numbers_come_first(tmp_path):
    app = create_app(tmp_path, testing=True)
    caller = Caller(app.test_client())
    jobs = jobs_of(app)
    session_id = jobs.library.create(Session(name="Song"))
    for name, sound in (("kick.wav", hits(6.0)), ("tuba.wav", sine(70, 6))):
        arrival = jobs.arrivals.receive(session_id, name, io.BytesIO(audio(sound)))
        jobs.intake.take_in.now(arrival.id)
    address = f"lanes/ridges?{PAIR}&start_s=0&end_s=2"
    first = get(caller, session_id, address).json
    assert first["is_loop"] and first["for_now"]
    assert "Listening to the whole song" in get(caller, session_id, f"lanes/fights?{PAIR}").text
    jobs.start()
    ends = time.monotonic() + 20
    while get(caller, session_id, address).json["for_now"] and time.monotonic() < ends:
        time.sleep(0.1)
    assert not get(caller, session_id, address).json["is_loop"]
    jobs.stop()


def test_an_edit_has_only_the_changed_part_listened_to_again(app, caller, song):
    analysis = jobs_of(app).desk.analysis
    library = jobs_of(app).library
    get(caller, song, f"lanes/fights?{PAIR}")
    assert analysis.missing(library.head(song).document) == []
    caller.edit(song, op="set part", part="tuba", field="fader_db", value=-6)
    caller.edit(song, op="set part", part="kick", field="trim_db", value=3)
    assert analysis.missing(library.head(song).document) == []
    caller.edit(song, op="add move", part="tuba", kind="compressor")
    assert analysis.missing(library.head(song).document) == ["tuba"]


def test_the_map_shows_the_hits_and_hides_nothing_where_the_tuba_is_silent(caller, song):
    found = get(caller, song, f"lanes/map?{PAIR}&start_s=0&end_s=2").json
    assert len(found["hits_s"]) == 4
    shares, alone = np.array(found["share"]), np.array(found["alone"])
    assert shares.shape == alone.shape == (len(shares), len(found["hz"]))
    at_70 = int(np.argmin(np.abs(np.array(found["hz"]) - 70)))
    assert shares[:, at_70].mean() > 0.5


def test_the_worst_two_bars_and_the_pair_in_facts(caller, song):
    worst = get(caller, song, f"lanes/worst?{PAIR}").json
    assert worst["end_s"] - worst["start_s"] == pytest.approx(4.0, abs=0.01)
    assert worst["low_hz"] < worst["high_hz"]
    page = get(caller, song, f"lanes/pair?{PAIR}&start_s=0&end_s=4").text
    assert "nine tenths of its energy" in page and "Low end together" in page
    assert "by band" in get(caller, song, f"lanes/pair?{PAIR}&below=80 Hz").text
    assert caller.client.get(f"/sessions/{song}/lanes/pair?{PAIR}&below=9").status_code == 400
    for fold in ("middle", "sides"):
        levels = get(caller, song, f"spectra?{PAIR}&start_s=0&end_s=4&fold={fold}").json["leader"]
        assert (max(levels) > -60) == (fold == "middle")
    assert "notes: they overlap on" in page


def test_a_zone_is_decided_redecided_heard_and_removed(app, caller, song):
    def zones():
        return jobs_of(app).library.head(song).document.zones

    zone = {"low_hz": "40 Hz", "high_hz": "0.12k"}
    assert caller.edit(song, op="decide", leads="kick", gives_way="tuba", **zone).status_code == 200
    assert (zones()[0].low_hz, zones()[0].high_hz, zones()[0].leads) == (40, 120, "kick")
    caller.edit(song, op="decide", leads="tuba", gives_way="kick", low_hz=50, high_hz=130)
    assert [(z.leads, z.low_hz) for z in zones()] == [("tuba", 50)]
    caller.edit(song, op="decide", leads="kick", gives_way="tuba", low_hz=600, high_hz=900)
    assert len(zones()) == 2
    bad = caller.edit(song, op="decide", leads="kick", gives_way="kick", **zone)
    assert bad.status_code == 400 and "itself" in bad.json["message"]
    wrong = caller.edit(song, op="decide", leads="kick", gives_way="tuba", low_hz="x", high_hz=2)
    assert wrong.status_code == 400
    address = "listen?hear=zone&part=kick&part=tuba&low_hz=600&high_hz=900"
    name = get(caller, song, address).json["hash"]
    sound = np.frombuffer(caller.client.get(f"/sound/{name}/2").data, "<f4")
    whole = get(caller, song, "listen?hear=pair&part=kick&part=tuba").json["hash"]
    loud = np.frombuffer(caller.client.get(f"/sound/{whole}/2").data, "<f4")
    assert np.abs(sound).max() < 0.02 * np.abs(loud).max()
    assert caller.edit(song, op="remove zone", zone=zones()[0].id).status_code == 200
    assert len(zones()) == 1
    assert caller.edit(song, op="remove zone", zone="nowhere").status_code == 404


def midi_bytes(*beats: float, bpm: float = 120) -> bytes:
    file = mido.MidiFile(ticks_per_beat=480)
    track = mido.MidiTrack()
    file.tracks.append(track)
    track.append(mido.MetaMessage("set_tempo", tempo=mido.bpm2tempo(bpm)))
    last = 0.0
    for beat in beats:
        track.append(mido.Message("note_on", note=36, velocity=90, time=round((beat - last) * 480)))
        track.append(mido.Message("note_off", note=36, time=0))
        last = beat
    out = io.BytesIO()
    file.save(file=out)
    return out.getvalue()


def test_hits_are_found_corrected_and_read_from_midi(app, caller, song):
    def times():
        jobs = jobs_of(app)
        return jobs.desk.hits_s(jobs.library.head(song).document.part("kick"))

    found = times()
    assert found.size == 12
    caller.edit(song, op="toggle hit", part="kick", at_s=float(found[3]) + 0.01)
    assert times().size == 11
    caller.edit(song, op="toggle hit", part="kick", at_s=0.35)
    assert times().size == 12 and 0.35 in times()
    caller.edit(song, op="toggle hit", part="kick", at_s=float(found[3]))
    assert times().size == 13
    caller.edit(song, op="set hits", part="kick", value="100 %")
    data = {"part": "kick", "file": (io.BytesIO(midi_bytes(1, 2, 4)), "kick.mid")}
    answer = caller.post(f"/sessions/{song}/intake/midi", data=data)
    assert answer.status_code == 303, answer.text
    assert set(np.round(times(), 3)) >= {0.5, 1.0, 2.0} and times().size <= 5
    told = jobs_of(app).library.head(song).document
    assert (told.tempo_from, told.tempo_bpm) == ("midi", 120)
    slow = {"file": (io.BytesIO(midi_bytes(1, 2, bpm=80)), "map.mid")}
    assert caller.post(f"/sessions/{song}/intake/midi", data=slow).status_code == 303
    assert jobs_of(app).library.head(song).document.tempo_bpm == pytest.approx(80, abs=0.01)
    caller.edit(song, op="hits as found", part="kick")
    bad = {"part": "kick", "file": (io.BytesIO(b"MThd nonsense"), "bad.mid")}
    refused = caller.post(f"/sessions/{song}/intake/midi", data=bad)
    assert refused.status_code == 400 and "MIDI" in refused.text


def test_sections_and_tempo_are_typed_and_wrong_ones_refused(app, caller, song):
    def document():
        return jobs_of(app).library.head(song).document

    rows = [{"name": "B", "start_s": 3, "end_s": 6}, {"name": "A", "start_s": 0, "end_s": 3}]
    caller.edit(song, op="set sections", sections=rows)
    assert [(s.name, s.start_s) for s in document().sections] == [("A", 0), ("B", 3)]
    backwards = caller.edit(song, op="set sections", sections=[{"name": "A", "start_s": 5, "end_s": 2}])
    assert backwards.status_code == 400 and "ends before" in backwards.json["message"]
    typed = caller.edit(song, op="set session", field="tempo_bpm", value="104.5 bpm")
    assert typed.json["value"]["words"] == "104.5 bpm" and document().tempo_bpm == 104.5
    assert caller.edit(song, op="set session", field="tempo_bpm", value="fast").status_code == 400
    caller.edit(song, op="set session", field="beats_per_bar", value="3")
    assert document().beats_per_bar == 3
    found = caller.edit(song, op="find tempo").json["value"]["value"]
    assert found == pytest.approx(120, abs=0.5)


def test_a_group_takes_its_members_out_of_the_mix_and_adds_them_again(app, caller, song):
    jobs = jobs_of(app)

    def mix():
        document = jobs.library.head(song).document
        from pondel.core.engine import render

        return render.region(document, jobs.library.media, "mix", 0, RATE)

    plain = mix()
    caller.edit(song, op="add return", name="Lows")
    for part in ("kick", "tuba"):
        assert caller.edit(song, op="set group", part=part, value="lows").status_code == 200
    assert np.allclose(mix(), plain, atol=1e-6)
    caller.edit(song, op="set part", part="lows", field="fader_db", value=-90)
    assert np.abs(mix()).max() < 0.2 * np.abs(plain).max()
    circle = caller.edit(song, op="set group", part="lows", value="lows")
    assert circle.status_code == 400 and "circle" in circle.json["message"]
    not_a_return = caller.edit(song, op="set group", part="kick", value="tuba")
    assert not_a_return.status_code == 400 and "not a return" in not_a_return.json["message"]
    caller.edit(song, op="set send", part="flute", to="lows", value="-6 dB")
    assert jobs.library.head(song).document.part("flute").sends[0].level_db == -6
    caller.edit(song, op="set send", part="flute", to="lows", value="off")
    assert jobs.library.head(song).document.part("flute").sends == []
    page = get(caller, song, "intake?part=flute").text
    assert "send to Lows" in page
    caller.edit(song, op="remove part", part="lows")
    assert jobs.library.head(song).document.part("kick").group is None


def test_the_intake_table_is_sorted(caller, song):
    import re

    def order(address):
        page = get(caller, song, address).text
        return re.findall(r'aria-label="Name of (\w+)"', page)

    assert order("intake") == ["Kick", "Tuba", "Flute"]
    assert order("intake?sort=name") == ["Flute", "Kick", "Tuba"]
    assert order("intake?sort=peak")[0] == "Flute" and order("intake?sort=peak&down=1")[-1] == "Flute"
    assert order("intake?sort=nonsense") == ["Kick", "Tuba", "Flute"]


def test_a_session_archive_and_a_document_with_its_audio_come_in(app, caller, song):
    archive = caller.client.get(f"/sessions/{song}/archive.zip").data
    answer = caller.post("/sessions/import", data={"file": [(io.BytesIO(archive), "song.zip")]})
    assert answer.status_code == 302, answer.text
    copy = answer.location.split("/")[2]
    assert len(jobs_of(app).library.head(copy).document.parts) == 3
    document = b'{"name": "Loose", "parts": [{"id": "a", "name": "A", "file": "audio/a.wav"}]}'
    loose = [(io.BytesIO(document), "session.json"), (io.BytesIO(audio(sine(100, 1))), "a.wav")]
    answer = caller.post("/sessions/import", data={"file": loose})
    assert answer.status_code == 302, answer.text
    lonely = caller.post("/sessions/import", data={"file": [(io.BytesIO(document), "session.json")]})
    assert lonely.status_code == 400 and "missing" in lonely.text
    assert caller.post("/sessions/import", data={}).status_code == 400
    assert not unfinished(jobs_of(app).library)


def test_many_files_are_stopped_together(tmp_path):
    app = create_app(tmp_path, testing=True)
    caller = Caller(app.test_client())
    session_id = jobs_of(app).library.create(Session(name="Sixty"))
    sound = audio(sine(300, 0.2))
    caller.upload(session_id, *((f"{n:02d} part.wav", sound) for n in range(60)))
    page = get(caller, session_id, "intake").text
    assert "60 files still to be read" in page and "and 54 more" in page
    caller.post(f"/sessions/{session_id}/arrivals/stop")
    assert "still to be read" not in get(caller, session_id, "intake").text
    assert not unfinished(jobs_of(app).library)


def test_opening_lanes_adds_nothing_up(app, caller, song, monkeypatch):
    monkeypatch.setattr(
        jobs_of(app).desk.analysis, "_make_table", lambda *_: pytest.fail("it was made")
    )
    caller.edit(song, op="set part", part="tuba", field="fader_db", value=-3)
    assert get(caller, song, "lanes").status_code == 200


def test_a_return_is_looked_at_like_any_part_and_a_group_hides_nobody(app, caller, song):
    for name in ("Hall", "Lows"):
        assert caller.edit(song, op="add return", name=name).status_code == 200
    document = jobs_of(app).library.head(song).document
    hall, lows = (part.id for part in document.parts[-2:])
    for part in ("kick", "flute"):
        send = {"op": "set send", "part": part, "to": hall, "value": 0, "tap": "source"}
        assert caller.edit(song, **send).status_code == 200
    assert caller.edit(song, op="set group", part="tuba", value=lows).status_code == 200
    ridges = get(caller, song, f"lanes/ridges?{PAIR}").json
    shown = {lane["id"] for lane in ridges["lanes"]}
    assert hall in shown and lows not in shown and "tuba" in shown
    pair = f"leader=kick&yielder={hall}"
    assert "Hall hides Kick" in get(caller, song, f"lanes/fights?{pair}").text
    for path in (f"lanes?{pair}", f"lanes/map?{pair}", f"lanes/pair?{pair}", f"moves?part={hall}"):
        get(caller, song, path)
    assert caller.edit(song, op="give way", part=hall, leader="kick").status_code == 200
    get(caller, song, f"moves?part={hall}&{pair}")
    get(caller, song, f"evidence?{pair}&move=m1")
    get(caller, song, "hand-off")
    muted = {"op": "set part", "part": lows, "field": "mute", "value": True}
    assert caller.edit(song, **muted).status_code == 200
    shown = {lane["id"] for lane in get(caller, song, f"lanes/ridges?{PAIR}").json["lanes"]}
    assert "tuba" not in shown and hall in shown
    found = get(caller, song, f"evidence?{PAIR}").json
    assert found["silent"] == "Tuba's group Lows is muted"


def test_a_folded_row_is_the_sum_of_its_parts(app, caller, song):
    """Two parts of one role: no other part of the family hides them, and their sum is heard as one."""
    for part in ("tuba", "flute"):
        caller.edit(song, op="set part", part=part, field="role", value="brass")
    where = f"lanes/ridges?{PAIR}&start_s=0&end_s=4&where=loop"
    plain = {lane["id"]: lane for lane in get(caller, song, where).json["lanes"]}
    folded = get(caller, song, f"{where}&rows=role").json
    rows = {lane["id"]: lane for lane in folded["lanes"]}
    assert list(rows) == ["kick", "role:brass"]
    assert folded["families"]["role:brass"]["name"] == "brass"
    assert rows["role:brass"]["sone"] > max(plain["tuba"]["sone"], plain["flute"]["sone"])
    assert rows["kick"]["share"] == pytest.approx(plain["kick"]["share"], abs=1e-4)
    assert set(rows["role:brass"]["by"]) <= {"kick"}
    opened = get(caller, song, f"{where}&rows=role&open=role:brass").json
    assert {lane["id"] for lane in opened["lanes"]} == set(plain)
    whole = f"lanes/ridges?{PAIR}&start_s=0&end_s=4&rows=role"
    until(lambda: not get(caller, song, whole).json["is_loop"])


def test_the_table_in_sones_is_asked_for_as_the_table_was_whatever_the_address_says(caller, song):
    look = "where=loop&start_s=0&end_s=4&session_id=another&_external=1&_scheme=ftp&x=%22%3E%3Cb%3E"
    page = get(caller, song, f"lanes/fights?{PAIR}&{look}").text
    (address,) = re.findall(r'hx-get="([^"]*)"', page)
    assert address.startswith(f"/sessions/{song}/lanes/in-sones?") and "<b>" not in page
    table = get(caller, song, html.unescape(address).removeprefix(f"/sessions/{song}/")).text
    sones = float(re.search(r"Kick hidden by Tuba: ([0-9.]+) sones", table)[1])
    ridges = get(caller, song, f"lanes/ridges?{PAIR}&where=loop&start_s=0&end_s=4").json["lanes"]
    kick = next(lane for lane in ridges if lane["id"] == "kick")
    assert 0.0 < sones <= kick["share"] * kick["sone"] + 0.05
