"""Proof in a browser: sides compared, a blind test and the listening list, by keys alone."""

from __future__ import annotations

import math

from browser_tools import at_rest, open_page, until

from pondel.core.operations import parse_operation
from pondel.core.reading import parse_session, to_json

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


def test_a_reference_is_heard_with_one_key_as_loud_as_the_mix_and_compared(server, song, browser):
    address, jobs = server
    data = to_json(jobs.library.head(song).document)
    for n, name in enumerate(("Theirs", "Others")):
        track = {
            "id": name.lower(),
            "name": name,
            "reference": True,
            "fader_db": -5.0 * (n + 1),
            "moves": [],
        }
        data["parts"].append({**data["parts"][1], **track})
    compared = jobs.library.create(parse_session(data), rate_known=True)
    page, errors = open_page(browser, f"{address}/sessions/{compared}/lanes")
    page.click("#play")
    until(page, "pondel.player.playing")
    layer = "pondel.player.layer"
    mix = page.evaluate(f"{layer}.sound.hash")
    page.keyboard.press("r")
    until(
        page,
        f"pondel.state.hear === 'reference' && pondel.isAtRest() && {layer}.sound.hash !== '{mix}'",
    )
    about = "hear=reference&part=theirs&start_s=0&end_s=8"
    match = "fetch('/sessions/{}/match?{}').then((one) => one.json()).then((one) => one.gain_db)"
    gain_db = page.evaluate(match.format(compared, about))
    gain = page.evaluate(f"{layer}.gain")
    assert abs(20 * math.log10(gain) - gain_db) < 0.1 and abs(gain_db) > 1
    first = page.evaluate(f"{layer}.sound.hash")
    page.keyboard.press("Shift+R")
    until(page, f"pondel.state.track === 'others' && {layer}.sound.hash !== '{first}'")
    assert page.input_value("#track") == "others"
    page.keyboard.press("r")
    until(page, f"pondel.state.hear === 'mix' && pondel.isAtRest() && {layer}.sound.hash === '{mix}'")
    assert page.evaluate(f"{layer}.gain") == 1
    page.keyboard.press("4")
    page.wait_for_selector("#beside", timeout=60_000)
    assert "Theirs" in page.inner_text("#beside") and "LUFS" in page.inner_text("#beside")
    page.focus("#thirds-open")
    page.keyboard.press("Enter")
    assert page.locator("#thirds tbody tr").count() == 29
    page.focus("#hear-others")
    page.keyboard.press("Enter")
    until(page, "pondel.state.hear === 'reference' && pondel.state.track === 'others'")
    assert errors == []
    page.context.close()
