"""Commands that bring sessions in, change them, and hand them over."""

from __future__ import annotations

import json
import sys
from collections.abc import Callable
from contextlib import closing
from pathlib import Path
from typing import TYPE_CHECKING

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
    """Make a session from files, a folder, or a session archive, and print its id.

    A folder is read with all folders below it; what is no audio in it is named.
    """
    from pondel.jobs.desk import Desk

    refusals: list[PondelError] = []
    if not name.strip() or len(name) > MOST_NAME:
        raise BadDocument(f"a name of 1 to {MOST_NAME} letters is needed", where="--name")

    def refused(error: PondelError) -> None:
        refusals.append(error)
        note(error.line())

    def note(line: str) -> None:
        say(f"pondel: {line}")

    with closing(open_library(data_dir, create=True)) as library:
        session_id = _imported(library, paths, name, refused, note)
        desk = Desk(library)
        for file in desk.recordings.missing(library.head(session_id).document):
            desk.recordings.take(file)
    click.echo(session_id)
    if refusals:
        sys.exit(2)


def _imported(
    library: Library,
    paths: tuple[Path, ...],
    name: str,
    refused: Callable[[PondelError], None],
    note: Callable[[str], None],
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
    found = sessions.audio_files(paths, note)
    return sessions.import_files(library, name, found, refused=refused, note=note)


@main.command(name="list")
@data_option
def list_command(data_dir: Path) -> None:
    """List the sessions, the one opened last first."""
    with closing(open_library(data_dir)) as library:
        for card in library.sessions():
            click.echo(f"{card.id}\t{card.name}\t{card.parts} parts")


@main.command(name="do")
@click.argument("session")
@click.argument("operations")
@data_option
def do_command(session: str, operations: str, data_dir: Path) -> None:
    """Apply OPERATIONS to SESSION (id or name): one, or a list, as JSON, in place or in a file.

    What begins with { or [ is the JSON itself, - is standard input, anything else names a file.

    All of them are applied, or none. Prints the new revision, and what they have to say.
    """
    from pondel.core.operations import parse_operations
    from pondel.jobs.desk import Desk

    text, where = _operations_text(operations)
    if len(text) > MOST_OPERATIONS_BYTES:
        raise BadDocument("more than 8 MB are too much at a time", where=where)
    try:
        asked = parse_operations(json.loads(text))
    except (ValueError, RecursionError) as error:
        raise BadDocument("not readable as JSON", where=where) from error
    said: list[str] = []
    with closing(open_library(data_dir)) as library:
        revision = Desk(library).do(
            library.find(session), asked, prepare=lambda _, done: said.extend(done.said)
        )
    click.echo(f"revision {revision.id}: {revision.label}")
    for line in said:
        click.echo(line)


def _operations_text(operations: str) -> tuple[bytes | str, str]:
    """The JSON that is meant, no more than one byte over what is allowed, and where it stands."""
    if operations.lstrip()[:1] in ("{", "["):
        return operations, "the operations"
    if operations == "-":
        return sys.stdin.buffer.read(MOST_OPERATIONS_BYTES + 1), "standard input"
    try:
        with Path(operations).open("rb") as file:
            return file.read(MOST_OPERATIONS_BYTES + 1), operations
    except OSError as error:
        raise BadDocument(
            f"cannot be read ({error.strerror}): name a file, or write the JSON itself",
            where=f"{operations:.90}",
        ) from error


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
@click.option("--replace", is_flag=True, help="Write over files of the same names.")
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
    replace: bool,
    data_dir: Path,
) -> None:
    """Print SESSION (id, name or session.json) into files and name them.

    All of them appear when they are whole; one that is there already is refused, or replaced.
    """
    from pondel.store.prints import Order

    with opened(session, data_dir) as (desk, document, _), made_for_others(out):
        order = Order(
            what, format_, bits or "24", start_s, end_s, ring_out, lower_db, split_hz, pattern
        )
        for path in desk.printing.print_to(document, out, order, replace=replace):
            click.echo(path)


@main.command()
@click.argument("session")
@click.option("--out", required=True, type=click.Path(path_type=Path, dir_okay=False))
@click.option("--replace", is_flag=True, help="Write over a file of that name.")
@data_option
def archive(session: str, out: Path, replace: bool, data_dir: Path) -> None:
    """Pack SESSION with its audio into one zip file."""
    from pondel.jobs.along import along_of
    from pondel.jobs.archives import write_archive
    from pondel.jobs.placing import refuse_to_replace

    refuse_to_replace([out], replace)
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
