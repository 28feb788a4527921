"""Ridges: who hides how much of a part, where; and many of them on a page that goes on playing."""

from __future__ import annotations

import threading

import numpy as np
import pytest
from browser_tools import at_rest, open_page, until
from test_clear import HIGH, steady, table_of

from pondel.core.hearing.ridges import ridge_of
from pondel.core.reading import parse_session, to_json

MANY = 40
BOX = "(place) => { const {left, width} = place.getBoundingClientRect(); return [left, width]; }"

BUSY_FOR_A_SECOND = """() => {
  const { layer, context } = pondel.player;
  const ends = performance.now() + 1000;
  while (performance.now() < ends);
  return layer.until - context.currentTime;
}"""
EIGHT_QUESTIONS = """async () => {
  const shipped = document.querySelector("script[type=module]").src;
  const { about, getInTurn } = await import(shipped.replace("app.js", "api.js"));
  for (let n = 0; n < 8; n++) getInTurn(about("spectra", { n })).catch(() => {});
}"""


def test_what_is_hidden_falls_to_the_hiders_by_their_excitation():
    """Ten decibels more excitation are ten times the share; where nothing sounds nothing is hidden."""
    ridge = ridge_of(table_of({"a": steady(55), "b": steady(60), "c": steady(50)}), "a")
    assert ridge.alone.max() == 1.0 and not ridge.hidden[~HIGH].any()
    assert {main for main, high in zip(ridge.main, HIGH, strict=True) if high} == {"b"}
    for place in np.flatnonzero(HIGH & (ridge.alone > 0.05)):
        most, least = ridge.by["b"][place], ridge.hidden[place] - ridge.by["b"][place]
        assert 0.1 < ridge.hidden[place] <= 1.0
        assert most / least == pytest.approx(10, rel=0.01)
    assert set(ridge.by["b"]) <= set(np.flatnonzero(HIGH))


def test_a_part_by_itself_and_a_silent_one_lose_nothing():
    table = table_of({"a": steady(55), "none": steady(-100)})
    for part in ("a", "none"):
        ridge = ridge_of(table, part)
        assert not ridge.hidden.any() and ridge.by == {}
    assert ridge_of(table, "none").alone.max() <= 1.0


@pytest.fixture
def many(server, own_song):
    """A session of many parts, two recordings in turn."""
    jobs = server[1]
    data = to_json(jobs.library.head(own_song).document)
    first = data["parts"]
    data["parts"] = [
        {**first[n % 2], "id": f"p{n}", "name": f"Part {n}", "moves": []} for n in range(MANY)
    ]
    data["zones"] = []
    return jobs.library.create(parse_session(data), rate_known=True)


@pytest.fixture
def opened(server, many, browser):
    """A function that opens a screen of that session; no page of it may meet an error."""
    pages = []

    def show(screen: str, **options):
        pages.append(open_page(browser, f"{server[0]}/sessions/{many}/{screen}", **options))
        return pages[-1][0]

    yield show
    for page, errors in pages:
        assert errors == []
        page.context.close()


NEVER_IDLE = "window.idle = []; window.requestIdleCallback = (work) => idle.push(work);"
GIVEN_TIME = "(left_ms) => idle.shift()({ timeRemaining: () => left_ms })"


@pytest.fixture
def never_idle(browser):
    """A browser whose pages have no time but what a test gives them."""

    class NeverIdle:
        def new_context(self, **options):
            context = browser.new_context(**options)
            context.add_init_script(NEVER_IDLE)
            return context

    return NeverIdle()


def test_rows_out_of_view_are_drawn_when_the_page_has_time(server, many, never_idle):
    page, errors = open_page(never_idle, f"{server[0]}/sessions/{many}/lanes")
    until(page, "idle.length > 0")
    drawn = page.locator("[data-lane-ridge] path.curve")
    in_view = drawn.count()
    page.evaluate(GIVEN_TIME, 1)
    assert drawn.count() == in_view < MANY
    assert page.evaluate("idle.length") == 1, "what is left waits for the next time"
    page.evaluate(GIVEN_TIME, 50)
    assert drawn.count() == MANY
    assert page.evaluate("idle.length") == 0
    assert errors == []
    page.context.close()


def test_soon_all_rows_are_drawn(opened):
    page = opened("lanes")
    until(page, f"document.querySelectorAll('[data-lane-ridge] path.curve').length === {MANY}")


@pytest.mark.parametrize("width", [1024, 1280, 1920])
def test_of_many_rows_those_in_view_are_drawn_over_an_axis_of_their_width(
    server, many, never_idle, width
):
    page, errors = open_page(
        never_idle,
        f"{server[0]}/sessions/{many}/lanes",
        viewport={"width": width, "height": 800},
    )
    page.wait_for_selector("[data-lane=p0] path.curve")
    at_rest(page)
    drawn = page.locator("[data-lane-ridge] svg").count()
    assert 5 < drawn < MANY
    assert page.locator(f"[data-lane=p{MANY - 1}] svg").count() == 0
    ridge = page.eval_on_selector("[data-lane-ridge]:has(svg)", BOX)
    axis = page.eval_on_selector("[data-lane-axis]", BOX)
    assert ridge == pytest.approx(axis, abs=0.6)
    page.evaluate("document.getElementById('lanes-rows').scrollTo(0, 1e5)")
    page.wait_for_selector(f"[data-lane=p{MANY - 1}] path.curve")
    page.hover(f"[data-lane=p{MANY - 1}] [data-lane-ridge]")
    line = page.eval_on_selector("[data-lane-cursor]", BOX)
    middle = ridge[0] + ridge[1] / 2
    # The line stands at the nearest of the places, which are half a Cam apart.
    assert line[0] == pytest.approx(middle, abs=ridge[1] / 60)
    assert errors == []
    page.context.close()


def test_when_it_is_printed_every_row_is_drawn(opened):
    page = opened("lanes")
    page.wait_for_selector("[data-lane=p0] path.curve")
    at_rest(page)
    page.pdf()
    assert page.locator("[data-lane]:not([hidden]) [data-lane-ridge] svg").count() == MANY


def test_an_axis_as_wide_as_the_page_was_does_not_widen_it(opened):
    """Its width is told by the browser a moment after the page got narrower."""
    page = opened("lanes", viewport={"width": 1920, "height": 800})
    page.wait_for_selector("[data-lane=p0] path.curve")
    at_rest(page)
    out_px = page.eval_on_selector(
        "#lanes-plot",
        """(plot) => {
          plot.style.width = `${plot.clientWidth - 400}px`;
          const right = (one) => one.getBoundingClientRect().right;
          return right(plot.querySelector("[data-lane-axis]")) - right(plot);
        }""",
    )
    assert out_px <= 0.6


def test_sound_and_changes_find_a_connection_while_all_questions_wait(server, many, opened):
    """A browser keeps six connections to a server; a screen may ask for more than six things."""
    jobs = server[1]
    page = opened("intake")
    held, release = threading.Event(), threading.Event()

    def hold():
        held.set()
        assert release.wait(120)

    holding = threading.Thread(target=jobs.turns.take, args=("hold", "another page", hold))
    holding.start()
    assert held.wait(10)
    try:
        page.click("#spine [data-stage=lanes]")
        page.wait_for_selector("#fights")
        page.evaluate(EIGHT_QUESTIONS)
        page.click("#play")
        until(page, "pondel.player.playing")
        revision = jobs.library.head(many).id
        for edge, hz in (("low", "50"), ("high", "90")):
            page.fill(f"#zone-{edge}", hz)
            page.press(f"#zone-{edge}", "Enter")
        page.click("#decide-leader")
        until(page, f"pondel.state.facts.revision > {revision}")
    finally:
        release.set()
        holding.join()
    page.wait_for_selector("[data-lane=p0] path.curve")


def test_a_page_that_is_busy_with_drawing_for_a_second_plays_on(opened):
    page = opened("lanes")
    page.click("#play")
    until(page, "pondel.player.playing")
    until(page, "pondel.player.layer.until - pondel.player.context.currentTime > 1.4")
    assert page.evaluate(BUSY_FOR_A_SECOND) > 0.0
