"""How the templates write numbers."""

from __future__ import annotations

import json
import re
from datetime import UTC, datetime
from typing import Any
from urllib.parse import quote

from markupsafe import Markup

from pondel.core.audio.files import safe_name
from pondel.core.moves.amounts import far_words
from pondel.core.notes import note_name
from pondel.core.units import change, say, say_hz, signed


def percent(share: float) -> str:
    return f"{share * 100:.0f} %"


def level(value: float | None, unit: str = "dB") -> str:
    """A level, or a word for silence."""
    return "silent" if value is None or value <= -150 else say(value, unit)


def minutes(seconds: float) -> str:
    return f"{int(seconds // 60)}:{seconds % 60:04.1f}"


def control_id(operation: dict[str, Any], name: str = "") -> str:
    """An id that stays the same for what a control does, however often the screen is drawn."""
    values = [operation["op"], *(v for k, v in operation.items() if k in NAMING)]
    return re.sub(r"[^A-Za-z0-9_]+", "-", name or " ".join(map(str, values))).strip("-")


def slug(text: str) -> str:
    """A text as a piece of an id."""
    return re.sub(r"[^A-Za-z0-9]+", "-", text).strip("-").lower()


def doing(operation: dict[str, Any], name: str = "") -> Markup:
    """The attributes of a button that does an operation; `name` is its id where the values change."""
    return Markup('id="do-{}" data-do="{}"').format(control_id(operation, name), json.dumps(operation))


def setting(operation: dict[str, Any], name: str = "") -> Markup:
    """The attributes of a control that sets the operation's value."""
    found = control_id(operation, name)
    return Markup('id="set-{}" data-target="{}"').format(found, json.dumps(operation))


def file_names(name: str, ending: str) -> dict[str, str]:
    """What a download is called: in plain letters, and as it is (RFC 6266)."""
    whole = f"{safe_name(name)}{ending}"
    plain = whole.encode("ascii", "ignore").decode().strip(" .") or f"session{ending}"
    return {"filename": plain, "filename*": f"UTF-8''{quote(whole, safe='')}"}


NAMING = ("part", "move", "field", "list", "to", "zone", "leads", "gives_way", "leader", "kind")


def local(moment: datetime, form: str) -> str:
    """A moment, kept in UTC, by the clock of this machine."""
    return moment.replace(tzinfo=UTC).astimezone().strftime(form)


FILTERS = {
    "local": local,
    "percent": percent,
    "signed": signed,
    "change": change,
    "level": level,
    "minutes": minutes,
    "hz": say_hz,
    "note": note_name,
    "slug": slug,
    "far": far_words,
    "doing": doing,
    "setting": setting,
    "control_id": control_id,
}
