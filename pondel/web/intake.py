"""Intake: bring parts in, see their levels, trim them to a working level."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from flask import Blueprint, redirect, render_template, request, url_for

from pondel.core.advice.halves import halves
from pondel.core.advice.names import part_name, shared_prefix, sounds_like_a_mix
from pondel.core.audio import midi
from pondel.core.document import MOST_PARTS, ROLES, HitSettings, Part, Session, tempo_change
from pondel.core.engine.hits import NEAR_S
from pondel.core.engine.listen import without_moves
from pondel.core.engine.routing import upstream
from pondel.core.errors import BadAudio, BadDocument
from pondel.core.families import Family
from pondel.core.measures.apart import apart
from pondel.core.measures.tempo import beside_bpm
from pondel.core.moves.controls import control_of
from pondel.core.notes import NOTES
from pondel.core.operations import GiveHits, GiveTempo, JoinHalves, Operation
from pondel.jobs.recordings import Recording
from pondel.jobs.sessions import joined_file
from pondel.jobs.whole_mix import SumLevels
from pondel.store.arrivals import UNFINISHED, plain_name
from pondel.web import asked
from pondel.web.context import desk, head, jobs, library, opened, song_facts
from pondel.web.look import in_families, kept_rows, kinds_of_families

blueprint = Blueprint("intake", __name__, url_prefix="/sessions/<session_id>")
TRIM_BY = {"rms": "RMS", "peak": "sample peak", "loudness": "loudness"}
TOLD_CHANGES = 6
DEFAULT_TARGET = {"rms": -18.0, "peak": -6.0, "loudness": -23.0}


@dataclass(frozen=True)
class Row:
    """A part with what was measured of it."""

    part: Part
    recording: Recording | None
    hits: int

    def shifted(self, level: float | None) -> float | None:
        """A level of the recording after trim and fader."""
        return None if level is None else level + self.part.trim_db + self.part.fader_db

    @property
    def after_fader_lufs(self) -> float | None:
        return self.shifted(self.recording.levels.integrated_lufs) if self.recording else None

    @property
    def after_fader_peak_dbfs(self) -> float | None:
        return self.shifted(self.recording.levels.sample_peak_dbfs) if self.recording else None


def rows(document: Session) -> list[Row]:
    return [
        Row(
            part,
            desk().recordings.readable(part.file) if part.file else None,
            int(desk().hits_s(part).size),
        )
        for part in document.parts
    ]


SORTS: dict[str, Callable[[Row], Any]] = {
    "name": lambda row: row.part.name.lower(),
    "role": lambda row: ROLES.index(row.part.role),
    "length": lambda row: row.recording.frames if row.recording else 0,
    "peak": lambda row: row.recording.levels.sample_peak_dbfs if row.recording else -999.0,
    "true peak": lambda row: row.recording.levels.true_peak_dbtp if row.recording else -999.0,
    "rms": lambda row: row.recording.levels.rms_dbfs if row.recording else -999.0,
    "loudness": lambda row: (row.recording and row.recording.levels.integrated_lufs) or -999.0,
    "clipped": lambda row: row.recording.levels.clipped_runs if row.recording else 0,
    "hits": lambda row: row.hits,
    "after fader": lambda row: row.after_fader_lufs or -999.0,
}


def asked_order(found: list[Row]) -> tuple[list[Row], str, bool]:
    """The rows in the order the address asks for: by a column, downwards or upwards."""
    by, down = request.args.get("sort", ""), request.args.get("down") == "1"
    if by not in SORTS:
        return found, "", False
    return sorted(found, key=SORTS[by], reverse=down), by, down


@blueprint.get("/intake")
def show(session_id: str):
    """The screen.

    What arrives is looked at before the session: what came in meanwhile is a part, or still to come.
    """
    arrivals = jobs().arrivals.of_session(session_id)
    revision = opened(session_id)
    document = revision.document
    found, bare = rows(document), without_moves(document)
    ordered, by, down = asked_order(found)
    chosen = request.args.get("part", "")
    detail = next((row for row in found if row.part.id == chosen), found[0] if found else None)
    return render_template(
        "intake.html",
        stage="intake",
        facts=song_facts(session_id, revision),
        document=document,
        rows=ordered,
        headings=_headings(session_id, bare, ordered),
        row_kinds=kinds_of_families(document),
        kept_rows=kept_rows(),
        sort=by,
        down=down,
        detail=detail,
        returns=[part for part in document.parts if part.source == "sends"],
        sensitivity=control_of(HitSettings, "sensitivity"),
        arrivals=arrivals,
        seconds_left=jobs().intake.left_s(session_id),
        unfinished=UNFINISHED,
        starved=jobs().starved.names(),
        has_workers=jobs().has_workers(),
        roles=ROLES,
        notes=NOTES,
        beside_bpm=beside_bpm(document.tempo_bpm) if document.tempo_from == "hits" else [],
        tempo_words=_tempo_words(document),
        joinable=_joinable(found),
        mixes=[part for part in document.parts if _is_a_mix(part)],
        references=_references(session_id, bare, found),
        trim_by=TRIM_BY,
        targets=DEFAULT_TARGET,
    )


def _is_a_mix(part: Part) -> bool:
    return part.file is not None and not part.reference and sounds_like_a_mix(part.name)


@dataclass(frozen=True)
class FoldedRow:
    """Rows of a family with their sum after the fader, without moves: None while it is measured."""

    family: Family | None
    rows: list[Row]
    sounding: list[str]
    """Of a family, ids of those that reach the mix with a sound that can be made."""
    levels: SumLevels | None


def _headings(session_id: str, bare: Session, ordered: list[Row]) -> list[FoldedRow]:
    row_of = {row.part.id: row for row in ordered}
    faulty = library().media.faults(bare)
    found: list[FoldedRow] = []
    for heading in in_families(bare, [row.part for row in ordered], kept_rows()):
        sounding, levels = [], None
        if heading.family:
            whole = (p for p in heading.parts if not upstream(bare, p.id) & faulty.keys())
            sounding = [part.id for part in whole if part.sounds]
        if sounding:
            levels = jobs().meanwhile.sum_levels(session_id, bare, sounding)
        rows_of = [row_of[part.id] for part in heading.parts]
        found.append(FoldedRow(heading.family, rows_of, sounding, levels))
    return found


def _joinable(rows: list[Row]) -> list[tuple[Part, Part, str]]:
    """Mono parts that are the left and the right of one by their names, and begin together."""
    mono = [row.part for row in rows if row.recording is not None and row.recording.channels == 1]
    found = [(mono[a], mono[b], name) for a, b, name in halves([part.name for part in mono])]
    return [(left, right, name) for left, right, name in found if left.start_s == right.start_s]


@dataclass(frozen=True)
class Reference:
    """A reference, and how far it is from the plain sum of the parts: None while that is worked out."""

    part: Part
    words: str | None


def _references(session_id: str, bare: Session, rows: list[Row]) -> list[Reference]:
    found: list[Reference] = []
    faulty = library().media.faults(bare)
    for row in rows:
        if not row.part.reference or row.recording is None:
            continue
        if not bare.summed() or faulty:
            why = "a recording cannot be read" if faulty else "no part sounds that could be compared"
            found.append(Reference(row.part, why))
            continue
        tone = jobs().meanwhile.tone(session_id, bare)
        away = tone and apart(np.array(row.recording.spectrum_db), np.array(tone.spectrum_db))
        words = None if tone is None else away.words() if away else "they have no band in common"
        found.append(Reference(row.part, words))
    return found


def _tempo_words(document: Session) -> list[str]:
    """The changes of tempo and signature, each by its bar; the first few of many."""
    beats, words = document.beats(), []
    bpm, signature = document.tempo_bpm, (document.beats_per_bar, document.beat_note)
    for one in document.tempo_changes[:TOLD_CHANGES]:
        bar = (one.beats_per_bar, one.beat_note)
        told = [f"{bar[0]}/{bar[1]}"] * (bar != signature) + [f"{one.tempo_bpm:g} bpm"] * (
            one.tempo_bpm != bpm
        )
        words.append(f"{' at '.join(told)} from bar {beats.bar_at(one.at_s):.4g}")
        bpm, signature = one.tempo_bpm, bar
    more = len(document.tempo_changes) - TOLD_CHANGES
    return [*words, f"and {more} more"] if more > 0 else words


@blueprint.get("/intake/outline")
def outline_of(session_id: str):
    """A part's outline over the song with its hits, for the picture in which they are corrected."""
    part = head(session_id).document.part(request.args.get("part", ""))
    if part.file is None:
        raise BadDocument("a return has no recording")
    recording = desk().recording(part.file)
    return {
        "start_s": part.start_s,
        "seconds": recording.frames / recording.rate,
        "columns": recording.outline,
        "hits_s": np.round(desk().hits_s(part), 4).tolist(),
        "near_s": NEAR_S,
        "added_s": [round(t + part.start_s, 4) for t in part.hits.added_s],
    }


@blueprint.post("/intake/midi")
def midi_hits(session_id: str):
    """Read a part's hits, or the song's tempo and its changes, from a MIDI file."""
    handed = request.files.get("file")
    if handed is None or not handed.filename:
        raise BadDocument("no MIDI file was chosen")
    name = plain_name(handed.filename)
    score = midi.read_score(handed.stream.read(midi.MOST_BYTES + 1), name)
    asked_for: list[Operation] = []
    part_id = request.form.get("part", "")
    document = head(session_id).document
    if part_id:
        times = midi.hit_times_s(score, name)
        asked_for.append(GiveHits(part=document.part(part_id).id, times_s=times))
    if not part_id or _tells_the_tempo(document, document.part(part_id), score):
        tempo = [tempo_change(one) for one in midi.tempo_map(score, name)]
        asked_for.append(GiveTempo(tempo=tempo))
    desk().do(session_id, asked_for, base=asked.whole("base"))
    return redirect(url_for("intake.show", session_id=session_id, part=part_id or None), 303)


def _tells_the_tempo(document: Session, part: Part, score: midi.Score) -> bool:
    """Whether a part's notes bring the song's tempo too: nobody told it, and both begin together."""
    return midi.fault_of_tempo(score) is None and document.tempo_from != "told" and part.start_s == 0.0


@blueprint.post("/intake/join")
def join(session_id: str):
    """Make one stereo part of a left and a right one."""
    document = head(session_id).document
    left, right = (document.part(asked.words(side, most=40)) for side in ("left", "right"))
    file = joined_file(library(), left, right)
    desk().recordings.take(file)
    name = asked.words("name", most=80) or left.name
    operation = JoinHalves(left=left.id, right=right.id, name=name, file=file)
    desk().do(session_id, [operation], base=asked.whole("base"))
    return redirect(url_for("intake.show", session_id=session_id, part=left.id), 303)


@blueprint.post("/arrivals/stop")
def stop_all(session_id: str):
    """Stop every file that is still on its way."""
    for arrival in jobs().arrivals.of_session(session_id):
        if arrival.state in UNFINISHED:
            jobs().arrivals.dismiss(arrival.id)
    return redirect(url_for("intake.show", session_id=session_id), 303)


@blueprint.post("/arrivals")
def receive(session_id: str):
    """Take in uploaded files; what is answered is on disk and will become a part."""
    document = head(session_id).document
    replaces = asked.words("replaces", most=40)
    if replaces and document.part(replaces).file is None:
        raise BadDocument("a return has no recording to replace", where=document.part(replaces).name)
    handed = [file for file in request.files.getlist("file") if file.filename]
    if not handed:
        raise BadAudio("no file was chosen")
    if replaces and len(handed) > 1:
        raise BadAudio("one file takes the place of a recording, not several")
    refused = []
    beside = [plain_name(name) for name in request.form.getlist("beside")[:MOST_PARTS]]
    for file in handed:
        try:
            arrival = jobs().arrivals.receive(
                session_id,
                file.filename or "",
                file.stream,
                replaces=replaces,
                title=part_name(plain_name(file.filename or ""), shared_prefix(beside)),
            )
        except BadAudio as error:
            refused.append(error)
            continue
        jobs().intake.take_in(arrival.id)
    if refused:
        raise refused[0]
    if request.headers.get("X-CSRFToken"):
        return {"received": len(handed)}, 202
    return redirect(url_for("intake.show", session_id=session_id))


@blueprint.post("/arrivals/<arrival_id>/dismiss")
def dismiss(session_id: str, arrival_id: str):
    """Stop a file that is on its way, or put its message away."""
    jobs().arrivals.dismiss(jobs().arrivals.get(arrival_id, session_id).id)
    return redirect(url_for("intake.show", session_id=session_id), 303)
