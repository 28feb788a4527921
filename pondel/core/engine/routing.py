"""Who feeds whom: the graph of parts, returns and keys, and what each point in it depends on.

A node is a part at a tap. Its fingerprint is a hash of everything upstream of it, so that
equal fingerprints mean equal sound.
"""

from __future__ import annotations

import math
from graphlib import CycleError, TopologicalSorter

from pondel.core.audio.media import Media
from pondel.core.document import Move, Part, Session, content_hash
from pondel.core.dsp import filters
from pondel.core.engine.hits import followed_hits_s
from pondel.core.errors import BadDocument
from pondel.core.made_by import made_by
from pondel.core.moves.base import key_in
from pondel.core.moves.describe import TAPS, Key, Tap
from pondel.core.moves.registry import kind_of

Node = tuple[str, Tap]
MOST_IN_A_ROW = 16


def sound_code() -> str:
    """Which code makes sound, so that chunks of an older one are not believed."""
    return made_by("pondel.core.engine.graph", "pondel.core.engine.chunks", "pondel.core.moves")


def active_moves(part: Part) -> list[Move]:
    """The moves that are switched on, in order."""
    return [move for move in part.moves if move.on]


def key_of(session: Session, move: Move) -> Key | None:
    """The move's key, or None when it has none; a key whose part is gone counts as a key."""
    return key_in(move)


def senders(session: Session, part_id: str) -> list[tuple[Part, Tap, float]]:
    """The parts that send to a return, with tap and level in dB; a group's members among them."""
    parts, found = session.__dict__.get("_senders", (None, {}))
    if parts is not session.parts:
        found = _all_senders(session)
        session.__dict__["_senders"] = session.parts, found
    return found.get(part_id, [])


def _all_senders(session: Session) -> dict[str, list[tuple[Part, Tap, float]]]:
    found: dict[str, list[tuple[Part, Tap, float]]] = {}
    for part in session.parts:
        for send in part.sends:
            found.setdefault(send.to, []).append((part, send.tap, send.level_db))
        if part.group and not part.silent_key:
            found.setdefault(part.group, []).append((part, "after fader", 0.0))
    return found


def needs(session: Session, node: Node, *, all_moves: bool = False) -> list[Node]:
    """The nodes a node is computed from."""
    part_id, tap = node
    part = session.part(part_id)
    if tap == "after fader":
        return [(part_id, "before fader")]
    if tap == "source":
        if part.source == "file":
            return []
        return [(sender.id, tap) for sender, tap, _ in senders(session, part_id)]
    moves = part.moves if all_moves else active_moves(part)
    keys = [key_of(session, move) for move in moves]
    heard = [(key.source, key.tap) for key in keys if key and session.has_part(key.source)]
    return [(part_id, "source"), *heard]


def check_cycles(session: Session) -> None:
    """BadDocument, naming the parts, when sound would have to feed itself, or pass too many parts."""
    nodes: list[Node] = [(part.id, tap) for part in session.parts for tap in TAPS]
    graph = {node: needs(session, node, all_moves=True) for node in nodes}
    try:
        order = list(TopologicalSorter(graph).static_order())
    except CycleError as error:
        names: list[str] = []
        for part_id, _ in reversed(error.args[1]):
            name = session.part(part_id).name
            if not names or names[-1] != name:
                names.append(name)
        if len(names) == 1:
            names *= 2
        raise BadDocument(
            "this would go round in a circle: " + " → ".join(names) + ". Take the key at its source"
        ) from error
    passed: dict[Node, int] = {}
    for node in order:
        passed[node] = max((passed[n] + (n[0] != node[0]) for n in graph[node]), default=1)
        if passed[node] > MOST_IN_A_ROW:
            raise BadDocument(
                f"the sound of {session.part(node[0]).name} would pass more than {MOST_IN_A_ROW} "
                "parts in a row: let some of them send, or listen, to an earlier one"
            )


def fingerprint(session: Session, media: Media, node: Node, memo: dict[Node, str] | None = None) -> str:
    """Hash of all that the sound at a node depends on; `memo` keeps those of one session."""
    return _fingerprint(session, media, node, {} if memo is None else memo)


def _fingerprint(session: Session, media: Media, node: Node, memo: dict[Node, str]) -> str:
    if node in memo:
        return memo[node]
    part_id, tap = node
    part = session.part(part_id)
    facts: list = [sound_code(), tap, session.rate]
    if tap == "source":
        facts += [part.source, part.file, part.trim_db, part.start_s]
        if part.source == "sends":
            facts += [
                [_fingerprint(session, media, (sender.id, at), memo), level_db]
                for sender, at, level_db in senders(session, part_id)
            ]
    elif tap == "before fader":
        facts.append(_fingerprint(session, media, (part_id, "source"), memo))
        facts += [_move_facts(session, media, part, move, memo) for move in active_moves(part)]
    else:
        facts.append(_fingerprint(session, media, (part_id, "before fader"), memo))
        facts += [part.fader_db, part.pan, part.mute]
    memo[node] = content_hash(facts)
    return memo[node]


def _move_facts(session: Session, media: Media, part: Part, move: Move, memo: dict[Node, str]) -> list:
    settings = move.model_dump_json(exclude={"id", "on", "lost", "why"})
    limits = [[s.start_s, s.end_s] for s in session.sections if s.id in move.sections]
    key = key_of(session, move)
    heard = None
    if key is not None and session.has_part(key.source):
        heard = _fingerprint(session, media, (key.source, key.tap), memo)
    tempo = session.tempo_bpm if kind_of(move.kind).timed else None
    hits_s = followed_hits_s(session, media, part, move).tolist()
    return [settings, limits, heard, tempo, hits_s]


def run_up_s(session: Session, node: Node, memo: dict[Node, float] | None = None) -> float:
    """Seconds a render must start early for the sound at a node to have settled.

    A move that listens to a key settles from the start on, together with what comes before it
    in the chain; one that listens to its own part only after that. `memo` keeps those of one session.
    """
    memo = {} if memo is None else memo
    if node not in memo:
        memo[node] = _run_up_s(session, node, memo)
    return memo[node]


def _run_up_s(session: Session, node: Node, memo: dict[Node, float]) -> float:
    part_id, tap = node
    if tap != "before fader":
        return max((run_up_s(session, need, memo) for need in needs(session, node)), default=0.0)
    settled = run_up_s(session, (part_id, "source"), memo)
    for move in active_moves(session.part(part_id)):
        own = kind_of(move.kind).settle_s(move)
        key = key_of(session, move)
        if key is None:
            settled += own
        else:
            settled = max(settled, _key_settled_s(session, key, memo) + own)
    return settled


def _key_settled_s(session: Session, key: Key, memo: dict[Node, float]) -> float:
    upstream = 0.0
    if session.has_part(key.source):
        upstream = run_up_s(session, (key.source, key.tap), memo)
    cuts = [cut for cut in (key.low_cut_hz, key.high_cut_hz) if cut is not None]
    return upstream + sum(filters.settle_s(cut, key.slope_db_oct) for cut in cuts)


def run_up_frames(session: Session, node: Node) -> int:
    """`run_up_s` in whole frames."""
    return math.ceil(run_up_s(session, node) * session.rate)
