"""The plan for the whole mix in the browser: read, struck, heard and kept, by pointer and by keys."""

from __future__ import annotations

import pytest
from axe_playwright_python.sync_playwright import Axe
from browser_tools import at_rest, open_page, until

from pondel.core.operations import parse_operation


@pytest.fixture
def plan(server, own_song, browser):
    """The screen of a session with one decided fight, opened from Lanes."""
    address, jobs = server
    decided = {"op": "decide", "leads": "kick", "gives_way": "tuba", "low_hz": 45, "high_hz": 120}
    jobs.desk.do(own_song, [parse_operation(decided)])
    page, errors = open_page(browser, f"{address}/sessions/{own_song}/lanes")
    page.wait_for_selector("#plan-link")
    page.focus("#plan-link")
    page.keyboard.press("Enter")
    page.wait_for_selector("#keep-plan", timeout=60_000)
    yield page, lambda: jobs.library.head(own_song).document
    assert errors == []
    page.context.close()


def test_a_plan_is_heard_and_nothing_changes_until_it_is_kept_in_one_step(plan):
    page, document = plan
    asked = []
    page.on("request", lambda one: asked.append(one.url) if "/listen" in one.url else None)
    page.click("#play")
    until(page, "pondel.player.playing")
    heard = page.evaluate("pondel.state.view.tryout")
    at_rest(page)
    assert any(f"tryout={heard}" in url for url in asked)
    assert "for" in page.text_content(".plan-table tbody th")
    assert document().part("tuba").moves == []
    page.click("#keep-plan")
    page.wait_for_selector(".began")
    (move,) = document().part("tuba").moves
    assert move.began.leader == "kick"
    assert page.evaluate("pondel.state.view.tryout ?? null") is None
    page.keyboard.press("Control+z")
    at_rest(page)
    assert document().part("tuba").moves == []


def test_it_breaks_no_accessibility_rule_and_a_line_is_struck_by_keys_and_the_focus_stays(plan):
    page, _ = plan
    for sheet in ("day", "night"):
        page.evaluate("sheet => (document.documentElement.dataset.sheet = sheet)", sheet)
        found = Axe().run(page)
        assert found.violations_count == 0, f"{sheet}\n{found.generate_report()}"
    page.focus("#strike-0")
    page.keyboard.press("Enter")
    page.wait_for_selector("aside >> text=Nothing is left of the plan.")
    until(page, "document.activeElement.id === 'strike-0'")
    assert page.evaluate("pondel.state.view.tryout ?? null") is None
    page.keyboard.press("Enter")
    page.wait_for_selector("#keep-plan-as-variant")
    until(page, "document.activeElement.id === 'strike-0'")
    page.focus("#keep-plan-as-variant")
    page.keyboard.press("Enter")
    page.wait_for_selector(".began")
    until(page, "pondel.state.facts.variants.length === 2")
