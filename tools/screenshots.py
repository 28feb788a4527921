"""Draws the pictures of docs/screenshots from the demo session, with one duck set up.

    make screenshots

The demo is made in `data/` if it is absent; a copy is changed, so that the demo stays as it is.
"""

from __future__ import annotations

import shutil
import sys
import tempfile
from pathlib import Path

ROOT = Path(__file__).parents[1]
sys.path.insert(0, str(ROOT / "tests"))

from browser_tools import at_rest, browsing, open_page, served  # noqa: E402
from playwright.sync_api import Page  # noqa: E402

from pondel.demo.session import ensure_demo  # noqa: E402
from pondel.jobs.desk import Desk  # noqa: E402
from pondel.store.library import Library  # noqa: E402
from pondel.web.deck import SONG_COLUMNS  # noqa: E402

OUT = ROOT / "docs" / "screenshots"
LOOP = "start_s=18.4615&end_s=27.6923"
# What is worked out once for the deck has come by the time of the second picture.
VIEWS = {
    "lanes-pair": ("lanes?leader=marimba&yielder=accordion", "light", "pair"),
    "lanes-night": ("lanes?leader=voice&yielder=accordion", "dark", None),
    "lanes": ("lanes?leader=bass-drum&yielder=tuba", "light", None),
    "ways": (f"ways?part=tuba&leader=bass-drum&{LOOP}", "light", None),
    "plan": ("plan", "light", None),
    "moves": ("moves?part=tuba&leader=bass-drum", "light", "multiband"),
    "drawn-duck": ("moves?part=tuba&leader=bass-drum", "light", "drawn duck"),
    "intake": ("intake", "light", None),
    "proof": (f"proof?sides=B&{LOOP}", "light", None),
    "references": (f"proof?over=song&{LOOP}", "light", "references"),
    "hand-off": ("hand-off", "light", None),
}


def prepare(page: Page, what: str | None) -> None:
    """Set up what the picture shows as a user would."""
    if what == "pair":
        page.check("#picture-pair", force=True)
        page.wait_for_selector("#pair-facts >> text=Together", timeout=60_000)
    elif what == "references":
        page.wait_for_selector("#beside", timeout=120_000)
        page.wait_for_selector("#whole-mix", timeout=120_000)
        place = "document.querySelector('.proof .scroll')"
        page.evaluate(
            f"{place}.scrollTo(0, document.querySelector('#references-title').offsetTop - 60)"
        )
    elif what is not None:
        page.select_option("#add-kind", what)
        page.click('[data-add="give way"]')
        page.wait_for_selector("text=Why this first setting", timeout=120_000)
    if "/ways" in page.url:
        page.wait_for_selector("#ways:not([data-poll]) .plane", timeout=60_000)
        page.click(".ways-table tr:has-text('Multiband') .amount >> nth=2")
        page.wait_for_selector("#keep-way")
        page.evaluate("document.querySelector('.ways .scroll').scrollTo(0, 0)")
    if "/plan" in page.url:
        page.wait_for_selector("#keep-plan", timeout=120_000)
    if "/proof" in page.url and what is None:
        page.click("#variants button:text-is('C')")
        page.wait_for_selector("#side-B")
        page.wait_for_selector("#open-B", timeout=60_000)
        page.wait_for_selector("#whole-mix", timeout=60_000)
        page.wait_for_selector("[data-stretch]", timeout=60_000)
    if "/hand-off" in page.url:
        page.select_option("#print-what", "curves")
        page.click("#print")
        page.wait_for_selector("text=Bass drum clicks.wav", timeout=120_000)
    if page.locator("[data-again]").count():
        page.wait_for_selector("[data-again]", state="detached", timeout=120_000)
    at_rest(page)


def main() -> None:
    OUT.mkdir(parents=True, exist_ok=True)
    demo = Library(ROOT / "data")
    desk = Desk(demo)
    document = demo.head(ensure_demo(desk, print)).document
    desk.analysis.whole_table(document)
    desk.whole_mix.outline(document, SONG_COLUMNS)
    demo.close()
    with tempfile.TemporaryDirectory() as folder:
        copy = Path(folder) / "data"
        shutil.copytree(ROOT / "data", copy)
        with served(copy) as (address, _), browsing() as browser:
            for name, (path, sheet, what) in VIEWS.items():
                page, errors = open_page(
                    browser, f"{address}/sessions/lantern-parade/{path}", color_scheme=sheet
                )
                at_rest(page)
                prepare(page, what)
                page.screenshot(path=OUT / f"{name}.png")
                print(f"{name}.png", *errors)
                page.context.close()
            page, _ = open_page(browser, f"{address}/sessions")
            page.screenshot(path=OUT / "sessions.png")


if __name__ == "__main__":
    main()
