"""Blind tests under way: their sounds under names that say nothing, their answers on disk.

    running = desk.blind.begin(session_id, sides, target, rounds, stretch)
    desk.blind.sound(session_id, running.name, running.tokens[0])    # float32 (frames, 2)
    desk.blind.answer(session_id, running.name, place, round_seen=0)

Each sound of each round has a name of its own, drawn when the round is; all have the same length and
the same loudness, and a little noise of their own far below hearing, so that no two are alike.
"""

from __future__ import annotations

import secrets
import threading
from collections import OrderedDict
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import UTC, datetime

import numpy as np

from pondel.core.blind import Blind
from pondel.core.document import Session
from pondel.core.engine.chunks import ChunkedSession
from pondel.core.engine.listen import make_plan, plan_region
from pondel.core.errors import BadDocument, NotFound, StaleEdit
from pondel.core.measures.loudness import loudness_lufs
from pondel.store.ledger import Ledger

HIDDEN_DB = -120.0
"""The level of the noise that makes each sound one of its own, dBFS."""
HEADROOM_DB = -0.5
MOST_RUNNING, LONGEST_S = 4, 30
FORGOTTEN = "this blind test was forgotten: begin another"


@dataclass
class Running:
    """A test under way, with the sounds of its sides and the tokens of its present round."""

    name: str
    session_id: str
    document: Session
    test: Blind
    sounds: dict[str, np.ndarray]
    tokens: list[str] = field(default_factory=list)

    def draw(self) -> None:
        """Give the sounds of the present round new names."""
        self.tokens = [secrets.token_urlsafe(18) for _ in self.test.sides]


class BlindTests:
    """The tests of a desk. Thread-safe."""

    def __init__(self, now: Callable[[Session], ChunkedSession], ledger: Ledger) -> None:
        self._now, self._ledger = now, ledger
        self._running: OrderedDict[str, Running] = OrderedDict()
        self._lock = threading.Lock()

    def begin(
        self,
        session_id: str,
        sides: list[tuple[str, Session]],
        target: str,
        rounds: int,
        stretch: tuple[int, int],
    ) -> Running:
        """Begin a test over a stretch (first frame, frames); the target's session is what is judged."""
        test = Blind.drawn([name for name, _ in sides], target, rounds)
        if stretch[1] > LONGEST_S * sides[0][1].rate:
            raise BadDocument(f"a loop of {LONGEST_S} s at most: shorten it, nobody compares more")
        sounds = _matched({name: self._mix(one, stretch) for name, one in sides}, sides[0][1].rate)
        stamp = datetime.now(UTC).strftime("%Y%m%d-%H%M%S")
        running = Running(
            f"{stamp}-{secrets.token_hex(3)}", session_id, dict(sides)[target], test, sounds
        )
        running.draw()
        with self._lock:
            self._running[running.name] = running
            while len(self._running) > MOST_RUNNING:
                self._running.popitem(last=False)
        return running

    def under_way(self, session_id: str) -> Running | None:
        """The newest test of a session that was begun and is not over."""
        with self._lock:
            every = [one for one in self._running.values() if one.session_id == session_id]
        return next((one for one in reversed(every) if not one.test.is_over), None)

    def give_up(self, session_id: str, name: str) -> None:
        """Forget a test and its sounds."""
        self.named(session_id, name)
        with self._lock:
            self._running.pop(name, None)

    def named(self, session_id: str, name: str) -> Running:
        """A test under way; NotFound when it was forgotten, or is another session's."""
        with self._lock:
            found = self._running.get(name)
        if found is None or found.session_id != session_id:
            raise NotFound(FORGOTTEN)
        return found

    def sound(self, session_id: str, name: str, token: str) -> np.ndarray:
        """What is played under a token of the present round, float32 (frames, 2)."""
        running = self.named(session_id, name)
        with self._lock:
            if token not in running.tokens or running.test.is_over:
                raise NotFound("this sound is not played any more")
            at = running.tokens.index(token)
            side = running.test.orders[len(running.test.answers)][at]
        sound = running.sounds[side]
        noise = np.random.default_rng().standard_normal(sound.shape, np.float32)
        return sound + noise * np.float32(10 ** (HIDDEN_DB / 20))

    def answer(self, session_id: str, name: str, place: int, round_seen: int) -> Running:
        """Take the answer of the round that was seen; the result is on disk with the last."""
        running = self.named(session_id, name)
        with self._lock:
            if round_seen != len(running.test.answers):
                raise StaleEdit("that round is over: go on with the present one")
            running.test = running.test.answered(place)
            running.draw()
        if running.test.is_over:
            self._ledger.put(session_id, "blind", name, running.test.as_json())
        return running

    def keep(self, session_id: str, name: str, side: str) -> Blind:
        """Write down which side one would keep."""
        body = self._ledger.get(session_id, "blind", name)
        if body is None:
            raise NotFound(FORGOTTEN)
        test = Blind.of(body).keeping(side)
        self._ledger.put(session_id, "blind", name, test.as_json())
        return test

    def taken(self, session_id: str) -> dict[str, Blind]:
        """All tests that were finished, the newest first."""
        return {name: Blind.of(body) for name, body in self._ledger.every(session_id, "blind").items()}

    def _mix(self, document: Session, stretch: tuple[int, int]) -> np.ndarray:
        return plan_region(make_plan(document, "mix"), self._now(document), *stretch)


def _matched(sounds: dict[str, np.ndarray], rate: int) -> dict[str, np.ndarray]:
    """All sides as loud as the softest, none over full scale; BadDocument when one is silent."""
    loudness = {name: loudness_lufs(sound, rate) for name, sound in sounds.items()}
    told = [one for one in loudness.values() if one is not None]
    if len(told) < len(sounds):
        raise BadDocument("one of the sides is silent in the loop: there is nothing to tell apart")
    gains = {name: 10 ** ((min(told) - (loudness[name] or 0.0)) / 20) for name in sounds}
    peak = max(gains[name] * float(np.abs(sound).max(initial=0.0)) for name, sound in sounds.items())
    down = min(1.0, 10 ** (HEADROOM_DB / 20) / max(peak, 1e-9))
    return {name: (sound * np.float32(gains[name] * down)) for name, sound in sounds.items()}
