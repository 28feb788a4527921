"""Commands that bring sessions in, change them, and hand them over."""

from __future__ import annotations

import json
import sys
from collections.abc import Callable
from contextlib import closing
from pathlib import Path
from typing import IO, TYPE_CHECKING

import click

from pondel.cli.base import data_option, made_for_others, main, open_library, opened, say
from pondel.core.audio.formats import BIT_DEPTHS, FORMATS
from pondel.core.errors import BadDocument, PondelError

if TYPE_CHECKING:
    from pondel.store.library import Library

PRINTED = ("mix", "parts", "both", "curves")
MOST_NAME = 80
MOST_OPERATIONS_BYTES = 8 << 20


@main.command(name="import")
@click.argument("paths", nargs=-1, required=True, type=click.Path(path_type=Path))
@click.option("--name", required=True, help="Name of the new session.")
@data_option
def import_command(paths: tuple[Path, ...], name: str, data_dir: Path) -> None:
    """Make a session from files, a folder, or a session archive, and print its id."""
    from pondel.jobs.desk import Desk

    refusals: list[PondelError] = []
    if not name.strip() or len(name) > MOST_NAME:
        raise BadDocument(f"a name of 1 to {MOST_NAME} letters is needed", where="--name")

    def refused(error: PondelError) -> None:
        refusals.append(error)
        say(f"pondel: {error.line()}")

    with closing(open_library(data_dir)) as library:
        session_id = _imported(library, paths, name, refused)
        desk = Desk(library)
        for file in desk.recordings.missing(library.head(session_id).document):
            desk.recordings.take(file)
    click.echo(session_id)
    if refusals:
        sys.exit(2)


def _imported(
    library: Library, paths: tuple[Path, ...], name: str, refused: Callable[[PondelError], None]
) -> str:
    """A session of an archive, a session.json, or recordings, whichever the paths are."""
    from pondel.jobs import sessions
    from pondel.jobs.archives import SESSION_FILE

    first = paths[0]
    if len(paths) == 1 and first.suffix.lower() == ".zip" and first.is_file():
        return sessions.import_archive(library, first, name)
    if len(paths) == 1 and (first / SESSION_FILE).is_file():
        return sessions.import_document(library, first / SESSION_FILE, name)
    if len(paths) == 1 and first.suffix.lower() == ".json" and first.is_file():
        return sessions.import_document(library, first, name)
    return sessions.import_files(library, name, sessions.audio_files(paths), refused=refused)


@main.command(name="list")
@data_option
def list_command(data_dir: Path) -> None:
    """List the sessions, the one opened last first."""
    with closing(open_library(data_dir)) as library:
        for card in library.sessions():
            click.echo(f"{card.id}\t{card.name}\t{card.parts} parts")


@main.command(name="do")
@click.argument("session")
@click.argument("file", type=click.File("rb"))
@data_option
def do_command(session: str, file: IO[bytes], data_dir: Path) -> None:
    """Apply operations to SESSION (id or name): one, or a list, as JSON in FILE (- is standard input).

    All of them are applied, or none. Prints the new revision, and what they have to say.
    """
    from pondel.core.operations import parse_operations
    from pondel.jobs.desk import Desk

    text = file.read(MOST_OPERATIONS_BYTES + 1)
    if len(text) > MOST_OPERATIONS_BYTES:
        raise BadDocument("more than 8 MB are too much at a time", where=file.name)
    try:
        operations = parse_operations(json.loads(text))
    except (ValueError, RecursionError) as error:
        raise BadDocument("not readable as JSON", where=file.name) from error
    said: list[str] = []
    with closing(open_library(data_dir)) as library:
        revision = Desk(library).do(
            library.find(session), operations, prepare=lambda _, done: said.extend(done.said)
        )
    click.echo(f"revision {revision.id}: {revision.label}")
    for line in said:
        click.echo(line)


@main.command()
@click.argument("session")
@click.option("--out", required=True, type=click.Path(path_type=Path, file_okay=False))
@click.option("--what", type=click.Choice(PRINTED), default="mix", show_default=True)
@click.option("--format", "format_", type=click.Choice(list(FORMATS)), default="wav", show_default=True)
@click.option("--bits", type=click.Choice(BIT_DEPTHS), default=None, help="24 unless ogg is asked for.")
@click.option("--start", "start_s", type=float, default=0.0, help="Seconds.")
@click.option("--end", "end_s", type=float, default=None, help="Seconds.")
@click.option("--ring-out", is_flag=True, help="With what rings on after the end.")
@click.option("--lower", "lower_db", type=float, default=0.0, help="Decibels, all files alike.")
@click.option("--split", "split_hz", type=float, default=None, help="Each as a low and a high side.")
@click.option("--name", "pattern", default="{part}", show_default=True, help="How files are named.")
@data_option
def render(
    session: str,
    out: Path,
    what: str,
    format_: str,
    bits: str | None,
    start_s: float,
    end_s: float | None,
    ring_out: bool,
    lower_db: float,
    split_hz: float | None,
    pattern: str,
    data_dir: Path,
) -> None:
    """Print SESSION (id, name or session.json) into files and name them."""
    from pondel.store.prints import Order

    with opened(session, data_dir) as (desk, document, _), made_for_others(out):
        out.mkdir(parents=True, exist_ok=True)
        order = Order(
            what, format_, bits or "24", start_s, end_s, ring_out, lower_db, split_hz, pattern
        )
        for path in desk.printing.print_to(document, out, order):
            click.echo(path)


@main.command()
@click.argument("session")
@click.option("--out", required=True, type=click.Path(path_type=Path, dir_okay=False))
@data_option
def archive(session: str, out: Path, data_dir: Path) -> None:
    """Pack SESSION with its audio into one zip file."""
    from pondel.jobs.along import along_of
    from pondel.jobs.archives import write_archive

    with opened(session, data_dir) as (desk, document, session_id), made_for_others(out):
        write_archive(desk.library, document, out, along_of(desk.library, session_id))
    click.echo(out)


@main.command()
@click.option("--operations", is_flag=True, help="Of the operations instead.")
def schema(operations: bool) -> None:
    """Print the JSON Schema of the mix document."""
    from pondel.core.operations import operations_schema
    from pondel.core.reading import json_schema

    click.echo(json.dumps(operations_schema() if operations else json_schema(), indent=1))
