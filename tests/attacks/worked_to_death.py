"""Imports, edits, prints and analyses until it is killed; tells what was answered, line by line."""

from __future__ import annotations

import io
import os
from pathlib import Path

from pondel.core.errors import PondelError
from pondel.core.operations.song import SetSession
from pondel.jobs import sessions
from pondel.jobs.tasks import Jobs
from pondel.store.library import Library
from pondel.store.prints import Order


def work(data: Path, given: Path, number: int, told: Path) -> None:
    """Go on for ever; `told` gets a line for each thing that was answered."""
    lines = os.open(told, os.O_WRONLY | os.O_APPEND | os.O_CREAT)

    def tell(line: str) -> None:
        os.write(lines, f"{line}\n".encode())

    library = Library(data)
    jobs = Jobs(library)
    jobs.start()
    tell("up")
    if number % 4 == 0:
        # Each is another recording by its last sample: a recording that is there is not taken again.
        body = (given / "a.wav").read_bytes()[:-3] + number.to_bytes(3, "little")
        stream = io.BytesIO(body)
        jobs.intake.take_in(jobs.arrivals.receive("song", f"{number} kick.wav", stream).id)
        tell("received")
    if number % 4 == 1 and library.head("song").document.parts:
        jobs.orders.print(
            jobs.prints.order("song", library.head("song").id, Order("mix", "wav", "24")).id
        )
        tell("ordered")
    if number % 4 == 2:
        sessions.import_archive(library, given / "session.zip")
        tell("packed")
    if number % 4 == 3:
        try:
            jobs.songs.listen("song", library.head("song").document)
        except PondelError as error:
            tell(f"said {error.message}")
    edit = number * 100_000
    while True:
        edit += 1
        library.edit("song", None, SetSession(field="name", value=f"Edit {edit}").apply)
        tell(f"edits {edit}")
