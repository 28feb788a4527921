"""Changes to what is known of the song: zones and decisions, sections, hits, returns and groups."""

from __future__ import annotations

from typing import Any

from pondel.core.document import Part, Session, Zone, parse_session, to_json
from pondel.core.edits import Edit, fresh_id, on_part
from pondel.core.engine.hits import NEAR_S
from pondel.core.errors import BadDocument, NotFound
from pondel.core.losses import without
from pondel.core.moves.controls import parse_control
from pondel.core.units import parse, say_hz


def typed_hz(value: Any) -> float:
    """A frequency as it comes from a form; BadDocument when it is none."""
    found = parse(value, "Hz") if isinstance(value, str) else value
    if isinstance(found, bool) or not isinstance(found, int | float):
        raise BadDocument("a frequency is needed", where="Zone")
    return float(found)


def decide(
    session: Session, leads: str, gives_way: str, low_hz: float, high_hz: float, sections: list[str]
) -> Edit:
    """Store who leads and who gives way in a zone; the pair's own zone there is replaced."""
    low_hz, high_hz = sorted((round(low_hz, 1), round(high_hz, 1)))
    leader, yielder = session.part(leads), session.part(gives_way)
    if leader.id == yielder.id:
        raise BadDocument("a part cannot give way to itself: choose two parts")

    def is_same(zone: Zone) -> bool:
        pair = {zone.leads, *zone.gives_way} == {leads, gives_way}
        return pair and zone.low_hz < high_hz and zone.high_hz > low_hz

    def apply(session: Session) -> Session:
        data = to_json(session)
        kept = [z for z, zone in zip(data["zones"], session.zones, strict=True) if not is_same(zone)]
        zone = {
            "id": fresh_id("z1", {z["id"] for z in kept}),
            "low_hz": low_hz,
            "high_hz": high_hz,
            "leads": leads,
            "gives_way": [gives_way],
            "sections": sections,
        }
        data["zones"] = sorted([*kept, zone], key=lambda z: z["low_hz"])
        return parse_session(data)

    return f"{leader.name} leads {say_hz(low_hz)} to {say_hz(high_hz)}", apply


def remove_zone(session: Session, zone_id: str) -> Edit:
    """Forget a zone and its decision."""
    if zone_id not in {zone.id for zone in session.zones}:
        raise NotFound(f"there is no zone {zone_id!r}")

    def apply(session: Session) -> Session:
        data = to_json(session)
        data["zones"] = [zone for zone in data["zones"] if zone["id"] != zone_id]
        return parse_session(data)

    return "Remove a zone", apply


def set_sections(rows: Any) -> Edit:
    """Replace the sections; each row has a name, `start_s` and `end_s`, and an id when it had one."""
    if not isinstance(rows, list):
        raise BadDocument("sections are a list", where="Sections")
    taken: set[str] = {str(row.get("id")) for row in rows if isinstance(row, dict) and row.get("id")}
    typed: list[dict[str, Any]] = []
    for row in rows:
        if not isinstance(row, dict):
            raise BadDocument("each section has a name, a start and an end", where="Sections")
        section_id = row.get("id") or fresh_id(f"s{len(typed) + 1}", taken)
        taken.add(str(section_id))
        typed.append(
            {
                "id": section_id,
                "name": str(row.get("name", "")).strip() or "Section",
                "start_s": _seconds(row.get("start_s")),
                "end_s": _seconds(row.get("end_s")),
            }
        )
    typed.sort(key=lambda row: row["start_s"])

    def apply(session: Session) -> Session:
        kept = {row["id"] for row in typed}
        gone = {section.id for section in session.sections} - kept
        left, _ = without(session, sections=gone)
        return parse_session({**to_json(left), "sections": typed})

    return "Sections", apply


def _seconds(value: Any) -> float:
    if isinstance(value, bool) or not isinstance(value, int | float):
        raise BadDocument("a time is needed", where="Sections")
    return round(float(value), 4)


def set_hits(session: Session, part_id: str, **changes: Any) -> Edit:
    """Change how a part's hits are found: `sensitivity`, `midi_s`."""
    part = session.part(part_id)
    if "sensitivity" in changes:
        kind = type(part.hits)
        changes["sensitivity"] = parse_control(kind, "sensitivity", changes["sensitivity"])

    def change(data: dict[str, Any]) -> None:
        data["hits"].update(changes)

    return f"{part.name}: hits", on_part(part_id, change)


def toggle_hit(session: Session, part_id: str, at_s: float, found: bool) -> Edit:
    """Add a hit, in seconds of the recording, or take one out (`found`: there is one now)."""
    part = session.part(part_id)
    at_s = round(max(0.0, float(at_s)), 4)

    def change(data: dict[str, Any]) -> None:
        hits = data["hits"]
        away = [t for t in hits["added_s"] if abs(t - at_s) > NEAR_S]
        if found:
            hits["added_s"] = away
            hits["removed_s"] = [*hits["removed_s"], at_s]
            return
        hits["removed_s"] = [t for t in hits["removed_s"] if abs(t - at_s) > NEAR_S]
        hits["added_s"] = sorted([*away, at_s])

    return f"{part.name}: {'remove' if found else 'add'} a hit", on_part(part_id, change)


def forget_corrections(session: Session, part_id: str) -> Edit:
    """Back to the hits as they were found."""
    part = session.part(part_id)

    def change(data: dict[str, Any]) -> None:
        data["hits"].update(added_s=[], removed_s=[], midi_s=None)

    return f"{part.name}: hits as found", on_part(part_id, change)


def add_return(session: Session, name: str) -> Edit:
    """Append a return, to be fed by sends or, as a group, by parts."""
    plain = name.strip() or "Group"
    part = Part(
        id=fresh_id(plain, {p.id for p in session.parts}), name=plain[:80], role="other", source="sends"
    )

    def apply(session: Session) -> Session:
        data = to_json(session)
        data["parts"].append(part.model_dump(mode="json"))
        return parse_session(data)

    return f"Add {plain}", apply


def set_group(session: Session, part_id: str, group: str | None) -> Edit:
    """Let a part feed a group instead of the mix, or the mix again."""
    part = session.part(part_id)
    if group:
        session.part(group)
    name = session.part(group).name if group else "the mix"
    return f"{part.name} to {name}", on_part(part_id, lambda data: data.update(group=group or None))


def set_send(session: Session, part_id: str, to: str, level_db: Any, tap: str | None = None) -> Edit:
    """Send a part to a return at a level, or not at all when the level is null."""
    part, target = session.part(part_id), session.part(to)
    typed = parse(level_db, "dB", optional=True) if isinstance(level_db, str) else level_db

    def change(data: dict[str, Any]) -> None:
        old = next((send for send in data["sends"] if send["to"] == to), {"tap": "after fader"})
        data["sends"] = [send for send in data["sends"] if send["to"] != to]
        if typed is not None:
            data["sends"].append({"to": to, "level_db": typed, "tap": tap or old["tap"]})

    return f"{part.name}: send to {target.name}", on_part(part_id, change)
