"""The recall sheet: all that is set in a session, in standard quantities, for other tools.

    sheet = recall(document)
    sheet["parts"][0]["moves"][0]["settings"]      # [{"label": "threshold", "words": "-30.0 dB", ...}]

Frequencies are in Hz, Q as the audio EQ cookbook defines it, times in ms until 63 % of a change are
done, levels and gains in dB.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

from pondel.core.document import Part, Session
from pondel.core.dsp.tone import PINK, Tone
from pondel.core.measures.spectrum import axis_hz
from pondel.core.moves.picture import at_full, at_rest
from pondel.core.moves.registry import kind_of
from pondel.core.settings import changed_by_hand, name_of, settings_of
from pondel.core.units import PAN, say, say_hz

Json = dict[str, Any]
EVERY, LOWEST_DB = 4, -60.0
MEANT = (
    "Q is that of the audio EQ cookbook: a bell's bandwidth lies between the points of half its dB.",
    "Attack and release: the time in which 63 % of a change are done; a hold comes before the release.",
    "Thresholds are levels of what a move listens to, peak or RMS as its detector says, in dBFS.",
    "Crossovers are of Linkwitz and Riley, 24 dB per octave, unless they say linear phase.",
    "Parts pass trim, moves in their order, fader and pan (constant power), then their group.",
)


def recall(document: Session, tone_of: Callable[[Part], Tone] = lambda part: PINK) -> Json:
    """The sheet as JSON values; `tone_of` tells a part's average spectrum, for what depends on it."""
    return {
        "session": document.name,
        "rate_hz": document.rate,
        "tempo_bpm": document.known_tempo_bpm,
        "sections": [one.model_dump(include={"name", "start_s", "end_s"}) for one in document.sections],
        "decided": [
            {
                "leads": name_of(document, zone.leads),
                "gives_way": [name_of(document, part) for part in zone.gives_way],
                "low_hz": zone.low_hz,
                "high_hz": zone.high_hz,
            }
            for zone in document.zones
        ],
        "parts": [_part(document, part, tone_of(part)) for part in document.parts if _is_heard(part)],
        "meant": list(MEANT),
    }


def _is_heard(part: Part) -> bool:
    return not part.reference


def _part(document: Session, part: Part, tone: Tone) -> Json:
    return {
        "id": part.id,
        "name": part.name,
        "role": part.role,
        "is_return": part.source == "sends",
        "starts_s": part.start_s,
        "trim_db": part.trim_db,
        "fader_db": part.fader_db,
        "pan": part.pan,
        "mute": part.mute,
        "silent_key": part.silent_key,
        "group": None if part.group is None else name_of(document, part.group),
        "sends": [
            {"to": name_of(document, send.to), "level_db": send.level_db, "tap": send.tap}
            for send in part.sends
        ],
        "moves": [_move(document, move, n, tone) for n, move in enumerate(part.moves, 1)],
    }


def _move(document: Session, move: Any, number: int, tone: Tone) -> Json:
    kind = kind_of(move.kind)
    return {
        "id": move.id,
        "number": number,
        "kind": kind.title,
        "on": move.on,
        "settings": [vars(one) for one in settings_of(document, move) if one.path != "on"],
        "why": list(move.why),
        "changed_by_hand": changed_by_hand(document, move),
        "curve": _curve(document, move, tone),
    }


def _curve(document: Session, move: Any, tone: Tone) -> Json | None:
    """Its gain by frequency, at rest and as far as it goes; None where that is the same for all."""
    hz = axis_hz()[::EVERY]
    picture = kind_of(move.kind).drawn(move, hz, document.rate, tone)
    rest, most = (_db(picture.gain(how, hz.size)) for how in (at_rest, at_full))
    if max(np.ptp(rest), np.ptp(most)) < 0.01:
        return None
    moves = bool(np.abs(rest - most).max() > 0.01)
    return {
        "hz": np.round(hz, 1).tolist(),
        "rest_db": rest.tolist(),
        "most_db": most.tolist() if moves else None,
    }


def _db(gain: np.ndarray) -> np.ndarray:
    return np.round(np.maximum(20.0 * np.log10(np.maximum(np.abs(gain), 1e-6)), LOWEST_DB), 2)


def levels_in_words(part: Json) -> str:
    """A part's levels in a line."""
    words = [f"trim {say(part['trim_db'], 'dB')}", f"fader {say(part['fader_db'], 'dB')}"]
    if part["pan"]:
        words.append(f"pan {say(part['pan'], PAN)}")
    words += ["muted"] if part["mute"] else []
    words += ["silent key"] if part["silent_key"] else []
    words += [f"into {part['group']}"] if part["group"] else []
    for send in part["sends"]:
        words.append(f"sent to {send['to']} at {say(send['level_db'], 'dB')}, {send['tap']}")
    return ", ".join(words)


def decided_in_words(one: Json) -> str:
    """A decision in a line."""
    where = f"{say_hz(one['low_hz'])} to {say_hz(one['high_hz'])}"
    return f"{one['leads']} over {', '.join(one['gives_way'])} in {where}"
