"""Proof in a browser: sides compared, a blind test and the listening list, by keys alone."""

from __future__ import annotations

from browser_tools import at_rest, open_page, until

from pondel.core.operations import parse_operation

DUCK = {"op": "give way", "leader": "kick", "part": "tuba", "kind": "compressor", "how_far": "strong"}
DECISION = {"op": "decide", "leads": "kick", "gives_way": "tuba", "low_hz": 40, "high_hz": 120}


def test_sides_are_compared_told_apart_and_heard_by_keys_alone(server, song, browser):
    address, jobs = server
    jobs.desk.do(song, [parse_operation(DECISION)])
    jobs.variants.keep(song)
    jobs.desk.do(song, [parse_operation(DUCK)])
    page, errors = open_page(browser, f"{address}/sessions/{song}/proof?start_s=0&end_s=4")
    page.wait_for_selector("#whole-mix")
    row = page.inner_text("#decided tbody tr")
    assert "Kick" in row and "Tuba" in row and row.count("%") >= 3
    # Taken over from A, where there is no move: the sides are alike.
    move = jobs.library.head(song).document.part("tuba").moves[-1].id
    page.focus(f"#take-A-tuba-{move}")
    page.keyboard.press("Enter")
    page.wait_for_selector("text=They are alike.")
    page.click("#undo")
    page.wait_for_selector(f"#take-A-tuba-{move}")
    at_rest(page)
    asked = []
    page.on("request", lambda request: asked.append(request.url))
    page.focus("#blind-rounds")
    page.select_option("#blind-rounds", "5")
    page.focus("#blind-begin")
    page.keyboard.press("Enter")
    for n in range(5):
        page.wait_for_selector(f"text=Round {n + 1} of 5")
        until(page, "document.activeElement?.id === 'blind-play-1'")
        page.keyboard.press("Enter")
        until(page, "document.activeElement.getAttribute('aria-pressed') === 'true'")
        page.focus("#blind-answer-2")
        page.keyboard.press("Enter")
    page.wait_for_selector("#blind-result")
    assert "of 5 right" in page.inner_text("#blind-result")
    page.click("#blind-begin")
    page.click("#blind-play-1")
    until(page, "document.getElementById('blind-play-1').ariaPressed === 'true'")
    page.click("#play")
    until(page, "document.getElementById('blind-play-1').ariaPressed === 'false'")
    page.click("#play")
    page.click("#blind-give-up")
    page.wait_for_selector("#blind-begin")
    sounds = [url for url in asked if "/proof/blind/" in url]
    tokens = [url for url in sounds if not url.endswith(("answer", "give-up"))]
    assert len(set(tokens)) == 12 and not any("untreated" in url or "state=" in url for url in tokens)
    page.wait_for_selector('#to-hear [data-item="blind"].done')
    page.select_option("#fold-to", "mono")
    page.click("#play")
    until(page, "pondel.player.playing")
    page.wait_for_selector('#to-hear [data-item="mono"].done', timeout=60_000)
    assert errors == []
    page.context.close()
