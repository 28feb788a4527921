"""Analysis takes turns behind the sound: gently, page by page, and only the newest of its kind."""

from __future__ import annotations

import threading
import time
from collections import OrderedDict, deque
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from contextvars import ContextVar
from dataclasses import dataclass, field
from functools import wraps
from typing import Any, ParamSpec, TypeVar

from pondel.core.errors import PondelError
from pondel.jobs.ear_first import EarFirst
from pondel.jobs.leases import checkpoint
from pondel.jobs.niceness import NICENESS, be_nice

Asked = ParamSpec("Asked")
Result = TypeVar("Result")
STOPPED = "Pondel was stopped"
MOST_QUESTIONS = 1000
MOST_PAGES = 5
LONGEST_STOP_S = 4.0
"""Work behind pages takes a step at least this often, however much they ask."""
SLICE_S = 0.15
"""A page whose question takes longer lets the next page go on, and waits for its turn again."""


class Superseded(PondelError):
    """A newer question came, the session changed, or nobody waits for the answer any more."""


@dataclass(eq=False)
class _Question:
    kind: str
    page: str | None
    ticket: int
    work: Callable[[], Any]
    is_gone: Callable[[], bool]
    answer: Future = field(default_factory=Future)
    since: float = 0.0
    """When its turn began."""


_QUESTION: ContextVar[_Question | None] = ContextVar("question", default=None)
"""What is worked at, in threads of its own too, if they are given the context."""
_IS_BEHIND: ContextVar[bool] = ContextVar("is_behind", default=False)
"""Whether nobody looks at what is done, likewise."""


class Turns:
    """Runs questions one at a time in threads that give way to those that render sound.

    A page asks one question of a kind at a time; a newer one takes the place of the older, even
    when that is being worked at: it ends at its next `step`. The questions of one page are worked
    at in the order in which they came; pages take turns, a slice each, so that none waits long for
    another. A turn is a question's, in however many threads that is worked at: all of them rest where
    it has passed on, and none of them keeps it while another waits for what a question at rest has
    begun. Of more than a few pages the one that asked longest ago is given up, and so is a
    question whose asker has gone.
    """

    def __init__(self, ear: EarFirst) -> None:
        self._ear = ear
        self._pool = ThreadPoolExecutor(
            MOST_PAGES + 1, "pondel-analysis", initializer=be_nice, initargs=(NICENESS,)
        )
        self._newest: dict[tuple[str, str | None], int] = {}
        self._pages: OrderedDict[str | None, deque[_Question]] = OrderedDict()
        self._at_work: set[str | None] = set()
        self._changed = threading.Condition()
        self._waiting: deque[_Question] = deque()
        self._holder: _Question | None = None
        self._count = 0
        self._open = 0
        self._has_ended = False

    def begin(self) -> None:
        """Work behind pages may go on."""
        self._has_ended = False

    def end(self) -> None:
        """All that is not for the ear ends at its next step, and nothing more is begun."""
        with self._changed:
            self._has_ended = True
            self._changed.notify_all()

    def behind(self, work: Callable[Asked, Result]) -> Callable[Asked, Result]:
        """The same work, standing still between its steps while a page waits for something.

        It holds nothing then that a page could wait for. Where it is begun by the thread that answers a
        page, the page waits for just this, and nothing stands still.
        """
        if _QUESTION.get() is not None:
            return work

        @wraps(work)
        def done(*args: Asked.args, **kwargs: Asked.kwargs) -> Result:
            outer = _IS_BEHIND.set(True)
            try:
                return work(*args, **kwargs)
            finally:
                _IS_BEHIND.reset(outer)

        return done

    def take(
        self,
        kind: str,
        page: str | None,
        work: Callable[[], Result],
        is_gone: Callable[[], bool] = lambda: False,
    ) -> Result:
        """The result of `work` when its turn comes; Superseded when it is not wanted any more."""
        with self._changed:
            self._open += 1
        try:
            return self._take(kind, page, work, is_gone)
        finally:
            with self._changed:
                self._open -= 1
                self._changed.notify_all()

    def _take(
        self, kind: str, page: str | None, work: Callable[[], Result], is_gone: Callable[[], bool]
    ) -> Result:
        with self._changed:
            if self._has_ended:
                raise Superseded(STOPPED)
            self._count += 1
            question = _Question(kind, page, self._count, work, is_gone)
            self._newest.pop((kind, page), None)
            self._newest[kind, page] = question.ticket
            while len(self._newest) > MOST_QUESTIONS:
                self._newest.pop(next(iter(self._newest)))
            self._pages.setdefault(page, deque()).append(question)
            self._pages.move_to_end(page)
            while len(self._pages) > MOST_PAGES:
                self._give_up(next(iter(self._pages)))
            if page not in self._at_work:
                self._at_work.add(page)
                self._pool.submit(self._serve, page)
        return question.answer.result()

    def _give_up(self, page: str | None) -> None:
        self._count += 1
        for kind, asking in self._newest:
            if asking == page:
                self._newest[kind, asking] = self._count
        for question in self._pages.pop(page):
            question.answer.set_exception(Superseded("other pages asked since"))

    def _serve(self, page: str | None) -> None:
        """Answer a page's questions until it has none."""
        while True:
            with self._changed:
                questions = self._pages.get(page)
                if not questions:
                    self._pages.pop(page, None)
                    self._at_work.discard(page)
                    return
                question = questions.popleft()
            self._answer(question)

    def _answer(self, question: _Question) -> None:
        self._begin_turn(question)
        outer = _QUESTION.set(question)
        try:
            self.step()
            result = question.work()
        except BaseException as error:
            question.answer.set_exception(error)
        else:
            question.answer.set_result(result)
        finally:
            _QUESTION.reset(outer)
            self._end_turn(question)

    def _begin_turn(self, question: _Question) -> None:
        with self._changed:
            self._waiting.append(question)
            self._hand_on()
            self._changed.wait_for(lambda: self._holder is question)

    def _end_turn(self, question: _Question) -> None:
        with self._changed:
            if self._holder is question:
                self._holder = None
            else:
                self._waiting.remove(question)
            self._hand_on()

    def _hand_on(self) -> None:
        """Let the question that waits longest have its turn, if nobody else has."""
        if self._holder is None and self._waiting:
            self._holder = self._waiting.popleft()
            self._holder.since = time.monotonic()
            self._changed.notify_all()

    def _let_others_go(self, question: _Question) -> None:
        """Stand still until it is the question's turn, which passes on if it has taken long."""
        with self._changed:
            is_over = time.monotonic() - question.since > SLICE_S
            if self._holder is question and self._waiting and is_over:
                self._holder = None
                self._waiting.append(question)
                self._hand_on()
            self._changed.wait_for(lambda: question not in self._waiting)

    def drop(self, page: str) -> None:
        """What a page asked so far is not worth an answer any more: it changed the session."""
        with self._changed:
            self._count += 1
            for kind, asking in self._newest:
                if asking == page:
                    self._newest[kind, asking] = self._count

    def step(self) -> None:
        """Between two steps of any work that is not for the ear: let the sound go first.

        Superseded, or GivenUp behind pages, when what this thread works at is not wanted any more.
        """
        question = _QUESTION.get()
        if question is None:
            checkpoint()
            self._ear.step()
            if _IS_BEHIND.get():
                self._stand_behind()
            checkpoint()
            return
        self._give_up_the_old(question)
        self._ear.step()
        self._let_others_go(question)
        self._give_up_the_old(question)

    def _stand_behind(self) -> None:
        with self._changed:
            self._changed.wait_for(lambda: self._has_ended or not self._open, LONGEST_STOP_S)
        if self._has_ended:
            raise Superseded(STOPPED)

    def _give_up_the_old(self, question: _Question) -> None:
        if self._has_ended:
            raise Superseded(STOPPED)
        if self._newest.get((question.kind, question.page), question.ticket) != question.ticket:
            raise Superseded("a newer question came first")
        if question.is_gone():
            raise Superseded("nobody waits for this any more")
