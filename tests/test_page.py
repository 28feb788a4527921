"""The page keeps its place: focus, address, sound and numbers are those of the last change."""

from __future__ import annotations

import re
from collections import Counter
from urllib.parse import urlsplit

import pytest
import soundfile
from browser_tools import at_rest, middle_of, open_page, until
from conftest import hits, sine
from playwright.sync_api import Error as PlaywrightError
from web_tools import audio

from pondel.core.document import Session
from pondel.core.operations.chain import AddMove

FOCUSED = "document.activeElement.id"
NAMELESS = """() => {
  const kinds = "button, input:not([type=hidden]), select, summary, [tabindex='0']";
  const named = (one) => one.id || (one.tagName === "SUMMARY" && one.parentElement.id);
  return [...document.querySelectorAll(`#stage :is(${kinds})`)]
    .filter((one) => !named(one))
    .map((one) => one.outerHTML.slice(0, 120));
}"""
TWICE = """() => {
  const ids = [...document.querySelectorAll("[id]")].map((one) => one.id);
  return ids.filter((id, n) => ids.indexOf(id) !== n);
}"""


def focused(page) -> str:
    at_rest(page)
    return page.evaluate(FOCUSED)


def press(page, selector: str) -> None:
    """Press a button by the keyboard alone."""
    page.locator(selector).first.focus()
    page.keyboard.press("Enter")
    at_rest(page)


@pytest.fixture
def at_moves(server, own_song, browser):
    """Moves with an EQ of two bands on the tuba."""
    address, jobs = server
    bands = {"bands": [{"hz": 90}, {"hz": 400}]}
    for kind, values in (("eq", bands), ("level", {}), ("compressor", {"key": {"source": "kick"}})):
        move = AddMove(part="tuba", kind=kind, values=values)
        jobs.library.edit(own_song, None, move.apply)
    page, errors = open_page(browser, f"{address}/sessions/{own_song}/moves?part=tuba&move=m1")
    yield page, jobs, own_song
    assert [error for error in errors if "400 (BAD REQUEST)" not in error] == []
    page.context.close()


def move_of(jobs, song, index: int):
    return jobs.library.head(song).document.part("tuba").moves[index]


def test_a_screen_asks_each_of_its_questions_once(at_moves):
    page, jobs, song = at_moves
    # The outline is asked for until it is drawn.
    with page.expect_response(lambda answer: is_outline_of(answer, jobs.library.head(song).id)):
        page.reload()
    at_rest(page)
    asked = Counter()
    page.on("request", lambda request: asked.update([urlsplit(request.url).path]))
    page.reload()
    at_rest(page)
    questions = {path: times for path, times in asked.items() if f"/sessions/{song}/" in path}
    assert len(questions) >= 8
    assert [path for path, times in questions.items() if times > 1] == []


def test_trimming_leaves_the_page_on_the_new_state(server, own_song, browser):
    address, jobs = server
    page, errors = open_page(browser, f"{address}/sessions/{own_song}/intake")
    before = page.inner_text(".intake-table tbody tr:first-child td:nth-last-child(2)")
    page.keyboard.press("Space")
    until(page, "pondel.player.playing")
    at_rest(page)
    heard = page.evaluate("pondel.player.layer.sound.hash")
    page.fill("#trim-target", "-30 dB")
    page.uncheck("#trim-keep-mix")
    press(page, "#trim-all")
    assert page.evaluate("pondel.state.facts.revision") == jobs.library.head(own_song).id
    assert page.evaluate("pondel.player.layer.sound.hash") != heard
    after = page.inner_text(".intake-table tbody tr:first-child td:nth-last-child(2)")
    assert after != before
    page.fill('[aria-label="Fader of Tuba"]', "-5")
    page.keyboard.press("Tab")
    at_rest(page)
    assert jobs.library.head(own_song).document.part("tuba").fader_db == -5
    column = page.inner_text('tr:has([aria-label="Fader of Tuba"]) td:nth-last-child(2)')
    levels = jobs.desk.recording(jobs.library.head(own_song).document.part("tuba").file).levels
    trim = jobs.library.head(own_song).document.part("tuba").trim_db
    assert f"{levels.integrated_lufs + trim - 5:.1f}".replace("-", "−") in column
    assert errors == []
    page.context.close()


def test_the_first_import_brings_the_deck_to_life(server, browser, tmp_path):
    address, jobs = server
    session_id = jobs.library.create(Session(name="Fresh"))
    page, errors = open_page(browser, f"{address}/sessions/{session_id}/intake")
    (tmp_path / "kick.wav").write_bytes(audio(hits(20.0)))
    (tmp_path / "tuba.wav").write_bytes(audio(sine(70, 20.0)))
    page.set_input_files("#files", [str(tmp_path / "kick.wav"), str(tmp_path / "tuba.wav")])
    until(page, "document.querySelectorAll('#stage .intake-table tbody tr').length === 2")
    at_rest(page)
    assert page.evaluate("pondel.state.facts.seconds") == 20
    assert page.get_attribute("#loop-end", "aria-valuemax") == "20.00"
    page.locator("#stage h1").click()
    page.keyboard.press("Space")
    until(page, "pondel.player.playing")
    assert page.evaluate("pondel.player.loop.end_s - pondel.player.loop.start_s") == 8
    assert errors == []
    page.context.close()


def test_space_sets_checkboxes_and_plays_elsewhere(server, own_song, browser):
    address, jobs = server
    page, errors = open_page(browser, f"{address}/sessions/{own_song}/intake?part=tuba")
    mute = page.locator("label:has-text('mute') input")
    mute.focus()
    page.keyboard.press("Space")
    at_rest(page)
    assert jobs.library.head(own_song).document.part("tuba").mute
    assert not page.evaluate("pondel.player.playing")
    assert focused(page) == mute.get_attribute("id")
    page.keyboard.press("Space")
    at_rest(page)
    assert not jobs.library.head(own_song).document.part("tuba").mute
    page.goto(f"{address}/sessions/{own_song}/lanes")
    page.wait_for_selector("#fights summary")
    page.locator("#fights summary").last.focus()
    page.keyboard.press("Space")
    until(page, "document.querySelector('#in-sones').open")
    page.wait_for_selector("#sones [aria-label$=' sones']")
    assert not page.evaluate("pondel.player.playing")
    assert errors == []
    page.context.close()


def test_undo_inside_a_text_field_undoes_the_typing(server, own_song, browser):
    address, jobs = server
    page, _ = open_page(browser, f"{address}/sessions/{own_song}/intake")
    before = jobs.library.head(own_song).id
    name = page.locator('[aria-label="Name of Tuba"]')
    name.focus()
    page.keyboard.press("End")
    page.keyboard.type(" low")
    page.keyboard.press("Control+z")
    assert name.input_value() != "Tuba low"
    assert jobs.library.head(own_song).id == before
    page.context.close()


def test_focus_stays_or_goes_to_what_appeared(at_moves):
    page, jobs, song = at_moves
    press(page, '[id^="do-add-to-bands"]')
    assert focused(page) == "do-add-to-bands"
    assert len(move_of(jobs, song, 0).bands) == 3
    page.click("#place-details summary")
    press(page, '[id^="do-later"]')
    assert focused(page) == "do-later"
    assert next(m.kind for m in jobs.library.head(song).document.part("tuba").moves) == "level"
    # What was edited stays what is edited, and stands in the address.
    assert "move=m1" in page.url and page.inner_text("aside.controls h2").startswith("EQ")
    toggle = "[data-toggle][id$='m1-on']"
    press(page, toggle)
    assert focused(page) == page.locator(toggle).get_attribute("id")
    press(page, "text=Duplicate >> nth=-1")
    assert re.fullmatch(r"chain-m\d", focused(page))
    assert focused(page).removeprefix("chain-") in page.url
    page.select_option("#add-kind", "gate")
    press(page, "#add-plain")
    assert focused(page) == f"chain-{move_of(jobs, song, -1).id}"
    press(page, "text=Remove >> nth=-1")
    assert page.evaluate("document.activeElement.tagName") == "H1"
    page.keyboard.press("Control+z")
    at_rest(page)
    assert page.evaluate("document.activeElement.tagName") == "H1"


def test_a_handle_keeps_the_focus_when_the_screen_is_drawn_anew(at_moves):
    page, jobs, song = at_moves
    page.wait_for_selector("#handle-bands-1-hz")
    page.locator("#handle-bands-1-hz").focus()
    page.keyboard.press("ArrowRight")
    at_rest(page)
    page.keyboard.press("Control+z")
    at_rest(page)
    until(page, f"{FOCUSED} === 'handle-bands-1-hz'")
    assert move_of(jobs, song, 0).bands[1].hz == 400


def test_undo_takes_bands_off_the_screen(at_moves):
    page, _jobs, _song = at_moves
    page.wait_for_selector("#handle-bands-1-hz")
    press(page, '[id^="do-add-to-bands"]')
    page.wait_for_selector("#handle-bands-2-hz")
    page.keyboard.press("Control+z")
    page.wait_for_selector("#handle-bands-2-hz", state="detached")
    at_rest(page)
    assert page.locator(".items .item").count() == 2


def test_of_several_screens_asked_for_the_last_is_shown(at_moves):
    page, _, song = at_moves
    page.evaluate(
        """() => {
          for (const name of ["intake", "hand-off", "lanes"]) {
            document.querySelector(`#spine [data-stage="${name}"]`).click();
          }
        }"""
    )
    page.wait_for_selector("h1:has-text('who hides whom')")
    at_rest(page)
    assert f"/sessions/{song}/lanes" in page.url and "leader=" in page.url
    assert page.get_attribute('#spine [data-stage="lanes"]', "aria-current") == "page"
    page.go_back()
    page.wait_for_selector("h1:has-text('Tuba')")
    assert "/moves" in page.url


def test_a_screen_is_drawn_anew_without_losing_what_is_typed(server, own_song, browser):
    address, _ = server
    page, _ = open_page(browser, f"{address}/sessions/{own_song}/intake")
    page.fill('[aria-label="Fader of Kick"]', "-3")
    page.locator('[aria-label="Fader of Tuba"]').focus()
    page.keyboard.press("Control+a")
    page.keyboard.type("-12")
    at_rest(page)
    assert page.input_value('[aria-label="Fader of Tuba"]') == "-12"
    assert "Fader of Tuba" in page.evaluate("document.activeElement.ariaLabel")
    page.context.close()


def test_every_control_has_an_id_of_its_own(server, own_song, browser):
    address, jobs = server
    for kind in ("multiband", "drawn duck"):
        jobs.library.edit(own_song, None, AddMove(part="tuba", kind=kind).apply)
    page, errors = open_page(browser, "about:blank")
    for screen in ("intake", "lanes", "moves?part=tuba&move=m1", "moves?part=tuba&move=m2", "hand-off"):
        page.goto(f"{address}/sessions/{own_song}/{screen}")
        at_rest(page)
        found = page.evaluate(NAMELESS)
        assert found == [], screen
        twice = page.evaluate(TWICE)
        assert twice == [], screen
    assert errors == []
    page.context.close()


def test_the_outline_of_the_deck_is_that_of_the_last_change(server, own_song, browser):
    address, jobs = server
    page, errors = open_page(browser, f"{address}/sessions/{own_song}/intake")
    at_rest(page)

    def is_last(answer) -> bool:
        head = jobs.library.head(own_song)
        return head.document.part("tuba").fader_db == -60 and is_outline_of(answer, head.id)

    with page.expect_response(is_last) as found:
        for part in ("Kick", "Tuba"):
            page.fill(f'[aria-label="Fader of {part}"]', "-60")
            page.keyboard.press("Tab")
            at_rest(page)
    assert max(high for _, high in found.value.json()["columns"]) < 0.01
    assert errors == []
    page.context.close()


def is_outline_of(answer, revision: int) -> bool:
    if "song-outline" not in answer.url or f"revision={revision}&" not in answer.url:
        return False
    try:
        return answer.json()["columns"] is not None
    except PlaywrightError:
        # It was for the page that was left.
        return False


def test_a_flip_is_matched_to_what_was_heard_before_the_first(server, own_song, browser):
    address, jobs = server
    page, errors = open_page(browser, f"{address}/sessions/{own_song}/moves?part=tuba")
    at_rest(page)
    heard = jobs.library.head(own_song).id
    with page.expect_request(lambda asked: f"reference={heard}" in asked.url and "/match" in asked.url):
        page.click('[aria-label="Keep this variant and go on with a copy"]')
    at_rest(page)
    assert page.evaluate("pondel.state.reference") == heard
    assert errors == []
    page.context.close()


def test_sound_that_the_browser_kept_is_played_by_the_next_page(server, own_song, browser):
    address, _ = server
    page, errors = open_page(browser, f"{address}/sessions/{own_song}/moves?part=tuba")
    for screen in ("moves?part=tuba", "intake", "intake"):
        page.goto(f"{address}/sessions/{own_song}/{screen}")
        at_rest(page)
        page.keyboard.press("Space")
        until(page, "pondel.player.playing")
        at_rest(page)
    assert page.locator("#messages .message").count() == 0
    assert errors == []
    page.context.close()


WANTED_HASH = """async () => {
  const { state } = pondel;
  const what = { hear: state.hear, state: state.side, revision: state.facts.revision };
  const query = new URLSearchParams({ ...what, ...state.loop });
  return (await (await fetch(`/sessions/${state.facts.id}/listen?${query}`)).json()).hash;
}"""


def test_a_second_seek_while_the_first_loads_plays_on(at_moves):
    page, _, _ = at_moves
    page.click("#play")
    until(page, "pondel.player.playing")
    page.evaluate("() => { for (const s of [1.1, 2.3, 3.7, 5.2]) pondel.player.seek(s); }")
    until(page, "pondel.player.playing && pondel.player.position() >= 5.2")
    assert page.get_attribute("#play", "aria-pressed") == "true"
    page.evaluate("pondel.player.seek(2.6)")
    page.click("#play")
    until(page, "!pondel.player.isOn")
    assert page.get_attribute("#play", "aria-pressed") == "false"


def test_a_side_chosen_while_an_edit_is_under_way_is_the_one_that_is_heard(at_moves):
    page, _, _ = at_moves
    page.click("#play")
    until(page, "pondel.player.playing")
    track = "#stage .track >> nth=0"
    for keys in ("bb", "b", "b"):
        page.focus(track)
        page.keyboard.press("ArrowRight")
        page.keyboard.press("ArrowRight")
        for key in keys:
            page.keyboard.press(key)
        at_rest(page)
        until(page, "pondel.player.isSettled()")
        assert page.evaluate("pondel.player.layer.sound.hash") == page.evaluate(WANTED_HASH)


def test_steps_by_key_on_one_handle_are_one_undo(at_moves):
    page, jobs, song = at_moves
    page.wait_for_selector(".handle")
    before = move_of(jobs, song, 0)
    page.locator(".handle").first.focus()
    revision = page.evaluate("pondel.state.facts.revision")
    page.keyboard.press("ArrowRight")
    until(page, f"pondel.state.facts.revision !== {revision}")
    for _ in range(3):
        page.keyboard.press("ArrowRight")
    at_rest(page)
    assert move_of(jobs, song, 0) != before
    page.click("#undo")
    at_rest(page)
    assert move_of(jobs, song, 0) == before


def test_a_refused_value_leaves_its_field_and_the_button_lives(at_moves):
    page, jobs, song = at_moves
    typed = "#stage .typed >> nth=0"
    held = page.input_value(typed)
    for _ in range(2):
        page.fill(typed, "loud")
        page.press(typed, "Enter")
        at_rest(page)
        assert page.input_value(typed) == held
    before = move_of(jobs, song, 0)
    page.fill(typed, "55 Hz")
    page.press(typed, "Enter")
    at_rest(page)
    assert move_of(jobs, song, 0) != before


def test_the_wheel_turns_only_what_has_the_focus(at_moves):
    page, jobs, song = at_moves
    before = move_of(jobs, song, 0)
    page.hover("#stage .track >> nth=0")
    page.mouse.wheel(0, -200)
    at_rest(page)
    assert move_of(jobs, song, 0) == before
    page.focus("#stage .track >> nth=0")
    page.mouse.wheel(0, -200)
    until(page, "pondel.state.facts.undo !== null && pondel.isAtRest()")
    assert move_of(jobs, song, 0) != before


def touch(page, kind: str, *at: tuple[float, float]) -> None:
    """What a finger does, as the browser hears it from the system."""
    points = [{"x": x, "y": y} for x, y in at]
    page.finger.send("Input.dispatchTouchEvent", {"type": kind, "touchPoints": points})


@pytest.fixture
def touched(server, own_song, browser):
    """A page under a finger, at Moves with a compressor on the tuba."""
    address, jobs = server
    move = AddMove(part="tuba", kind="compressor", values={"key": {"source": "kick"}})
    jobs.library.edit(own_song, None, move.apply)
    at = f"{address}/sessions/{own_song}/moves?part=tuba&move=m1"
    page, errors = open_page(browser, at, has_touch=True)
    page.finger = page.context.new_cdp_session(page)
    yield page, jobs, own_song
    assert errors == []
    page.context.close()


def test_a_finger_turns_a_control_and_what_the_system_takes_away_is_given_up(touched):
    page, jobs, song = touched
    x, y = middle_of(page, "[data-target*='threshold_db'] .track")
    touch(page, "touchStart", (x, y))
    touch(page, "touchMove", (x + 40, y))
    touch(page, "touchEnd")
    at_rest(page)
    held = move_of(jobs, song, 0).threshold_db
    assert held > -40
    touch(page, "touchStart", (x, y))
    touch(page, "touchMove", (x - 60, y))
    at_rest(page)
    assert move_of(jobs, song, 0).threshold_db < held
    touch(page, "touchCancel")
    at_rest(page)
    assert move_of(jobs, song, 0).threshold_db == held
    page.goto(page.url.replace("moves", "lanes"))
    page.wait_for_selector("[data-lane-ridge] .curve")
    low, high = page.input_value("#zone-low"), page.input_value("#zone-high")
    x, y = middle_of(page, "[data-lane-ridge]")
    touch(page, "touchStart", (x, y))
    touch(page, "touchMove", (x + 10, y))
    touch(page, "touchMove", (x + 120, y))
    until(page, f"document.getElementById('zone-high').value !== '{high}'")
    touch(page, "touchCancel")
    until(page, f"document.getElementById('zone-high').value === '{high}'")
    assert page.input_value("#zone-low") == low


def test_a_hand_that_only_clicks_moves_no_handle_and_a_grip_beside_its_middle_does_not_jump(at_moves):
    page, jobs, song = at_moves
    page.wait_for_selector("#handle-bands-0-hz")
    before, revision = move_of(jobs, song, 0).bands[0], jobs.library.head(song).id
    x, y = middle_of(page, "#handle-bands-0-hz .handle-grip")
    page.mouse.move(x + 9, y)
    page.mouse.down()
    page.mouse.move(x + 11, y)
    page.mouse.up()
    at_rest(page)
    assert jobs.library.head(song).id == revision
    page.mouse.down()
    page.mouse.move(x + 15, y, steps=3)
    at_rest(page)
    hz = move_of(jobs, song, 0).bands[0].hz
    assert before.hz * 1.005 < hz < before.hz * 1.06
    page.keyboard.press("Escape")
    at_rest(page)
    assert move_of(jobs, song, 0).bands[0].hz == before.hz
    page.mouse.up()


@pytest.mark.parametrize("grip", ["#handle-bands-0-hz .handle-grip", ".control .grip"])
def test_a_drag_that_begins_on_selected_text_is_no_drag_of_the_text(at_moves, grip):
    """The browser would take the pointer away, and the value would go back."""
    page, jobs, song = at_moves
    page.wait_for_selector("#handle-bands-0-hz")
    before, revision = move_of(jobs, song, 0).bands[0], jobs.library.head(song).id
    page.evaluate("getSelection().selectAllChildren(document.body)")
    x, y = middle_of(page, grip)
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(x + 30, y, steps=6)
    page.mouse.up()
    at_rest(page)
    assert jobs.library.head(song).id > revision and move_of(jobs, song, 0).bands[0] != before


def test_what_the_hit_editor_says_is_what_it_does_and_its_cursor_stays(server, own_song, browser):
    """A cursor 20 ms beside a hit is on it: Pondel takes two that near for one."""
    address, jobs = server
    page, errors = open_page(browser, f"{address}/sessions/{own_song}/intake?part=kick")

    def hits() -> list[float]:
        return jobs.desk.hits_s(jobs.library.head(own_song).document.part("kick")).tolist()

    before = hits()
    page.wait_for_selector('[data-plot="hits"] canvas')
    page.focus('[data-plot="hits"]')
    page.keyboard.press("ArrowRight")
    page.keyboard.press("Shift+ArrowRight")
    page.keyboard.press("Shift+ArrowRight")
    said = page.locator('[data-plot="hits"] .readout')
    assert "Enter removes it" in said.inner_text()
    page.keyboard.press("Enter")
    page.wait_for_selector("text=Enter adds one")
    at_rest(page)
    assert hits() == before[1:]
    # Where the cursor was: Enter there brings it back.
    page.keyboard.press("Enter")
    page.wait_for_selector("text=Enter removes it")
    at_rest(page)
    assert hits() == before
    # By pointer: far from any hit in time, on it for the hand.
    box = page.locator('[data-plot="hits"]').bounding_box()
    seconds = page.evaluate("pondel.state.facts.seconds")
    page.mouse.move(box["x"] + box["width"] * (hits()[3] + 0.04) / seconds, box["y"] + 30)
    assert "a click removes it" in said.inner_text()
    page.mouse.down()
    page.mouse.up()
    at_rest(page)
    assert len(hits()) == len(before) - 1 and before[3] not in hits()
    assert errors == []
    page.context.close()


def test_a_file_that_came_in_while_the_screen_was_drawn_anew_is_shown(
    server, own_song, browser, tmp_path
):
    """An older answer takes the list's place while the one that knows of the file is on its way."""
    address, _ = server
    page, errors = open_page(browser, f"{address}/sessions/{own_song}/intake")
    held = []
    page.route(re.compile(r"/intake(\?|$)"), lambda route: held.append(route))
    page.evaluate(
        """() => {
          document.getElementById("arrivals").dataset.old = "";
          const link = document.createElement("a");
          Object.assign(link, { href: location.href });
          link.dataset.soft = "";
          document.getElementById("stage").append(link);
          link.click();
        }"""
    )
    while len(held) < 1:
        page.wait_for_timeout(20)
    before = held[0].fetch()
    soundfile.write(tmp_path / "horn.wav", sine(200, 2), 48000)
    page.set_input_files("#files", str(tmp_path / "horn.wav"))
    while len(held) < 2:
        page.wait_for_timeout(20)
    after = held[1].fetch()
    (older, newer) = held
    assert "still to be read" not in before.text()
    older.fulfill(response=before)
    page.wait_for_selector("#arrivals[data-old]", state="detached")
    newer.fulfill(response=after)
    page.unroute_all()
    until(page, "document.querySelectorAll('#stage .intake-table tbody tr').length === 3")
    assert errors == []
    page.context.close()
