"""Long work behind everything else: what is asked for is there, or begun and asked for again.

meanwhile.outline(session_id, document, 600)      # None while it is being drawn
"""

from __future__ import annotations

import logging
import threading
from collections.abc import Callable
from typing import TypeVar

from pondel.core.document import Session
from pondel.core.errors import PondelError
from pondel.core.families import Members
from pondel.core.hearing.table import HiddenTable
from pondel.jobs.desk import Desk
from pondel.jobs.leases import BROKEN
from pondel.jobs.niceness import be_nice
from pondel.jobs.references import Told
from pondel.jobs.sides import Where
from pondel.jobs.turns import Superseded, Turns
from pondel.jobs.whole_mix import MixTone, SumLevels

Known = TypeVar("Known")
log = logging.getLogger("pondel.jobs")


class Meanwhile:
    """Passes over whole songs, each once at a time. Thread-safe."""

    def __init__(self, desk: Desk, turns: Turns) -> None:
        self._desk, self._turns = desk, turns
        self._under_way: dict[str, threading.Thread] = {}
        self._failures: dict[str, str] = {}
        self._lock = threading.Lock()

    def outline(self, session_id: str, document: Session, columns: int) -> list[list[float]] | None:
        """The mix's outline, None while it is being drawn: that is begun if need be."""
        mix = self._desk.whole_mix
        return self._known_or_begun(
            mix.known_outline(document, columns),
            f"outline {session_id}",
            lambda: mix.outline(document, columns),
        )

    def table(self, session_id: str, document: Session, families: Members) -> HiddenTable | None:
        """The song's table; with families, which are added up apart, None until that is done."""
        analysis = self._desk.analysis
        if not families:
            return analysis.table(document)
        return self._known_or_begun(
            analysis.known_table(document, families),
            f"families {session_id}",
            lambda: analysis.table(document, families),
        )

    def sum_levels(self, session_id: str, document: Session, parts: list[str]) -> SumLevels | None:
        """The levels of parts together, None while they are taken: that is begun if need be."""
        mix = self._desk.whole_mix
        return self._known_or_begun(
            mix.known_levels(document, parts),
            f"levels {session_id} {' '.join(parts)}",
            lambda: mix.levels(document, parts),
        )

    def tone(self, session_id: str, document: Session) -> MixTone | None:
        """The tone of the mix, None while it is taken: that is begun if need be."""
        mix = self._desk.whole_mix
        return self._known_or_begun(
            mix.known_tone(document), f"tone {session_id}", lambda: mix.tone(document)
        )

    def beside(self, session_id: str, document: Session, where: Where) -> Told | None:
        """The mix beside its references, None while they are compared: that is begun if need be."""
        references = self._desk.references
        return self._known_or_begun(
            references.known(document, where),
            f"references {session_id}",
            lambda: references.compare(document, where),
        )

    def stop(self) -> None:
        """Wait until all that is under way has ended, as `Turns.end` has it end."""
        with self._lock:
            under_way = list(self._under_way.values())
        for thread in under_way:
            thread.join()

    def _known_or_begun(
        self, known: Known | None, name: str, work: Callable[[], Known | None]
    ) -> Known | None:
        if known is None:
            self._begin(name, work)
        return known

    def _begin(self, name: str, work: Callable[[], object]) -> None:
        """Do long work behind pages, once at a time; a failure is told when asked again."""
        with self._lock:
            failure = self._failures.pop(name, None)
            if failure is not None:
                raise PondelError(failure)
            if name in self._under_way:
                return
            thread = threading.Thread(
                target=self._do, args=(name, work), name="pondel-meanwhile", daemon=True
            )
            self._under_way[name] = thread
            thread.start()

    def _do(self, name: str, work: Callable[[], object]) -> None:
        be_nice()
        failure = ""
        try:
            self._turns.behind(work)()
        except Superseded:
            pass
        except PondelError as error:
            failure = error.line()
        except Exception:
            log.exception("%s broke off", name)
            failure = BROKEN
        with self._lock:
            self._under_way.pop(name)
            if failure:
                self._failures[name] = failure
