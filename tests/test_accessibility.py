"""Rules of accessibility, the size of targets among them, on every screen and in every state."""

from __future__ import annotations

import re

import pytest
from axe_playwright_python.sync_playwright import Axe
from browser_tools import at_rest, open_page, served

from pondel.core.document import Session
from pondel.core.moves.registry import KINDS
from pondel.core.operations import parse_operation
from pondel.core.reading import parse_session, to_json

SONG_S = 4.0
WAYS = "ways?part=tuba&leader=kick&start_s=0&end_s=4"
SCREENS = (
    "intake?part=kick",
    "lanes?leader=kick&yielder=tuba",
    "plan",
    "proof",
    "hand-off",
    "recall",
    WAYS,
)
NIGHTS = ("lanes?leader=kick&yielder=tuba", "moves?part=tuba&leader=kick&move=multiband", "proof", WAYS)
SIZES = {"rules": {"target-size": {"enabled": True}}}
# Screens share their colours: those of every kind of move are looked at on a few screens.
ALL_BUT_COLOURS = {"rules": {**SIZES["rules"], "color-contrast": {"enabled": False}}}
COLOURS = {"runOnly": ["color-contrast"]}
OWN = {"include": [["aside.controls"], ["[data-region=picture]"]]}
"""What each kind of move has of its own on its screen."""


def breaks(page, options, inside: dict | None = None) -> list[str]:
    """What breaks a rule on a page as it stands, or in a part of it: each rule, and where."""
    told = {**options, "resultTypes": ["violations"]}
    # Its script is long: a page that has it keeps it.
    axe = Axe("") if page.evaluate("Boolean(window.axe)") else Axe()
    found = axe.run(page, context=inside, options=told).response["violations"]
    return [f"{rule['id']}: {node['target'][0]}" for rule in found for node in rule["nodes"]]


def usual(jobs, song, kinds) -> str:
    """A session with moves of these kinds on one part, a decision and a section."""
    data = to_json(jobs.library.head(song).document)
    kick, tuba = data["parts"]
    kick["id"], tuba["id"] = "kick", "tuba"
    keyed = {"key": {"source": "kick"}}
    tuba["moves"] = [
        {"id": kind.name.replace(" ", ""), "kind": kind.name, **(keyed if kind.keyed else {})}
        for kind in kinds
        if kind.pair is None
    ]
    data["sections"] = [{"id": "s", "name": "Verse", "start_s": 1, "end_s": 6}]
    data["zones"] = [{"id": "z", "leads": "kick", "gives_way": ["tuba"], "low_hz": 40, "high_hz": 120}]
    session_id = jobs.library.create(parse_session(data), rate_known=True)
    for kind in kinds:
        if kind.pair is not None:
            ordered = {"op": "give way", "part": "tuba", "leader": "kick", "kind": kind.name}
            jobs.desk.do(session_id, [parse_operation(ordered)])
    return session_id


@pytest.fixture
def full(server, song):
    """With every kind of move there is."""
    return usual(server[1], song, KINDS.values())


@pytest.fixture
def few(server, song):
    """With a few kinds: screens beside Moves say the same of all."""
    return usual(server[1], song, [KINDS[name] for name in ("eq", "compressor", "multiband")])


@pytest.fixture
def page(browser):
    opened, errors = open_page(browser, "about:blank", color_scheme="light")
    yield opened
    assert [one for one in errors if not re.search(r"status of 40[014]", one)] == []
    opened.context.close()


def show(page, address: str) -> None:
    page.goto(address)
    page.wait_for_load_state("networkidle")


SEE_THROUGH = """() => [...document.querySelectorAll('body :not(.overflow-x-auto)')].filter((one) => {
  const { overflowY, backgroundColor } = getComputedStyle(one);
  return /auto|scroll/.test(overflowY) && one.clientHeight && backgroundColor.endsWith(', 0)');
}).map((one) => `${one.tagName} ${one.id} ${one.className}`)"""
"""What scrolls up and down on no ground of its own, and is drawn anew in every frame."""


def test_every_screen_by_day_and_by_night(server, few, page):
    address, jobs = server
    empty = jobs.library.create(Session(name="Empty"))
    inside = [*SCREENS, "moves?part=tuba&leader=kick&move=multiband"]
    paths = [
        "sessions",
        f"sessions/{empty}/lanes",
        f"sessions/{empty}/intake",
        "sessions/nowhere/lanes",
    ]
    for path in [*paths, *(f"sessions/{few}/{one}" for one in inside)]:
        show(page, f"{address}/{path}")
        assert breaks(page, SIZES) == [], path
        assert page.evaluate(SEE_THROUGH) == [], path
        if path.endswith(NIGHTS):
            page.evaluate("document.documentElement.dataset.sheet = 'night'")
            assert breaks(page, COLOURS) == [], f"{path} by night"


def test_every_kind_of_move_with_all_that_unfolds_open(server, full, page):
    moves = server[1].library.head(full).document.part("tuba").moves
    assert {move.kind for move in moves} == set(KINDS)
    show(page, f"{server[0]}/sessions/{full}/moves?part=tuba&leader=kick&move={moves[0].id}")
    for move in moves:
        page.click(f"#chain-{move.id}")
        at_rest(page)
        page.evaluate("document.querySelectorAll('details').forEach((one) => (one.open = true))")
        assert breaks(page, ALL_BUT_COLOURS, OWN) == [], move.kind


def test_dialogs_menus_and_refusals(server, few, page):
    show(page, f"{server[0]}/sessions/{few}/moves?part=tuba&leader=kick&move=compressor")
    for opener, dialog in (("#help", "#shortcuts"), ("#history-open", "#history")):
        page.click(opener)
        page.wait_for_selector(f"{dialog}[open]")
        assert breaks(page, SIZES) == [], dialog
        page.keyboard.press("Escape")
    page.focus("[data-target*='attack_ms'] .track")
    page.keyboard.press("Enter")
    page.keyboard.type("quick")
    page.keyboard.press("Enter")
    page.wait_for_selector(".refusal")
    assert breaks(page, SIZES) == []
    at_rest(page)


def test_the_login_and_a_wrong_password(tmp_path, page):
    with served(tmp_path, password="lantern") as (address, _):
        show(page, f"{address}/login")
        assert breaks(page, SIZES) == []
        page.fill("#password", "lamp")
        page.keyboard.press("Enter")
        page.wait_for_selector("#wrong")
        assert breaks(page, SIZES) == []


LOOKS = """(selector) => {
  const style = getComputedStyle(document.querySelector(selector));
  return [style.backgroundColor, style.borderTopColor, style.borderTopWidth];
}"""


def test_forced_colours_take_the_place_of_the_stored_sheet(server, few, browser):
    address = f"{server[0]}/sessions/{few}/moves?part=tuba&leader=kick&move=compressor"
    for scheme in ("light", "dark"):
        page, errors = open_page(browser, address, forced_colors="active", color_scheme=scheme)
        other = "night" if scheme == "light" else "day"
        page.evaluate(f"localStorage.setItem('pondel-sheet', '{other}')")
        page.reload()
        at_rest(page)
        assert page.evaluate("document.documentElement.dataset.sheet") != other
        ground = page.evaluate("getComputedStyle(document.body).backgroundColor")
        # A track shows how far it is, what is chosen has a thick edge, what acts first is solid.
        assert page.evaluate(LOOKS, ".control .fill")[0] != ground
        assert page.evaluate(LOOKS, ".control .grip")[1] != ground
        assert page.evaluate(LOOKS, "#lower label:has(:checked)")[2] == "3px"
        assert page.evaluate(LOOKS, "#hear label:has(:checked)")[2] == "3px"
        assert errors == []
        page.context.close()
