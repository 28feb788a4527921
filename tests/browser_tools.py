"""A real server and a real browser for the tests that need them."""

from __future__ import annotations

import sys
import threading
import time
import traceback
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from types import FrameType

import waitress
from playwright.sync_api import Browser, ConsoleMessage, Page, sync_playwright
from waitress import wasyncore
from web_tools import jobs_of

from pondel.web import create_app

COLD_MS = 120_000
CHROMIUM = "/usr/bin/chromium"
QUIET = [
    "--no-sandbox",
    "--disable-gpu",
    "--autoplay-policy=no-user-gesture-required",
    "--no-first-run",
    "--disable-quic",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    # Debian turns the rasteriser of a graphics card on: without a card it is emulated, slowly.
    "--disable-gpu-rasterization",
    # A window draws more than the page: its address bar alone, two pages of four hundred scripts, cost
    # as much processor time as a page of ours. The option takes the place of Playwright's own, so what
    # matters of that list is here as well.
    "--disable-features="
    "WebUIOmniboxPopup,WebUIOmniboxAimPopup,SpareRendererForSitePerProcess,"
    "AimEnabled,DestroyProfileOnBrowserClose,HttpsFirstBalancedModeAutoEnable,HttpsUpgrades,LensOverlay,"
    "MediaRouter,NetworkTimeServiceQuerying,OptimizationHints,PaintHolding,PreconnectToSearch",
]


@contextmanager
def served(data_dir: Path, **options) -> Iterator[tuple[str, object]]:
    """The address of a server over a data folder, and its jobs."""
    app = create_app(data_dir, **options)
    sockets: dict[int, object] = {}
    server = waitress.create_server(app, host="127.0.0.1", port=0, threads=16, map=sockets)
    thread = threading.Thread(target=server.run, daemon=True)
    thread.start()
    jobs = jobs_of(app)
    jobs.start()
    yield f"http://127.0.0.1:{server.effective_port}", jobs
    jobs.stop()
    server.close()
    # A browser keeps its connections open: the server would listen to them.
    wasyncore.close_all(sockets, ignore_all=True)
    thread.join(timeout=10)
    assert not thread.is_alive()


@contextmanager
def browsing() -> Iterator[Browser]:
    """Headless Chromium."""
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=CHROMIUM, args=QUIET)
        yield browser
        browser.close()


def open_page(browser: Browser, address: str, **options) -> tuple[Page, list[str]]:
    """A fresh page and the list that collects its errors; needles step, as for who wants it calm."""
    settings = {"viewport": {"width": 1280, "height": 800}, "reduced_motion": "reduce", **options}
    page = browser.new_context(**settings).new_page()
    errors: list[str] = []
    page.on("pageerror", lambda error: errors.append(str(error)))
    page.on("console", lambda m: errors.append(said_by(m)) if m.type == "error" else None)
    # The first page of all waits until the kernels are compiled.
    page.goto(address, timeout=COLD_MS)
    page.wait_for_load_state("networkidle", timeout=COLD_MS)
    return page, errors


def said_by(message: ConsoleMessage) -> str:
    """An error of the console, and the address it came from."""
    return f"{message.text} at {message.location['url']}"


def middle_of(page: Page, selector: str) -> tuple[float, float]:
    """Where the middle of the first element that fits lies on the page."""
    box = page.locator(selector).first.bounding_box()
    return box["x"] + box["width"] / 2, box["y"] + box["height"] / 2


def at_rest(page: Page, seconds: float = 20.0) -> None:
    """Wait until all is saved and shown, and what plays is what is wanted."""
    if not _came_true(page, "pondel.isAtRest()", seconds):
        raise AssertionError(f"no rest after {seconds:g} s: {unrest(page)}")


def unrest(page: Page) -> str:
    """What the page waits for, and where each thread of the server stands."""
    return "\n".join([str(page.evaluate("pondel.unrest()")), *threads_at_work()])


def threads_at_work() -> list[str]:
    """The innermost calls of every thread of this process but this one, the server's among them."""
    names = {thread.ident: thread.name for thread in threading.enumerate()}
    names.pop(threading.get_ident(), None)
    return [
        f"{names[ident]}: " + " < ".join(_calls(frame))
        for ident, frame in sys._current_frames().items()
        if ident in names
    ]


def _calls(frame: FrameType, most: int = 14) -> list[str]:
    calls = traceback.extract_stack(frame)[-most:]
    return [f"{Path(call.filename).name}:{call.lineno} {call.name}" for call in reversed(calls)]


def until(page: Page, expression: str, seconds: float = 20.0) -> None:
    """Wait for a JavaScript expression to hold; the content policy forbids waiting inside."""
    if not _came_true(page, expression, seconds):
        raise AssertionError(f"never came true: {expression}")


def _came_true(page: Page, expression: str, seconds: float) -> bool:
    """Whether it did; looked at less and less often: to look takes time from what is waited for."""
    ends, pause_ms = time.monotonic() + seconds, 20.0
    while not page.evaluate(expression):
        if time.monotonic() > ends:
            return False
        page.wait_for_timeout(pause_ms)
        pause_ms = min(1.3 * pause_ms, 160.0)
    return True
