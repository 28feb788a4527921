"""A walk through the product: after every change the page is what a fresh page shows, and plays it."""

from __future__ import annotations

import io

import mido
import pytest
from browser_tools import at_rest, open_page, until

from pondel.core.reading import parse_session, to_json

SONG_S = 4.0
SHOWN = """() => {
  const stage = document.getElementById("stage");
  const volatile = (node) => node.closest("#gr-now, #gr-held, .needle, .gain-now");
  const shown = {};
  const put = (name, value) => (shown[name] = [...(shown[name] ?? []), value]);
  for (const field of stage.querySelectorAll("input, select, textarea")) {
    if (field.type === "file" || field.type === "hidden") continue;
    const isBox = field.type === "checkbox" || field.type === "radio";
    put(field.id || field.name || field.ariaLabel, isBox ? field.checked : field.value);
  }
  for (const slider of stage.querySelectorAll("[role=slider]")) {
    put(slider.id, [slider.ariaValueText, slider.ariaLabel]);
  }
  for (const path of stage.querySelectorAll("svg path")) {
    if (!volatile(path)) put(`path ${path.getAttribute("class")}`, path.getAttribute("d"));
  }
  const texts = document.createTreeWalker(stage, NodeFilter.SHOW_TEXT);
  const words = [];
  while (texts.nextNode()) {
    const node = texts.currentNode.parentElement;
    const text = texts.currentNode.textContent.trim();
    if (text && !volatile(node) && !node.closest("script, noscript")) words.push(text);
  }
  shown.words = words;
  for (const id of ["undo", "redo", "loop-lufs"]) {
    const one = document.getElementById(id);
    shown[id] = [one.textContent, one.title, one.disabled];
  }
  const { facts } = pondel.state;
  shown.facts = facts;
  return shown;
}"""
HEARD = """async () => {
  const { state } = pondel;
  const what = { hear: state.hear, state: state.side, revision: state.facts.revision };
  const query = new URLSearchParams({ ...what, ...state.loop });
  for (const part of state.hear === "mix" ? [] : [state.view.part]) query.append("part", part);
  return (await (await fetch(`/sessions/${state.facts.id}/listen?${query}`)).json()).hash;
}"""


def chosen(page, selector):
    """Choose the next value of a list."""
    values = page.eval_on_selector(selector, "one => [...one.options].map((o) => o.value)")
    now = page.input_value(selector)
    page.select_option(selector, values[(values.index(now) + 1) % len(values)])


def typed(page, selector, text):
    page.fill(selector, text)
    page.press(selector, "Enter")


def stepped(page, selector, key="ArrowRight"):
    page.focus(selector)
    page.press(selector, key)


def space(page):
    page.click("#space-details summary")
    page.click("#do-space-echo")


def under(page):
    page.click("#under-details summary")
    for part in ("tuba", "horn"):
        page.select_option(f"#under-{part}", "gentle")
    page.click("#under-lay")


def several(page):
    page.check("#several-all")
    page.click("#several-mute")
    at_rest(page)
    page.click("#several-none")


def tempo_file() -> dict:
    """A MIDI file that goes from 100 to 80 bpm after four quarters."""
    track = mido.MidiTrack(
        [
            mido.MetaMessage("set_tempo", tempo=mido.bpm2tempo(100)),
            mido.MetaMessage("set_tempo", tempo=mido.bpm2tempo(80), time=1920),
            mido.Message("note_on", note=36, velocity=90),
        ]
    )
    out = io.BytesIO()
    mido.MidiFile(tracks=[track]).save(file=out)
    return {"name": "map.mid", "mimeType": "audio/midi", "buffer": out.getvalue()}


MOVES = "moves?part=tuba&leader=kick&move="
CHANGED = {
    "eq": {"bands": [{"hz": 90, "gain_db": -4}, {"hz": 900, "gain_db": 3, "placement": "middle"}]},
    "compressor": {"key": {"source": "kick"}, "threshold_db": -35, "mix": 0.7, "makeup_db": 2},
    "multiband": {"key": {"source": "kick"}, "crossovers_hz": [120], "bands": [{}, {"on": False}]},
    "drawn duck": {"hits_of": "kick", "length_ms": 200},
    "gate": {"threshold_db": -30, "range_db": 12},
}
LOOKED_AT = {
    "spectral duck": {"key": {"source": "kick"}, "threshold_db": -50, "low_hz": 50},
    "tail trim": {"end_ms": 200},
    "reverb": {"decay_s": 0.5, "mix": 0.2},
}
"""A chain that makes long work of each change stands on a part of its own."""


def of(field, inside=""):
    """The control of a field, or something in it."""
    return f"""[data-target*='"field": "{field}"'] {inside}"""


EVERYWHERE = [
    ("intake", lambda p: typed(p, '[aria-label="Name of Tuba"]', "Low brass"), "a name"),
    ("intake", lambda p: p.select_option('[aria-label="Role of Low brass"]', "brass"), "a role"),
    ("intake", lambda p: typed(p, of("tempo_bpm"), "100 bpm"), "a tempo"),
    ("intake?part=tuba", lambda p: p.click("text=Add a group or return"), "a return"),
    (
        "intake?part=tuba",
        lambda p: p.select_option("""[data-target*='"set group"']""", index=1),
        "a group",
    ),
    ("intake?part=kick", lambda p: typed(p, """[data-target*='"set send"']""", "-9 dB"), "a send"),
    ("intake?part=kick", lambda p: typed(p, of("start_s"), "0.5 s"), "a start"),
    ("intake", several, "a mute of several"),
    ("intake", lambda p: p.click("#undo"), "a mute of several undone"),
    ("intake", lambda p: p.set_input_files("#tempo-file", tempo_file()), "a map of tempi"),
    (
        "intake?part=kick",
        lambda p: stepped(p, of("sensitivity", ".track"), "ArrowLeft"),
        "a sensitivity",
    ),
    ("lanes", lambda p: p.click("#decide-leader"), "a decision"),
    ("lanes", lambda p: typed(p, "#zone-high", "210 Hz"), "a zone's edge"),
    (MOVES + "compressor", lambda p: stepped(p, of("threshold_db", ".track")), "a step by key"),
    (MOVES + "compressor", lambda p: chosen(p, of("detector")), "a choice"),
    (MOVES + "compressor", lambda p: p.click(of("on")), "a move off"),
    (MOVES + "compressor", lambda p: p.click("#undo"), "undo"),
    (MOVES + "drawnduck", None, "a drawn duck"),
    (MOVES + "eq", lambda p: p.click('[aria-label^="Add one to"]'), "one band more"),
    (MOVES + "eq", lambda p: p.check("#only-in-s"), "a section"),
    (MOVES + "multiband", lambda p: p.click("text=Split >> nth=0"), "an action"),
    (MOVES + "eq", lambda p: p.click("button:text-is('Remove')"), "a move taken out"),
    (MOVES + "gate", lambda p: p.click("#add-for"), "a first setting"),
    ("", lambda p: p.click("#do-far-strong"), "how far"),
    ("", lambda p: p.click("#do-through-ring"), "what comes through"),
    (MOVES + "gate", lambda p: p.click("text=Swap:"), "a swap"),
    ("moves?part=kick", under, "many under one"),
    ("", lambda p: p.click("#do-all-further"), "all together further"),
    ("moves?part=tuba", lambda p: p.click("#do-starting-eq-tuba"), "an EQ by role"),
    ("moves?part=tuba", space, "a space"),
]


@pytest.fixture
def walked(server, song):
    jobs = server[1]
    data = to_json(jobs.library.head(song).document)
    kick, tuba = data["parts"]
    kick["id"], tuba["id"] = "kick", "tuba"
    horn = {**tuba, "id": "horn", "name": "Horn", "tag": "HN", "fader_db": -9}
    data["parts"].append(horn)
    for part, laid in ((tuba, CHANGED), (horn, LOOKED_AT)):
        part["moves"] = [
            {"id": kind.replace(" ", ""), "kind": kind, **more} for kind, more in laid.items()
        ]
    data["sections"] = [{"id": "s", "name": "Verse", "start_s": 1, "end_s": 6}]
    return jobs.library.create(parse_session(data), rate_known=True)


WALKS = {
    "other kinds": [
        (f"moves?part=horn&leader=kick&move={kind.replace(' ', '')}", None, kind) for kind in LOOKED_AT
    ],
    "Intake and Lanes": [one for one in EVERYWHERE if one[0].startswith(("intake", "lanes"))],
    "Moves": [one for one in EVERYWHERE if not one[0].startswith(("intake", "lanes"))],
}


@pytest.mark.parametrize("walk", WALKS)
def test_after_every_change_the_page_is_what_a_fresh_one_shows(server, walked, browser, walk):
    address = server[0]
    page, errors = open_page(browser, f"{address}/sessions/{walked}/{MOVES}eq")
    # In a window of its own: a page behind another is drawn once a second.
    fresh = browser.new_context(viewport=page.viewport_size, reduced_motion="reduce").new_page()
    page.click("#play")
    until(page, "pondel.player.playing")
    for where, change, what in WALKS[walk]:
        # Without a place of its own a change is made where the one before it led.
        at = f"{address}/sessions/{walked}/{where}" if where else page.url
        compare(page, fresh, at, change, what)
    assert errors == []
    page.context.close()
    fresh.context.close()


def compare(page, fresh, address, change, what):
    if not page.url.startswith(address):
        go_to(page, address)
    if change is not None:
        before = page.evaluate("pondel.state.facts.revision")
        change(page)
        until(page, f"pondel.state.facts.revision !== {before}")
    at_rest(page)
    # Where the focus was, or on what appeared: nowhere is it to be looked for from the start.
    assert page.evaluate("document.activeElement !== document.body"), f"after {what} the focus is lost"
    until(page, "pondel.player.isSettled()")
    fresh.goto(page.url, wait_until="domcontentloaded")
    until(fresh, "window.pondel?.isAtRest()")
    # What is asked for at rest comes within its own time.
    shown, anew = {}, {"": ""}
    for _ in range(40):
        shown, anew = page.evaluate(SHOWN), fresh.evaluate(SHOWN)
        if shown == anew:
            break
        page.wait_for_timeout(100)
        at_rest(page)
        at_rest(fresh)
    unlike = {
        name: unlike_in(shown.get(name), anew.get(name))
        for name in shown.keys() | anew.keys()
        if shown.get(name) != anew.get(name)
    }
    assert not unlike, f"after {what}: {unlike}"
    heard = page.evaluate("pondel.player.layer.sound.hash")
    assert heard == fresh.evaluate(HEARD), f"after {what} another sound is heard"


def unlike_in(one, other):
    """Where two values differ, without the rest."""
    if isinstance(one, list) and isinstance(other, list):
        if len(one) == len(other):
            return [(a, b) for a, b in zip(one, other, strict=True) if a != b]
        return [a for a in one if a not in other], [b for b in other if b not in one]
    return one, other


def go_to(page, address):
    """Another screen as its link would open it, while the deck plays on."""
    page.evaluate(
        """(address) => {
          const link = document.createElement("a");
          link.href = address;
          link.dataset.soft = "";
          document.getElementById("stage").append(link);
          link.click();
        }""",
        address,
    )
    at_rest(page)
