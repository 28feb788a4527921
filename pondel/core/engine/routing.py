"""Who feeds whom: the graph of parts, returns and keys, and what each point in it depends on.

A node is a part at a tap. Its fingerprint is a hash of everything upstream of it, so that
equal fingerprints mean equal sound.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from functools import lru_cache
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

CROSSFADE_S = 0.010
"""Over which a move sets in and lets go at the borders of sections."""
Node = tuple[str, Tap]
MOST_IN_A_ROW = 16


def sound_code() -> str:
    """Which code makes sound, so that chunks of an older one are not believed."""
    return made_by("pondel.core.engine.graph", "pondel.core.engine.chunks", "pondel.core.moves")


def key_of(session: Session, move: Move) -> Key | None:
    """The move's key, or None when it has none; a key whose part is gone counts as a key."""
    return key_in(move)


def active_moves(part: Part) -> list[Move]:
    """The moves that are switched on, in order."""
    return [move for move in part.moves if move.on]


def limits_of(session: Session, move: Move) -> list[tuple[int, int]] | None:
    """Where a move acts, as frames (start, end) in order; None in the whole song.

    Sections that touch, or lie nearer than a crossfade is long, are one stretch: the move does not let
    go between them. One that is limited to sections that are gone acts nowhere.
    """
    if not move.sections:
        return None
    chosen = sorted((s.start_s, s.end_s) for s in session.sections if s.id in move.sections)
    merged: list[tuple[float, float]] = []
    for start_s, end_s in chosen:
        if merged and start_s <= merged[-1][1] + CROSSFADE_S:
            merged[-1] = merged[-1][0], max(merged[-1][1], end_s)
        else:
            merged.append((start_s, end_s))
    return [(round(start_s * session.rate), round(end_s * session.rate)) for start_s, end_s in merged]


def senders(session: Session, part_id: str) -> list[tuple[Part, Tap, float]]:
    """What a return sounds of: parts with tap and level in dB, a group's members among them.

    A muted part and a silent key send nothing, at whichever tap.
    """
    return [one for one in _all_senders(session).get(part_id, []) if one[0].sounds]


def _all_senders(session: Session) -> dict[str, list[tuple[Part, Tap, float]]]:
    """The senders to each return, silent or not, gathered once for a list of parts."""
    parts, found = session.__dict__.get("_senders", (None, {}))
    if parts is session.parts:
        return found
    found = {}
    for part in session.parts:
        for send in part.sends:
            found.setdefault(send.to, []).append((part, send.tap, send.level_db))
        if part.group:
            found.setdefault(part.group, []).append((part, "after fader", 0.0))
    session.__dict__["_senders"] = session.parts, found
    return found


def needs(session: Session, node: Node, *, if_all_on: bool = False) -> list[Node]:
    """The nodes a node is computed from; `if_all_on`: as if no move were off and no part silent."""
    part_id, tap = node
    part = session.part(part_id)
    if tap == "after fader":
        return [(part_id, "before fader")]
    if tap == "source":
        if part.source == "file":
            return []
        sending = _all_senders(session).get(part_id, []) if if_all_on else senders(session, part_id)
        return [(sender.id, tap) for sender, tap, _ in sending]
    moves = part.moves if if_all_on else active_moves(part)
    keys = [key_of(session, move) for move in moves]
    heard = [(key.source, key.tap) for key in keys if key and session.has_part(key.source)]
    return [(part_id, "source"), *heard]


def upstream(session: Session, part_id: str) -> set[str]:
    """Ids of all parts whose sound a part needs to be heard in the mix, groups on its way included."""
    found: set[Node] = set()
    waiting: list[Node] = []
    above: str | None = part_id
    while above is not None:
        waiting.append((above, "after fader"))
        above = session.part(above).group
    while waiting:
        node = waiting.pop()
        if node not in found:
            found.add(node)
            waiting += needs(session, node)
    return {one for one, _ in found}


def check_cycles(session: Session) -> None:
    """BadDocument, naming the parts, when sound would have to feed itself, or pass too many parts."""
    nodes: list[Node] = [(part.id, tap) for part in session.parts for tap in TAPS]
    wires = tuple((node, tuple(needs(session, node, if_all_on=True))) for node in nodes)
    circle, too_far = _faults_of(wires)
    if circle:
        names: list[str] = []
        for part_id, _ in reversed(circle):
            name = session.part(part_id).name
            if not names or names[-1] != name:
                names.append(name)
        if len(names) == 1:
            names *= 2
        raise BadDocument(
            "this would go round in a circle: " + " → ".join(names) + ". Take the key at its source"
        )
    if too_far is not None:
        raise BadDocument(
            f"the sound of {session.part(too_far[0]).name} would pass more than {MOST_IN_A_ROW} "
            "parts in a row: let some of them send, or listen, to an earlier one"
        )


@lru_cache(maxsize=16)
def _faults_of(wires: tuple[tuple[Node, tuple[Node, ...]], ...]) -> tuple[list[Node], Node | None]:
    """The nodes of a circle, if there is one, and the first node that too many parts lead to.

    `wires` are all nodes with those each is computed from: hardly an edit changes them.
    """
    graph = dict(wires)
    try:
        order = list(TopologicalSorter(graph).static_order())
    except CycleError as error:
        return error.args[1], None
    passed: dict[Node, int] = {}
    for node in order:
        passed[node] = max((passed[n] + (n[0] != node[0]) for n in graph[node]), default=1)
        if passed[node] > MOST_IN_A_ROW:
            return [], node
    return [], None


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
        facts = _chain_facts(session, media, part, memo)
    else:
        facts.append(_fingerprint(session, media, (part_id, "before fader"), memo))
        facts += [part.fader_db, part.pan, part.mute]
    memo[node] = content_hash(facts)
    return memo[node]


def _chain_facts(session: Session, media: Media, part: Part, memo: dict[Node, str]) -> list:
    """What a part's chain depends on: its source, then each move that is at work."""
    facts: list = [sound_code(), "before fader", session.rate]
    facts.append(_fingerprint(session, media, (part.id, "source"), memo))
    return facts + [_move_print(session, media, part, move, memo) for move in active_moves(part)]


def chain_prints(
    session: Session, media: Media, part_id: str, memo: dict[Node, str]
) -> tuple[str, ...]:
    """Fingerprints of a part before its fader: without moves, with the first one, up to all of them."""
    facts = _chain_facts(session, media, session.part(part_id), memo)
    moves = len(active_moves(session.part(part_id)))
    return tuple(content_hash(facts[: len(facts) - moves + n]) for n in range(moves + 1))


class _Same:
    """A move as the very one it is: to compare two takes as long as what is asked of them."""

    __slots__ = ("move",)

    def __init__(self, move: Move) -> None:
        self.move = move

    def __hash__(self) -> int:
        return id(self.move)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, _Same) and other.move is self.move


@lru_cache(maxsize=2048)
def _print_of(one: _Same, *around: object) -> str:
    """Hash of what a move does and hangs on; states that follow each other share most of them."""
    return content_hash([one.move.model_dump_json(exclude={"id", "on", "lost", "why"}), *around])


def _move_print(session: Session, media: Media, part: Part, move: Move, memo: dict[Node, str]) -> str:
    limits = limits_of(session, move)
    key = key_of(session, move)
    heard = None
    if key is not None and session.has_part(key.source):
        heard = _fingerprint(session, media, (key.source, key.tap), memo)
    tempo = str(session.beats().facts()) if kind_of(move.kind).timed else ""
    hits_s = str(followed_hits_s(session, media, part, move).tolist())
    return _print_of(_Same(move), None if limits is None else tuple(limits), heard, tempo, hits_s)


def passes_a_space(session: Session, node: Node, memo: dict[Node, bool]) -> bool:
    """Whether some of a node's sound comes out of a hall or an echo; `memo` is one session's."""
    if node not in memo:
        part_id, tap = node
        own = active_moves(session.part(part_id)) if tap == "before fader" else []
        memo[node] = any(kind_of(move.kind).is_space for move in own) or any(
            passes_a_space(session, need, memo) for need in needs(session, node)
        )
    return memo[node]


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

    def key_settled_s(key: Key) -> float:
        upstream = 0.0
        if session.has_part(key.source):
            upstream = run_up_s(session, (key.source, key.tap), memo)
        return upstream + _cuts_settled_s(key)

    settled = run_up_s(session, (part_id, "source"), memo)
    moves = [(move, kind_of(move.kind).settle_s(move)) for move in active_moves(session.part(part_id))]
    return _settled_s(session, moves, settled, key_settled_s)


def _settled_s(
    session: Session,
    moves: list[tuple[Move, float]],
    settled: float,
    key_settled_s: Callable[[Key], float],
) -> float:
    """Seconds until moves in a row have settled, each in so many; before them it took `settled`."""
    for move, own in moves:
        key = key_of(session, move)
        if key is None:
            settled += own
        else:
            settled = max(settled, key_settled_s(key) + own)
    return settled


def _cuts_settled_s(key: Key) -> float:
    cuts = [cut for cut in (key.low_cut_hz, key.high_cut_hz) if cut is not None]
    return sum(filters.settle_s(cut, key.slope_db_oct) for cut in cuts)


def run_up_frames(session: Session, node: Node) -> int:
    """`run_up_s` in whole frames."""
    return math.ceil(run_up_s(session, node) * session.rate)


def key_run_up_frames(session: Session, key: Key) -> int:
    """Frames to start early for what a detector hears, where the sound it listens to is known."""
    return math.ceil(_cuts_settled_s(key) * session.rate)


def chain_run_up_frames(
    session: Session, part_id: str, done: int = 0, *, spaces_ring_on: bool = False
) -> int:
    """Frames to start a part's chain early where all that comes into it, and its keys, is known.

    Of the moves at work the first `done` are done; halls and echoes that ring on need no time to fill.
    """

    def own_s(move: Move) -> float:
        kind = kind_of(move.kind)
        return 0.0 if spaces_ring_on and kind.is_space else kind.settle_s(move)

    moves = [(move, own_s(move)) for move in active_moves(session.part(part_id))[done:]]
    return math.ceil(_settled_s(session, moves, 0.0, _cuts_settled_s) * session.rate)
