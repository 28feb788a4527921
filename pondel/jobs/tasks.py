"""All that goes on in a server: the desk with its queue, the ear first, and what is tended."""

from __future__ import annotations

import threading
import time
import uuid

from huey import Huey

from pondel.core.errors import PondelError
from pondel.core.loading import load
from pondel.jobs.ahead import Ahead
from pondel.jobs.both_ways import LowEndSplits
from pondel.jobs.desk import Desk
from pondel.jobs.downloads import Downloads
from pondel.jobs.ear_first import EarFirst
from pondel.jobs.intake import Intake
from pondel.jobs.listed import Place
from pondel.jobs.making import Maker
from pondel.jobs.meanwhile import Meanwhile
from pondel.jobs.orders import Orders
from pondel.jobs.queue import WORKERS, Workers, check_shared, open_queue, own_queue
from pondel.jobs.songs import Songs
from pondel.jobs.starved import Starved
from pondel.jobs.turns import Turns
from pondel.store.arrivals import Arrivals
from pondel.store.library import Library
from pondel.store.locks import Held, InUse, hold
from pondel.store.prints import Prints
from pondel.store.variants import Variants

TEND_EVERY_S = 1.0
COPY_EVERY_S = 600.0
QUEUE_AGAIN_S = 15.0
SERVING_LOCK, WORKER = "serving.lock", "worker-"


class Jobs:
    """A library with its desk and its queue; `workers` threads take files in and print.

    jobs = Jobs(Library(Path("data")))
    jobs.start()
    arrival = jobs.arrivals.receive(session_id, "tuba.wav", stream)
    jobs.intake.take_in(arrival.id)
    """

    def __init__(self, library: Library, *, immediate: bool = False, workers: int = WORKERS) -> None:
        self.library = library
        self.ear = EarFirst()
        self.turns = Turns(self.ear)
        self.desk = Desk(library, self.turns.step, eager=False)
        self.meanwhile = Meanwhile(self.desk, self.turns)
        self.downloads = Downloads()
        self.low_end_splits = LowEndSplits(self.desk)
        self.ahead = Ahead(self.desk, self.ear)
        self.arrivals = Arrivals(library)
        self.prints = Prints(library)
        self.variants = Variants(library)
        self.starved = Starved(library.data_dir)
        self.queue = open_queue(library.folder, immediate=immediate)
        self._own = own_queue(self.queue)
        self._count = workers
        self._workers: list[Workers] = []
        self._serving: Held | None = None
        self._presence: Held | None = None
        self._ended = threading.Event()
        place = Place(library.folder, self.queue, self.starved)
        self.intake = Intake(self.desk, self.arrivals, place)
        self.orders = Orders(self.desk, self.prints, place)
        self.maker = Maker(library)
        self.songs = Songs(self.desk, self.turns, self.starved, self._own, self._ended)

    def start(self) -> None:
        """Go on with what an earlier run left, and start the workers.

        PondelError when another Pondel serves this folder.
        """
        where = self.library.data_dir
        try:
            self._serving = hold(where / SERVING_LOCK, str(where))
        except InUse as error:
            raise PondelError(
                "another Pondel serves this folder: use that one, or stop it first", where=str(where)
            ) from error
        self.queue.flush()
        self.songs.begin_anew()
        self.library.folder.sweep_claims()
        self.intake.take_in.go_on()
        self.orders.print.go_on()
        self._ended.clear()
        self.turns.begin()
        self._begin_work(self.queue, self._count)
        if self._own is not self.queue:
            self._begin_work(self._own, WORKERS)
        threading.Thread(target=self._tend, name="pondel-tend", daemon=True).start()

    def work(self) -> None:
        """Take files in and print for a server that runs elsewhere, until `stop`.

        PondelError where no Redis server is named: then the server does it all itself.
        """
        check_shared()
        self._presence = hold(self.library.folder.place("claims") / f"{WORKER}{uuid.uuid4().hex}", "")
        self._begin_work(self.queue, self._count)

    def has_workers(self) -> bool:
        """Whether anybody takes files in and prints: this server, or a worker that lives."""
        folder = self.library.folder
        return self._count > 0 or any(
            folder.is_claimed(one.name) for one in folder.place("claims").glob(f"{WORKER}*")
        )

    def _begin_work(self, queue: Huey, count: int) -> None:
        if count:
            self._workers.append(Workers(queue, count))
            self._workers[-1].start()

    def stop(self) -> None:
        """Let the workers finish the files and prints they hold; all else ends at its next step."""
        self._ended.set()
        self.turns.end()
        self.maker.stop()
        self.meanwhile.stop()
        self.desk.tryouts.stop()
        self.desk.plans.stop()
        self.desk.sides.stop()
        self.low_end_splits.stop()
        for workers in self._workers:
            workers.stop(graceful=True)
        self._workers.clear()
        if self._serving is not None:
            self.library.copies.keep(older_than_s=0.0)
        for held in (self._serving, self._presence):
            if held is not None:
                held.release()
        self._serving = self._presence = None

    def _tend(self) -> None:
        """What first use would wait for, once the first page had a moment; then, once in a while: what
        waited for room, what a worker that ended held, the hour's copy."""
        if self._ended.wait(TEND_EVERY_S):
            return
        load()
        copied, queued = -COPY_EVERY_S, time.monotonic()
        while not self._ended.wait(TEND_EVERY_S):
            self.library.folder.make_places()
            self.starved.look()
            self.intake.take_in.go_on_with_lost()
            self.orders.print.go_on_with_lost()
            if time.monotonic() - queued >= QUEUE_AGAIN_S:
                queued = time.monotonic()
                self.intake.take_in.go_on_with_waiting()
                self.orders.print.go_on_with_waiting()
            if time.monotonic() - copied >= COPY_EVERY_S:
                copied = time.monotonic()
                self.library.copies.keep()
