"""How the templates write numbers."""

from __future__ import annotations

from pondel.core.units import MINUS, say, say_hz


def percent(share: float) -> str:
    return f"{share * 100:.0f} %"


def signed(value: float, unit: str, decimals: int = 1) -> str:
    text = say(value, unit, decimals)
    return text if text.startswith(MINUS) or not float(f"{value:.{decimals}f}") else f"+{text}"


def level(value: float | None, unit: str = "dB") -> str:
    """A level, or a word for silence."""
    return "silent" if value is None or value <= -150 else say(value, unit)


def minutes(seconds: float) -> str:
    return f"{int(seconds // 60)}:{seconds % 60:04.1f}"


FILTERS = {"percent": percent, "signed": signed, "level": level, "minutes": minutes, "hz": say_hz}
