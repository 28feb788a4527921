"""What can be taken hold of where one hit is drawn over time: times, and points of a curve."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from pydantic import BaseModel

LEAST_MS = {"attack_ms": 0.1, "hold_ms": 0.0, "release_ms": 5.0}


@dataclass(frozen=True)
class TimeHandle:
    """A time that begins `from_ms` after the hit; `field` is its path into the move."""

    label: str
    field: str
    value_ms: float
    least_ms: float
    from_ms: float = 0.0


@dataclass(frozen=True)
class CurvePoint:
    """A point of a drawn curve: when, from 0 to 1 of its length, and how deep, from 0 to 1."""

    path: str
    at: float
    deep: float


@dataclass(frozen=True)
class HitFace:
    """The handles of a move over a hit; a curve lasts `length_ms` and falls by `depth_db`."""

    times: list[TimeHandle] = field(default_factory=list)
    points: list[CurvePoint] = field(default_factory=list)
    length_ms: float = 0.0
    depth_db: float = 0.0


def usual_face(move: Any, item: int, tempo_bpm: float) -> HitFace:
    """Attack, hold and release one after another, of the move itself or of its chosen band."""
    owner, path = move, ""
    bands = getattr(move, "bands", None)
    if not hasattr(owner, "attack_ms") and isinstance(bands, list) and item < len(bands):
        owner, path = bands[item], f"bands.{item}."
    if not hasattr(owner, "attack_ms"):
        return HitFace()
    times, begun_ms = [], 0.0
    model: type[BaseModel] = type(owner)
    for name, least_ms in LEAST_MS.items():
        value = getattr(owner, name, None)
        if value is not None:
            title = model.model_fields[name].title or name
            times.append(TimeHandle(title, path + name, value, least_ms, begun_ms))
            begun_ms += value
    return HitFace(times)
