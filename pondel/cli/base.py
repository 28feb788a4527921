"""The group of commands, and what most of them need: the library, a session, words for trouble."""

from __future__ import annotations

import os
import sys
import tempfile
import traceback
from collections.abc import Iterator
from contextlib import closing, contextmanager
from io import TextIOWrapper
from pathlib import Path
from typing import TYPE_CHECKING

import click

from pondel.core.errors import DiskFull, PondelError

if TYPE_CHECKING:
    from pondel.core.document import Session
    from pondel.jobs.desk import Desk
    from pondel.store.library import Library

DEFAULT_DATA = Path("~/.local/share/pondel")
PRIVATE_UMASK = 0o077
USUAL_UMASK = os.umask(PRIVATE_UMASK)
os.umask(USUAL_UMASK)
data_option = click.option(
    "--data",
    "data_dir",
    type=click.Path(path_type=Path, file_okay=False),
    default=DEFAULT_DATA,
    envvar="PONDEL_DATA",
    show_default=True,
    help="Folder that holds all sessions.",
)


def say(text: str) -> None:
    """One line of progress on standard error."""
    click.echo(text, err=True)


class Pondel(click.Group):
    """Turns what a user can mend into one line on standard error and exit status 2.

    What nobody foresaw is one line too, with status 1; its details go to a file.
    """

    def invoke(self, ctx: click.Context):
        for stream in (sys.stdout, sys.stderr):
            # A terminal that knows ASCII alone shows a question mark for what it lacks.
            if isinstance(stream, TextIOWrapper):
                stream.reconfigure(errors="replace")
        try:
            return super().invoke(ctx)
        except PondelError as error:
            say(f"pondel: {error.line()}")
            ctx.exit(2)
        except (click.ClickException, click.exceptions.Exit, click.Abort):
            raise
        except Exception as error:
            if (words := _of_the_machine(error)) is not None:
                say(f"pondel: {words}")
                ctx.exit(2)
            # A file of its own: a name that could be foreseen may be a link that somebody laid there.
            handle, details = tempfile.mkstemp(prefix="pondel-", suffix=".log")
            with os.fdopen(handle, "w", errors="replace") as log:
                log.write(traceback.format_exc())
            say(f"pondel: something went wrong inside Pondel ({type(error).__name__}): see {details}")
            ctx.exit(1)


def _of_the_machine(error: Exception) -> str | None:
    """What files, the disk or the database refused, in words; None for anything else."""
    from peewee import DatabaseError

    from pondel.store.room import is_full

    if isinstance(error, OSError):
        full = "the disk is full" if is_full(error) else error.strerror or str(error)
        return f"{error.filename or 'file'}: {full}"
    if isinstance(error, DatabaseError):
        return "the disk is full" if is_full(error) else f"the database cannot be used: {error}"
    return None


@click.group(cls=Pondel, context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(package_name="pondel")
def main() -> None:
    """Finds where the parts of a song hide each other, and makes room."""


def open_library(data_dir: Path, *, create: bool = False) -> Library:
    """The library, with today's copy of its database; files made from now on are private.

    PondelError where there is none and it is not to be made.
    """
    from pondel.store.library import Library

    os.umask(PRIVATE_UMASK)
    folder = data_dir.expanduser()
    if not create and not folder.is_dir():
        raise PondelError(
            "there is no data folder here: `pondel import` and `pondel serve` make one, "
            "--data DIR names another",
            where=str(folder),
        )
    library = Library(folder)
    library.copies.keep()
    return library


@contextmanager
def made_for_others(path: Path) -> Iterator[None]:
    """What is written into a file or folder outside the data folder is as public as usual."""
    from pondel.store.room import is_full

    before = os.umask(USUAL_UMASK)
    try:
        yield
    except OSError as error:
        if is_full(error):
            raise DiskFull("the disk is full") from error
        raise
    finally:
        os.umask(before)


@contextmanager
def opened(source: str, data_dir: Path) -> Iterator[tuple[Desk, Session, str]]:
    """A session by id or name, or a session.json, which is read into a passing library."""
    from pondel.jobs import sessions
    from pondel.jobs.desk import Desk
    from pondel.store.library import Library

    path = Path(source)
    if path.suffix == ".json" and path.is_file():
        with tempfile.TemporaryDirectory() as folder, closing(Library(Path(folder))) as library:
            session_id = sessions.import_document(library, path)
            yield Desk(library), library.head(session_id).document, session_id
        return
    with closing(open_library(data_dir)) as library:
        session_id = library.find(source)
        yield Desk(library), library.head(session_id).document, session_id
