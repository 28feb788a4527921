"""The recall sheet tells what is set, as somebody with other tools needs it."""

from __future__ import annotations

import numpy as np
import pypdfium2
import pytest
from conftest import hits, sine
from scipy.signal import freqz
from web_tools import audio, jobs_of

from pondel.core.engine.listen import without_moves
from pondel.core.handon.recall import levels_in_words

STEMS = {
    "kick.wav": audio(hits(4.0)),
    "tuba.wav": audio(sine(62, 4, -14) + 0.3 * sine(700, 4, -14)),
}


@pytest.fixture
def song(filled):
    return filled[1]


@pytest.fixture
def sheet(caller, song):
    def work():
        return caller.client.get(f"/sessions/{song}/recall/recall.json").json

    return work


def bell_db(hz, at_hz, gain_db, q, rate=48000):
    """The bell of the audio EQ cookbook."""
    a, w = 10 ** (gain_db / 40), 2 * np.pi * at_hz / rate
    alpha = np.sin(w) / (2 * q)
    b = [1 + alpha * a, -2 * np.cos(w), 1 - alpha * a]
    return 20 * np.log10(
        np.abs(freqz(b, [1 + alpha / a, -2 * np.cos(w), 1 - alpha / a], hz, fs=rate)[1])
    )


def test_every_setting_comes_with_its_unit_and_its_key(caller, song, sheet):
    caller.edit(song, op="give way", part="tuba", leader="kick", kind="multiband")
    caller.edit(song, op="decide", leads="kick", gives_way="tuba", low_hz=40, high_hz=90)
    move = caller.edit(song, op="set move", part="tuba", move="m1", field="bands.0.attack_ms", value=7)
    assert move.status_code == 200
    found = sheet()
    assert found["decided"] == [{"leads": "Kick", "gives_way": ["Tuba"], "low_hz": 40, "high_hz": 90}]
    (laid,) = next(part for part in found["parts"] if part["name"] == "Tuba")["moves"]
    told = {one["label"]: one["words"] for one in laid["settings"]}
    assert told["key"] == "Kick" and told["band 1, attack"] == "7 ms"
    assert told["crossover 1"].endswith(" Hz") and told["band 1, ratio"].endswith(":1")
    assert laid["why"] and laid["curve"]["most_db"] is not None
    page = caller.client.get(f"/sessions/{song}/recall").text
    assert "band 1, attack" in page and "Kick over Tuba in 40 Hz to 90 Hz" in page


def test_the_pdf_can_be_read_searched_and_named_in_any_letters(caller, song):
    caller.edit(song, op="give way", part="tuba", leader="kick", kind="multiband")
    caller.edit(song, op="set part", part="kick", field="name", value="Große Trommel Ω")
    caller.edit(song, op="set session", field="name", value="Märchen/Ω")
    answer = caller.client.get(f"/sessions/{song}/recall/recall.pdf")
    assert answer.mimetype == "application/pdf"
    assert "filename*=UTF-8''M%C3%A4rchen" in answer.headers["Content-Disposition"]
    pages = [page.get_textpage().get_text_range() for page in pypdfium2.PdfDocument(answer.data)]
    # A part with moves begins a page of its own; what stands on the page stands in the file as text.
    (tuba,) = (page for page in pages if page.startswith("Tuba"))
    told = {one["label"] for one in _laid(caller, song)["settings"]}
    assert len(told) > 10 and all(one in tuba for one in told)
    assert "key Große Trommel Ω" in tuba and "Why" not in tuba
    assert all(why[:40] in tuba.replace("\r\n", " ") for why in _laid(caller, song)["why"])
    assert "Große Trommel Ω" in pages[0] and f"1 of {len(pages)}" in pages[0]


def _laid(caller, song):
    sheet = caller.client.get(f"/sessions/{song}/recall/recall.json").json
    return next(part for part in sheet["parts"] if part["name"] == "Tuba")["moves"][0]


def test_the_curve_is_that_of_the_cookbook(caller, song, sheet):
    bell = {"hz": 400, "gain_db": -6, "q": 1.4}
    caller.edit(song, op="add move", part="tuba", kind="eq", values={"bands": [bell]})
    curve = next(part for part in sheet()["parts"] if part["name"] == "Tuba")["moves"][0]["curve"]
    hz = np.array(curve["hz"])
    low = hz < 2000
    want = bell_db(hz[low], 400, -6, 1.4)
    assert np.abs(np.array(curve["rest_db"])[low] - want).max() < 0.1 and curve["most_db"] is None


def test_figures_come_once_the_whole_song_was_heard(app, caller, song, sheet):
    caller.edit(song, op="decide", leads="kick", gives_way="tuba", low_hz=40, high_hz=90)
    caller.edit(song, op="give way", part="tuba", leader="kick", kind="compressor")
    document = jobs_of(app).library.head(song).document
    analysis = jobs_of(app).desk.analysis
    analysis.whole_table(document)
    analysis.whole_table(without_moves(document))
    (figure,) = sheet()["figures"]
    before, after = figure["clear_db"]
    assert figure["leader"] == "Kick" and after > before


def test_levels_are_told_in_a_line():
    part = {"trim_db": -2.0, "fader_db": -6.0, "pan": -0.35, "mute": True, "silent_key": False}
    part |= {"group": "Brass", "sends": [{"to": "Hall", "level_db": -12.0, "tap": "after fader"}]}
    assert levels_in_words(part) == (
        "trim −2.0 dB, fader −6.0 dB, pan L35, muted, into Brass, sent to Hall at −12.0 dB, after fader"
    )


def test_reasons_of_a_first_setting_stand_beside_what_was_changed_by_hand_since(
    app, caller, song, sheet
):
    caller.edit(song, op="give way", part="tuba", leader="kick", kind="compressor")
    (move,) = sheet()["parts"][1]["moves"]
    assert move["why"] and move["changed_by_hand"] == []
    for field, value in (("threshold_db", -40), ("key.high_cut_hz", 500)):
        caller.edit(song, op="set move", part="tuba", move="m1", field=field, value=value)
    changed = sheet()["parts"][1]["moves"][0]["changed_by_hand"]
    assert changed == ["key, high cut 500 Hz", "threshold −40.0 dB"]
    page = caller.client.get(f"/sessions/{song}/recall").text
    assert "changed by hand since: key, high cut 500 Hz, threshold −40.0 dB" in page
    shown = caller.client.get(f"/sessions/{song}/moves?part=tuba&move=m1").text
    assert "Changed by hand since: key, high cut 500 Hz, threshold −40.0 dB" in shown


@pytest.mark.parametrize("name", ["שלום", "{nb} takes", "鼓"])
def test_the_pdf_says_what_it_cannot_set_and_takes_no_name_for_a_field(app, caller, song, name):
    caller.edit(song, op="set session", field="name", value=name)
    data = caller.client.get(f"/sessions/{song}/recall/recall.pdf").data
    text = pypdfium2.PdfDocument(data)[0].get_textpage().get_text_range()
    assert ("{nb} takes" in text) == (name == "{nb} takes")
    assert ("fonts of this PDF lack" in text) == (name != "{nb} takes")
