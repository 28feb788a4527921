"""The other treatments in the browser: each from nothing, and what it does measured in the sound."""

from __future__ import annotations

import numpy as np
import pytest
import soundfile
from browser_tools import at_rest, open_page, until
from conftest import RATE, hits
from moves_tools import noise, rms_db

from pondel.core.document import Session
from pondel.core.hearing.table import Scope
from pondel.core.measures.spectrum import average_spectrum, axis_hz
from pondel.core.reading import parse_session, to_json

SECONDS = 8.0
WORD_S, PAUSE_S = 0.9, 1.1


def sung() -> np.ndarray:
    """A voice of words and pauses."""
    t = np.arange(round(SECONDS * RATE)) / RATE
    inside = (t % (WORD_S + PAUSE_S)) < WORD_S
    tone = sum(np.sin(2 * np.pi * 220 * n * t) / n for n in range(1, 9))
    return (0.12 * tone * inside)[:, None].astype("f4")


def reeds() -> np.ndarray:
    t = np.arange(round(SECONDS * RATE)) / RATE
    tone = sum(np.sin(2 * np.pi * 196 * n * t) * n**-0.7 for n in range(1, 30))
    return np.repeat((0.05 * tone)[:, None], 2, axis=1).astype("f4")


def bars() -> np.ndarray:
    t = np.arange(round(SECONDS * RATE)) / RATE
    struck = np.exp(-(t % 0.4) / 0.2)
    tone = np.sin(2 * np.pi * 523 * t) + 0.25 * np.sin(2 * np.pi * 2081 * t)
    return np.repeat((0.12 * tone * struck)[:, None], 2, axis=1).astype("f4")


STEMS = {
    "Voice": sung,
    "Accordion": reeds,
    "Marimba": bars,
    "Bass drum": lambda: hits(SECONDS, hz=52.0),
    "Pad": lambda: noise(SECONDS, 0.05),
}


@pytest.fixture(scope="module")
def band(server, tmp_path_factory):
    """A session of made-up parts, measured."""
    jobs = server[1]
    folder = tmp_path_factory.mktemp("band")
    parts = []
    from pondel.jobs.sessions import take_file

    for name, play in STEMS.items():
        path = folder / f"{name}.wav"
        soundfile.write(path, play(), RATE, "PCM_24")
        file = take_file(jobs.library, path, RATE)
        jobs.desk.recordings.take(file)
        part = {"id": name.lower().replace(" ", "-"), "name": name, "file": file}
        parts.append({**part, "role": {"Bass drum": "kick", "Voice": "voice"}.get(name, "keys")})
    document = parse_session({"name": "Band", "tempo_bpm": 120, "parts": parts})
    return jobs.library.create(document, rate_known=True)


@pytest.fixture
def at(server, band, browser):
    """A fresh session of the band, and a page of it at Moves."""
    address, jobs = server
    song = jobs.library.create(
        Session.model_validate(to_json(jobs.library.head(band).document)), rate_known=True
    )
    pages = []

    def opened(query: str):
        page, errors = open_page(browser, f"{address}/sessions/{song}/moves?{query}")
        pages.append((page, errors))
        return page

    yield opened, jobs, song
    for page, errors in pages:
        assert errors == []
        page.context.close()


def now(jobs, song):
    return jobs.library.head(song).document


def heard(jobs, song, part, tap="after fader"):
    document = now(jobs, song)
    return jobs.desk.now(document).region((part, tap), 0, round(SECONDS * RATE))


def test_an_echo_under_the_voice_from_nothing_rises_in_its_pauses(at):
    opened, jobs, song = at
    page = opened("part=voice&leader=accordion")
    page.click("#space-details summary")
    page.click("#do-space-echo")
    until(page, "pondel.state.facts.parts.length === 6")
    at_rest(page)
    echo = next(part.id for part in now(jobs, song).parts if part.source == "sends")
    ducked = heard(jobs, song, echo)
    page.goto(f"{page.url.split('?')[0]}?part={echo}&leader=voice")
    until(page, "window.pondel?.isAtRest()")
    page.click("""[data-target*='"field": "on"'] >> nth=0""")
    at_rest(page)
    free = heard(jobs, song, echo)
    t = np.arange(len(free)) / RATE % (WORD_S + PAUSE_S)
    later = np.arange(len(free)) > 2 * RATE
    stretches = {"words": (0.3, WORD_S), "pauses": (WORD_S + 0.3, WORD_S + 0.9)}
    gains = {
        name: rms_db(ducked[inside]) - rms_db(free[inside])
        for name, (start, end) in stretches.items()
        if (inside := later & (t > start) & (t < end)).any()
    }
    assert gains["words"] == pytest.approx(-9, abs=1.5) and gains["pauses"] > gains["words"] + 4


def test_pushed_apart_each_stands_clearer(at):
    opened, jobs, song = at
    page = opened("part=accordion&leader=marimba")
    before = jobs.desk.analysis.whole_table(now(jobs, song))
    page.click("#contrast-details summary")
    page.select_option("#contrast-against", "marimba")
    page.check("#contrast-mirrored")
    page.select_option("#contrast-over", "song")
    page.click("#contrast-lay")
    page.wait_for_selector("text=The other half is on Marimba")
    at_rest(page)
    assert page.locator(".gain-asked").count() == 1
    after = jobs.desk.analysis.whole_table(now(jobs, song))
    for part, other in (("marimba", "accordion"), ("accordion", "marimba")):
        everywhere = Scope()
        assert after.share(part, other, everywhere) < before.share(part, other, everywhere)
        assert after.clear_of_db(part, other) > before.clear_of_db(part, other)


def test_a_sub_layer_is_in_tune_under_the_bass_drum(at):
    opened, jobs, song = at
    page = opened("part=bass-drum&leader=accordion")
    page.select_option("#add-kind", "sub layer")
    page.click("#add-plain")
    page.wait_for_selector("h2:text-is('Sub layer')")
    at_rest(page)
    (move,) = now(jobs, song).part("bass-drum").moves
    assert move.hz == pytest.approx(52.0, abs=1.0) and "Bass drum" in move.why[0]
    plain = heard(jobs, song, "bass-drum", "source")
    added = heard(jobs, song, "bass-drum", "before fader") - plain
    levels = average_spectrum([added], RATE)
    assert axis_hz()[int(np.argmax(levels))] == pytest.approx(move.hz, rel=0.04)
    page.fill('[id$="m1-hz"] .typed, [data-target*=\'"field": "hz"\'] .typed', "A1")
    page.keyboard.press("Enter")
    at_rest(page)
    assert now(jobs, song).part("bass-drum").moves[0].hz == 55.0


def test_a_recipe_is_saved_and_laid_on_a_second_part(at):
    opened, jobs, song = at
    page = opened("part=pad&leader=bass-drum")
    page.select_option("#add-kind", "compressor")
    page.click("#add-for")
    page.wait_for_selector("h2:text-is('Compressor')")
    page.click("#recipe-details > summary")
    page.fill("#recipe-name", "Under the drum")
    page.fill("#recipe-why", "It leaves the drum its room.")
    page.click("#keep-recipe")
    page.wait_for_selector("text=Under the drum, kept", state="attached")
    at_rest(page)
    other = opened("part=accordion&leader=marimba")
    other.click("#recipe-details > summary")
    other.click("text=Under the drum, kept")
    other.wait_for_selector("text=Which part stands for Bass drum?")
    other.click("#recipe-1 >> text=Lay on Accordion")
    until(other, "pondel.state.facts.undo?.includes('Under the drum')")
    at_rest(other)
    one, laid = now(jobs, song).part("pad").moves[0], now(jobs, song).part("accordion").moves[0]
    assert (
        laid.key == one.key and laid.range_db == one.range_db and laid.threshold_db == one.threshold_db
    )


def test_a_pad_cut_in_the_middle_keeps_its_sides(at):
    opened, jobs, song = at
    page = opened("part=pad&leader=voice")
    page.select_option("#add-kind", "spectral duck")
    page.click("#add-for")
    page.wait_for_selector("h2:text-is('Spectral duck')")
    at_rest(page)
    page.select_option("""[data-target*='"field": "placement"']""", "middle")
    at_rest(page)
    for field, value in (("threshold_db", "-70 dB"), ("depth_db", "12 dB"), ("ratio", "4:1")):
        page.fill(f"""[data-target*='"field": "{field}"'] .typed""", value)
        page.keyboard.press("Enter")
        at_rest(page)
    (move,) = now(jobs, song).part("pad").moves
    assert move.placement == "middle"
    plain, cut = (heard(jobs, song, "pad", tap) for tap in ("source", "before fader"))
    middle, sides = (
        [(one[:, 0] + sign * one[:, 1]) / 2 for one in (plain, cut)] for sign in (1.0, -1.0)
    )
    assert rms_db(middle[1]) < rms_db(middle[0]) - 0.2
    assert rms_db(sides[1]) == pytest.approx(rms_db(sides[0]), abs=0.05)
    assert np.abs(sides[1] - sides[0]).max() < 1e-4
