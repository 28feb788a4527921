"""Ways to make room in the browser: opened from a part, heard point by point, and kept."""

from __future__ import annotations

import re
import threading

import pytest
from browser_tools import at_rest, open_page, until

from pondel.jobs.judge import Judge


@pytest.fixture
def ways(server, own_song, browser):
    """The screen with all its points, opened from Moves."""
    address, jobs = server
    page, errors = open_page(browser, f"{address}/sessions/{own_song}/moves?part=tuba&leader=kick")
    page.click("#ways-link")
    page.wait_for_selector("#ways:not([data-poll]) .plane", timeout=60_000)
    yield page, lambda: jobs.library.head(own_song).document
    assert errors == []
    page.context.close()


def heard(page):
    """The name of the sound that would be played now."""
    return page.evaluate("pondel.state.view.tryout ?? null")


def test_a_point_is_heard_in_its_place_and_nothing_changes_until_it_is_kept(ways):
    page, document = ways
    asked = []
    page.on("request", lambda one: asked.append(one.url) if "/listen" in one.url else None)
    page.click("#play")
    until(page, "pondel.player.playing")
    page.locator(".plane .way-reach").nth(4).click(force=True)
    page.wait_for_selector("#keep-way")
    chosen = heard(page)
    until(page, "pondel.player.isSettled()")
    assert any(f"tryout={chosen}" in url for url in asked)
    assert page.locator(".way-chosen").count() == 1
    assert document().part("tuba").moves == []
    row = page.locator(".ways-table tr.here")
    clearer = row.locator("td").nth(1).text_content()
    assert re.fullmatch(r"[+−]?\d+\.\d dB", clearer.strip())
    page.click("#keep-way")
    page.wait_for_selector(".began")
    (move,) = document().part("tuba").moves
    assert move.began.leader == "kick"
    assert heard(page) is None
    page.keyboard.press("Control+z")
    at_rest(page)
    assert document().part("tuba").moves == []


def test_by_keys_alone_an_amount_is_chosen_and_kept_as_a_variant(ways):
    page, document = ways
    page.focus(".ways-table .amount >> nth=1")
    page.keyboard.press("Enter")
    page.wait_for_selector("#keep-way-as-variant")
    chosen = page.text_content("aside h2")
    page.focus("#keep-way-as-variant")
    page.keyboard.press("Enter")
    page.wait_for_selector(".began")
    until(page, "pondel.state.facts.variants.length === 2")
    assert len(document().part("tuba").moves) == 1 and chosen


def test_the_picture_has_its_table_and_a_way_that_was_forgotten_says_so(ways):
    page, _ = ways
    ranked, aside = page.locator(".ways-table").all()
    kinds = ranked.locator("tbody tr").count()
    assert kinds >= 6 and page.locator(".plane .way-name").count() == kinds
    points = page.locator(".plane .way-dot").count()
    assert points == ranked.locator(".amount").count()
    assert aside.locator("tbody th").all_text_contents() == ["Pan"]
    assert aside.locator(".amount").count() == 5
    usual = page.locator(".plane .way-dot.usual").count()
    assert usual <= kinds
    song = page.evaluate("pondel.state.facts.id")
    answer = page.request.get(
        f"{page.url.partition('/sessions')[0]}/sessions/{song}/listen?tryout=gone"
    )
    assert answer.status == 404 and "forgotten" in answer.text()


def test_a_search_tells_how_far_it_is_is_stopped_and_stays_in_its_loop(ways, monkeypatch):
    page, _ = ways
    # A loop whose ends are no round numbers, kept by an earlier visit.
    song = page.evaluate("pondel.state.facts.id")
    loop = '{"start_s": 2.00001234, "end_s": 6.12345678}'
    page.evaluate("([name, loop]) => localStorage.setItem(name, loop)", [f"pondel-loop-{song}", loop])
    page.goto(f"{page.url.partition('/ways')[0]}/moves?part=tuba&leader=kick")
    page.click("#ways-link")
    page.wait_for_selector("#ways:not([data-poll]) .plane", timeout=60_000)
    page.locator(".ways-table .amount").nth(2).click()
    page.wait_for_selector("#look-for-better")
    chosen, may_go_on, of = heard(page), threading.Event(), Judge.of

    def held(self, *given):
        may_go_on.wait(30)
        return of(self, *given)

    monkeypatch.setattr(Judge, "of", held)
    page.click("#look-for-better")
    page.wait_for_selector("#ways >> text=/1 of 40 tries/")
    assert "start_s=2" in page.url and heard(page) == chosen
    page.focus("#stop-looking")
    page.keyboard.press("Enter")
    at_rest(page)
    may_go_on.set()
    page.wait_for_selector("#ways:not([data-poll]) >> text=/Nothing better was found/", timeout=60_000)
    assert "start_s=2" in page.url and heard(page) == chosen
    assert page.locator("#keep-way").count() == 1 and page.locator("#stop-looking").count() == 0


def test_better_is_looked_for_near_a_point_and_said_to_be_found_or_not(ways):
    page, _ = ways
    page.focus(".ways-table .amount >> nth=2")
    page.keyboard.press("Enter")
    page.wait_for_selector("#look-for-better")
    page.click("#look-for-better")
    page.wait_for_selector(
        "#ways:not([data-poll]) >> text=/Diamond|Nothing better was found/", timeout=60_000
    )
    assert page.locator("#look-for-better").count() == 0
