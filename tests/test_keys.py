"""The job by keys: short ways between regions, one stop a control, refusals and news in their place."""

from __future__ import annotations

import pypdfium2
import pytest
from browser_tools import at_rest, open_page, until

from pondel.core.operations.parts import SetPart

SONG_S = 4.0
NAME = """() => {
  const e = document.activeElement;
  const by = e.getAttribute('aria-labelledby');
  return (e.getAttribute('aria-label') || (by && document.getElementById(by)?.textContent)
    || e.labels?.[0]?.textContent || e.textContent || '').trim();
}"""
FOCUSED = "document.activeElement.id"


class Hands:
    """Presses keys on a page, and counts them."""

    def __init__(self, page) -> None:
        self.page, self.count = page, 0

    def press(self, *keys: str) -> None:
        for key in keys:
            self.page.keyboard.press(key)
            self.count += 1

    def tab_to(self, name: str) -> None:
        while not self.page.evaluate(NAME).startswith(name):
            assert self.count < 200, f"Tab never came to {name!r}"
            self.press("Tab")


def test_the_first_duck_takes_at_most_45_keys(server, own_song, browser):
    """From the first screen to a threshold that was changed, as docs/first-duck.md goes."""
    address, jobs = server
    page, errors = open_page(browser, f"{address}/sessions/{own_song}/lanes?leader=kick&yielder=tuba")
    page.wait_for_selector("#treat")
    hands = Hands(page)
    assert page.evaluate(FOCUSED) == "play"
    hands.press("Shift+F6")
    hands.tab_to("Treat")
    hands.press("Enter")
    page.wait_for_selector("#add-for")
    until(page, "document.activeElement.tagName === 'H1'")
    hands.press("F6")
    hands.tab_to("Make way for Kick")
    hands.press("Enter")
    until(page, "document.activeElement.id.startsWith('chain-')")
    at_rest(page)
    hands.press("F6", "F6")
    hands.tab_to("Threshold")
    hands.press(*"-33", "Enter")
    at_rest(page)
    move = jobs.library.head(own_song).document.part("tuba").moves[-1]
    bands = getattr(move, "bands", None) or [move]
    assert next(band.threshold_db for band in bands if hasattr(band, "threshold_db")) == -33
    # On the track again, from which it goes on by arrows.
    assert page.evaluate("document.activeElement.getAttribute('role')") == "slider"
    assert hands.count <= 45, hands.count
    assert errors == []
    page.context.close()


@pytest.fixture
def at_moves(server, own_song, browser):
    address, jobs = server
    from pondel.core.operations import parse_operation

    duck = {"op": "give way", "part": "tuba", "leader": "kick", "kind": "compressor"}
    jobs.desk.do(own_song, [parse_operation(duck)])
    page, errors = open_page(browser, f"{address}/sessions/{own_song}/moves?part=tuba&leader=kick")
    yield page, jobs, own_song
    # A refusal is an answer of 400, which the browser tells as an error too.
    assert [one for one in errors if "400 (BAD REQUEST)" not in one] == []
    page.context.close()


def move_of(jobs, song):
    return jobs.library.head(song).document.part("tuba").moves[-1]


def test_a_value_is_typed_kept_and_given_up_without_losing_the_focus(at_moves):
    page, jobs, song = at_moves
    track = "[data-target*='threshold_db'] .track"
    page.focus(track)
    ident = page.evaluate(FOCUSED)
    # A digit opens the typed field, and is no shortcut to another screen there.
    page.keyboard.type("-41")
    assert page.evaluate("document.activeElement.className") == "typed"
    page.keyboard.press("Escape")
    assert page.evaluate(FOCUSED) == ident and page.url.count("/moves") == 1
    assert move_of(jobs, song).threshold_db != -41
    page.keyboard.type("-41")
    page.keyboard.press("Enter")
    at_rest(page)
    assert page.evaluate(FOCUSED) == ident and move_of(jobs, song).threshold_db == -41
    # One stop: Tab goes on to the next control.
    page.keyboard.press("Tab")
    assert page.evaluate("document.activeElement.getAttribute('role')") == "slider"
    assert page.evaluate(FOCUSED) != ident


def test_a_refusal_stands_beside_its_control_and_says_what_can_be_typed(at_moves):
    page, jobs, song = at_moves
    held = move_of(jobs, song).attack_ms
    page.focus("[data-target*='attack_ms'] .track")
    page.keyboard.press("Enter")
    page.keyboard.type("quick")
    page.keyboard.press("Enter")
    page.wait_for_selector(".refusal")
    field = page.locator("[data-target*='attack_ms'] .typed")
    refusal = page.inner_text(f"#{field.get_attribute('aria-describedby')}")
    assert "quick" in refusal and "1/8" in refusal
    assert field.get_attribute("aria-invalid") == "true" and not page.locator(".message").count()
    assert move_of(jobs, song).attack_ms == held and field.input_value().startswith(f"{held:g}")
    below = page.locator(".refusal").bounding_box()["y"] - field.bounding_box()["y"]
    assert 0 < below < 60
    page.keyboard.press("ArrowRight")
    at_rest(page)
    assert page.locator(".refusal").count() == 0 and move_of(jobs, song).attack_ms > held


def test_regions_are_gone_round_and_skipped_to(at_moves):
    page, _, _ = at_moves
    page.locator("body").press("Tab")
    assert page.evaluate(FOCUSED).startswith("skip-")
    shown = page.eval_on_selector_all(
        "#skip a", "all => all.filter((a) => !a.hidden).map((a) => a.textContent)"
    )
    assert shown == ["Controls", "Picture", "Deck"]
    page.keyboard.press("Enter")
    inside = (
        "(name) => document.querySelector(`[data-region=${name}]`).contains(document.activeElement)"
    )
    assert page.evaluate(inside, "controls")
    for name in ("deck", "strip", "stages", "chain", "picture", "controls"):
        page.keyboard.press("F6")
        assert page.evaluate(inside, name), name
    page.keyboard.press("Shift+F6")
    assert page.evaluate(inside, "picture")


def test_single_keys_leave_sliders_alone_and_can_be_switched_off(at_moves):
    page, _, _ = at_moves
    page.focus("[data-target*='threshold_db'] .track")
    page.keyboard.press("b")
    assert page.evaluate("pondel.state.side") == "after"
    page.focus("h1")
    page.locator("main").focus()
    page.keyboard.press("b")
    assert page.evaluate("pondel.state.side") == "before"
    page.click("#help")
    page.uncheck("#single-keys")
    page.click("#shortcuts button:text-is('Close')")
    page.locator("main").focus()
    page.keyboard.press("b")
    assert page.evaluate("pondel.state.side") == "before"
    page.reload()
    page.wait_for_selector("#chain")
    page.locator("main").focus()
    page.keyboard.press("b")
    assert page.evaluate("pondel.state.side") == "after"
    page.keyboard.press("F6")
    assert page.evaluate(FOCUSED) != "stage"


def test_what_happened_is_told_in_one_line_and_titles_name_what_is_in_view(at_moves):
    page, _, _ = at_moves
    assert page.title().startswith("Tuba gives way to Kick · Moves")
    page.focus("#undo")
    page.keyboard.press("Enter")
    until(page, "/^Undone: /.test(document.getElementById('told').textContent)")
    # Nothing is left to undo: its button cannot keep the focus, what can be done next has it.
    assert page.evaluate(FOCUSED) == "redo"
    page.keyboard.press("Enter")
    until(page, "/^Redone: /.test(document.getElementById('told').textContent)")
    page.keyboard.press("Control+Shift+z")
    until(page, "document.getElementById('told').textContent === 'Nothing to redo'")
    page.click("#variants button:text-is('+')")
    page.wait_for_selector("text=Kept; the copy is open now.")
    until(page, "document.getElementById('told').textContent === ''")


def test_arrows_go_through_the_table_of_hidden_shares(server, own_song, browser):
    address, _ = server
    page, errors = open_page(browser, f"{address}/sessions/{own_song}/lanes?leader=kick&yielder=tuba")
    page.wait_for_selector(".matrix a")
    stops = page.eval_on_selector_all(
        ".matrix >> nth=0 >> a", "all => all.filter((one) => one.tabIndex === 0).length"
    )
    assert stops == 1
    page.focus("#cell-share-kick-tuba")
    # The part that loses most stands first; beside its own cell the next one is as near.
    row = page.evaluate("document.activeElement.closest('tr').rowIndex")
    page.keyboard.press("ArrowUp" if row > 1 else "ArrowDown")
    page.keyboard.press("ArrowLeft")
    assert page.evaluate(FOCUSED) == "cell-share-tuba-kick"
    page.keyboard.press("Enter")
    until(page, "pondel.state.view.leader === 'tuba'")
    assert errors == []
    page.context.close()


def keep_focus(page, selector: str, shown: str) -> None:
    """Press a control by key, wait until the page shows what it did: it has the focus still."""
    page.focus(selector)
    ident = page.evaluate(FOCUSED)
    page.keyboard.press("Enter")
    page.wait_for_selector(shown)
    at_rest(page)
    assert page.evaluate(FOCUSED) == ident, selector


def test_the_focus_stays_where_lists_are_drawn_anew(server, own_song, browser):
    address, _ = server
    page, errors = open_page(browser, f"{address}/sessions/{own_song}/lanes?leader=kick&yielder=tuba")
    keep_focus(page, "#decide-leader", "#decide-leader[aria-pressed=true]")
    page.focus("#treat")
    scrolled = "document.querySelector('.side')"
    page.evaluate(f"{scrolled}.scrollTop = 40")
    before = page.evaluate(f"{scrolled}.scrollTop")
    page.keyboard.press("Control+z")
    page.wait_for_selector("#decide-leader[aria-pressed=true]", state="detached")
    at_rest(page)
    assert page.evaluate(FOCUSED) == "treat" and page.evaluate(f"{scrolled}.scrollTop") == before
    page.keyboard.press("1")
    page.wait_for_selector("#sort-name")
    keep_focus(page, "#sort-name", "th[aria-sort] #sort-name")
    page.focus('[aria-label="Take out Tuba"]')
    page.keyboard.press("Enter")
    page.wait_for_selector('[aria-label="Take out Tuba"]', state="detached")
    at_rest(page)
    assert page.evaluate("document.activeElement.tagName") == "H1"
    page.keyboard.press("Control+z")
    page.wait_for_selector('[aria-label="Take out Tuba"]')
    page.keyboard.press("5")
    page.wait_for_selector("#print")
    keep_focus(page, "#print", ".printed-files a")
    assert errors == []
    page.context.close()


def test_older_steps_of_a_long_history_are_asked_for_by_key(server, own_song, browser):
    address, jobs = server
    for level in range(70):
        jobs.library.edit(
            own_song, None, SetPart(part="tuba", field="fader_db", value=-(level + 1) / 10).apply
        )
    page, errors = open_page(browser, f"{address}/sessions/{own_song}/lanes")
    page.focus("#history-open")
    page.keyboard.press("Enter")
    page.wait_for_selector("#history[open]")
    assert page.locator("#history li").count() == 60
    page.focus("[data-older]")
    page.keyboard.press("Enter")
    page.wait_for_selector("#history li:has-text('Created')")
    assert page.locator("#history li").count() == 71
    until(page, "document.activeElement.textContent.startsWith('Hear')")
    assert page.locator("#history .unit:text-is('now')").count() == 1
    assert errors == []
    page.context.close()


LONG = "The very long name of a part that somebody gave it at night x"[:60]


@pytest.fixture
def crowded(server, own_song):
    """Twenty-four parts with names of sixty signs, that differ at their end."""
    from pondel.core.reading import parse_session, to_json

    jobs = server[1]
    data = to_json(jobs.library.head(own_song).document)
    kick, tuba = data["parts"][:2]
    for n in range(22):
        data["parts"].append(
            {**tuba, "id": f"p{n}", "name": f"{LONG[:57]} {n:02}", "tag": None, "moves": []}
        )
    kick["name"] = LONG
    return jobs.library.create(parse_session(data), rate_known=True)


def test_nothing_is_wider_than_the_page_with_many_parts_and_long_names(server, crowded, browser):
    address, _ = server
    page, errors = open_page(browser, f"{address}/sessions/{crowded}/intake")
    all_there = {
        "intake": ".ledger",
        "lanes": ".matrix td.self",
        "moves?part=p3&leader=kick": ".plot svg.above, #spectra-plot svg",
        "proof": "#proof-sides table",
        "hand-off": "#print",
    }
    for screen, last in all_there.items():
        page.goto(f"{address}/sessions/{crowded}/{screen}")
        page.wait_for_selector(last)
        for width in (320, 1024, 1280, 1920, 2560):
            page.set_viewport_size({"width": width, "height": 800})
            wide = page.evaluate("document.documentElement.scrollWidth - innerWidth")
            assert wide <= 0, (screen, width, wide)
    tags = page.evaluate("pondel.state.facts.parts.map((one) => one.tag)")
    assert len(set(tags)) == len(tags) and all(len(tag) <= 3 for tag in tags)
    assert errors == []
    page.context.close()


def test_every_screen_prints_whole_without_the_deck(server, own_song, browser):
    address, _ = server
    page, errors = open_page(browser, f"{address}/sessions/{own_song}/lanes", color_scheme="dark")
    last = {
        "lanes": "Row hidden by column",
        "proof": "Still to hear",
        "hand-off": "Recall sheet",
        "intake": "Kick",
    }
    for screen, words in last.items():
        page.goto(f"{address}/sessions/{own_song}/{screen}")
        page.wait_for_selector(f"text={words}", state="attached")
        pages = pypdfium2.PdfDocument(page.pdf(format="A4", print_background=True))
        text = "".join(one.get_textpage().get_text_range() for one in pages)
        assert page.inner_text("h1") in text and words in text, screen
        assert "before" not in text.splitlines() and "all saved" not in text, screen
        # Day's paper, whatever the sheet of the screen.
        assert pages[0].render(scale=0.2).to_numpy()[2, 2].min() > 250
    assert errors == []
    page.context.close()


def test_a_picture_and_the_sheet_are_taken_along_by_keys(at_moves):
    page, _, _ = at_moves
    page.focus("#place-details summary")
    page.keyboard.press("Enter")
    page.focus("#take-hit-tuba-m1-svg")
    with page.expect_download() as taken:
        page.keyboard.press("Enter")
    assert taken.value.suggested_filename == "Tuba Compressor hit.svg"
    assert "hits of Kick" in taken.value.path().read_text()
    page.locator("main").focus()
    page.keyboard.press("5")
    page.wait_for_selector("#pictures")
    page.focus("#recall-pdf")
    with page.expect_download() as taken:
        page.keyboard.press("Enter")
    assert taken.value.path().read_bytes().startswith(b"%PDF")


def test_every_handle_says_whose_it_is_and_its_limits(at_moves):
    page, _, _ = at_moves
    page.wait_for_selector("[data-plot='hit'] .handle")
    handles = page.eval_on_selector_all(
        ".handle",
        """all => all.map((one) => [one.ariaLabel, one.ariaValueText,
          ...["now", "min", "max"].map((name) => Number(one.getAttribute(`aria-value${name}`)))])""",
    )
    assert len(handles) >= 2
    for name, words, now, low, high in handles:
        assert name.startswith("Compressor: ") and words and low <= now <= high and low < high, name
