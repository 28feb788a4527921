"""Values as the trade writes and types them."""

from __future__ import annotations

import math
import re
from collections.abc import Callable

from pondel.core.errors import BadDocument
from pondel.core.notes import note_hz

MINUS = "\N{MINUS SIGN}"
_NUMBER = re.compile(r"^([+-]?(?:\d+(?:[.,]\d*)?|[.,]\d+))\s*(k)?\s*([a-z%:/0-9]*)$")
PAN = "pan"
_PAN = re.compile(
    r"^(?P<side>l|left|r|right|c|center|centre)?\s*(?P<number>[+-]?\d+(?:[.,]\d*)?)?\s*(?P<percent>%)?"
    r"\s*(?P<other>l|left|r|right)?$"
)
_OFF = {"off", "none", "-", "–"}
_ENDLESS = {"inf", "inf:1", "∞", "∞:1"}
_UNITS: dict[str, dict[str, float]] = {
    "dB": {"": 1, "db": 1, "dbfs": 1},
    "Hz": {"": 1, "hz": 1},
    "ms": {"": 1, "ms": 1, "s": 1000},
    ":1": {"": 1, ":1": 1},
    "%": {"": 0.01, "%": 0.01},
    "s": {"": 1, "s": 1, "ms": 0.001},
    "bpm": {"": 1, "bpm": 1},
    "beats": {"": 1, "beats": 1, "beat": 1, "/4": 1, "/8": 0.5, "/16": 0.25},
    "dB/oct": {"": 1, "db/oct": 1},
    "": {"": 1},
}


_NOTE = re.compile(r"^(\d+)\s*/\s*(1|2|4|8|16|32|64)\s*(d|dotted|\.|t|triplet)?$")
_LONGER = {"d": 1.5, "dotted": 1.5, ".": 1.5, "t": 2 / 3, "triplet": 2 / 3}


def parse(
    text: str,
    unit: str,
    *,
    optional: bool = False,
    endless: bool = False,
    beat_s: float | None = None,
) -> float | None:
    """A typed value in the document's unit: "1.2k", "-6 dB", "90ms", "4:1", "off".

    A time is understood as a note value too, "1/8", "1/16 dotted", "1/4t", where a quarter is `beat_s`
    long, and a frequency as a note, "A1", "F#2". Raises BadDocument when it cannot be read; per cent
    become a share of 1.
    """
    if unit == PAN:
        return _parse_pan(text)
    note = _NOTE.match(text.strip().lower()) if unit in ("ms", "s") else None
    if note is not None:
        if beat_s is None:
            raise BadDocument(f"{text.strip()} has no length while the tempo is not known")
        quarters = 4.0 * int(note[1]) / int(note[2]) * _LONGER.get(note[3] or "", 1.0)
        return round(quarters * beat_s * (1000.0 if unit == "ms" else 1.0), 3)
    pitch_hz = note_hz(text) if unit == "Hz" else None
    if pitch_hz is not None:
        return round(pitch_hz, 3)
    plain = text.strip().lower().replace(MINUS, "-").replace("\N{NO-BREAK SPACE}", " ")
    if optional and plain in _OFF:
        return None
    if endless and plain in _ENDLESS:
        return math.inf
    match = _NUMBER.match(plain)
    factors = _UNITS.get(unit, {"": 1.0})
    if match is None or match[3] not in factors:
        wanted = f"a number in {unit}" if unit else "a number"
        raise BadDocument(f"{text.strip()!r:.40} is not {wanted}")
    value = float(match[1].replace(",", "."))
    return value * (1000.0 if match[2] else 1.0) * factors[match[3]]


def _parse_pan(text: str) -> float:
    """A place from -1 (left) to 1 (right): "L30", "30 R", "C", "-0.3"; more than 1 are per cent."""
    match = _PAN.match(text.strip().lower().replace(MINUS, "-"))
    if match is None or (match["side"] and match["other"]):
        raise BadDocument(f"{text.strip()!r:.40} is no place: type L30, C or R30")
    side = (match["side"] or match["other"] or "")[:1]
    if side == "c":
        return 0.0
    value = float((match["number"] or "100").replace(",", "."))
    if not side and match["number"] is None:
        raise BadDocument(f"{text.strip()!r:.40} is no place: type L30, C or R30")
    value = value / 100.0 if side or match["percent"] or abs(value) > 1.0 else value
    return -value if side == "l" else value


def say(value: float | None, unit: str, decimals: int = 1) -> str:
    """A value with its unit, with a real minus sign."""
    if value is None:
        return "off"
    special = _SAID.get(unit)
    if special is not None:
        return special(value)
    text = f"{value:.{decimals}f}"
    if float(text) == 0:
        text = text.lstrip("-")
    return f"{text.replace('-', MINUS)} {unit}".strip()


def signed(value: float, unit: str, decimals: int = 1) -> str:
    """A value with its unit and its sign; none on what rounds to nothing."""
    text = say(value, unit, decimals)
    return text if text.startswith(MINUS) or not float(f"{value:.{decimals}f}") else f"+{text}"


def change(share: float) -> str:
    """A change as a share, in percent with its sign: "−5 %", "0 %"."""
    return f"{signed(round(100.0 * share), '', 0)} %"


def say_hz(hz: float) -> str:
    """A frequency as the trade writes it: 88 Hz, 1.2 kHz, 12 kHz."""
    if hz < 999.5:
        return f"{hz:.0f} Hz"
    return f"{_trim(hz / 1000, 2 if hz < 9950 else 0)} kHz"


def _trim(value: float, decimals: int) -> str:
    text = f"{value:.{decimals}f}"
    return text.rstrip("0").rstrip(".") if "." in text else text


def _say_ratio(value: float) -> str:
    return "∞:1" if math.isinf(value) else f"{_trim(value, 2 if value < 10 else 1)}:1"


def _say_ms(value: float) -> str:
    size = abs(value)
    text = _trim(value, 2 if size < 1 else 1 if size < 10 else 0)
    return f"{text.replace('-', MINUS)} ms"


def _say_pan(value: float) -> str:
    """A place as desks write it: L30, C, R30, in per cent."""
    percent = f"{abs(value) * 100:.0f}"
    return "C" if percent == "0" else f"{'L' if value < 0 else 'R'}{percent}"


_SAID: dict[str, Callable[[float], str]] = {
    ":1": _say_ratio,
    "%": lambda value: f"{value * 100:.0f} %".replace("-", MINUS),
    "Hz": say_hz,
    "bpm": lambda value: f"{_trim(value, 2)} bpm",
    "beats": lambda value: f"{_trim(value, 3)} beats".replace("-", MINUS),
    "ms": _say_ms,
    PAN: _say_pan,
}
