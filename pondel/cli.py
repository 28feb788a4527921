"""The command line.

pondel demo
pondel import stems/ --name "Night bus"
pondel measure "Night bus" --json
pondel render "Night bus" --out printed --what both

What a command needs is imported when it runs, so that help comes at once.
"""

from __future__ import annotations

import json
import os
import signal
import sys
import tempfile
import threading
import traceback
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager
from pathlib import Path
from typing import IO, TYPE_CHECKING

import click

from pondel.core.audio.formats import BIT_DEPTHS, FORMATS
from pondel.core.errors import BadDocument, DiskFull, PondelError
from pondel.core.units import say_hz

if TYPE_CHECKING:
    from pondel.core.document import Session
    from pondel.jobs.desk import Desk
    from pondel.store.library import Library

DEFAULT_DATA = Path("~/.local/share/pondel")
DEFAULT_PORT = 8750
MOST_NAME = 80
MOST_OPERATIONS_BYTES = 8 << 20
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
            details = Path(tempfile.gettempdir()) / f"pondel-{os.getpid()}.log"
            details.write_text(traceback.format_exc(), errors="replace")
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


def open_library(data_dir: Path) -> Library:
    """The library, with today's copy of its database; files made from now on are private."""
    from pondel.store.library import Library

    os.umask(PRIVATE_UMASK)
    library = Library(data_dir.expanduser())
    library.copies.keep_daily()
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


def stopped_by_signals() -> threading.Event:
    """An event that is set when somebody, or a supervisor, wants this process to end."""
    stopped = threading.Event()
    for one in (signal.SIGINT, signal.SIGTERM):
        signal.signal(one, lambda *_: stopped.set())
    return stopped


def serving_options(command):
    command = click.option("--host", default="127.0.0.1", show_default=True)(command)
    command = click.option("--port", default=DEFAULT_PORT, show_default=True)(command)
    return data_option(command)


PRINTED = ("mix", "parts", "both", "curves")


@main.command()
@serving_options
def demo(data_dir: Path, host: str, port: int) -> None:
    """Make the demo session if it is absent, then serve."""
    from pondel.demo.session import ensure_demo
    from pondel.jobs.compiling import compiling
    from pondel.jobs.desk import Desk
    from pondel.web.serve import check_host, serve

    check_host(host)
    # While the demo is played here, its kernels are compiled on the other core; it is measured once
    # its page is open.
    with compiling(say):
        with closing(open_library(data_dir)) as library:
            library.touch(ensure_demo(Desk(library), say, measured=False))
        serve(data_dir.expanduser(), host, port, say, compiles=False)


@main.command(name="serve")
@click.option(
    "--workers",
    default=2,
    show_default=True,
    type=click.IntRange(0, 64),
    help="Threads that take files in and print; 0 leaves both to `pondel work`.",
)
@serving_options
def serve_command(data_dir: Path, host: str, port: int, workers: int) -> None:
    """Serve the sessions in the data folder."""
    from pondel.web.serve import check_host, check_workers, serve

    check_host(host)
    check_workers(workers)
    open_library(data_dir).close()
    serve(data_dir.expanduser(), host, port, say, workers)


@main.command()
@click.option("--workers", default=1, show_default=True, type=click.IntRange(1, 64), help="Threads.")
@data_option
def work(data_dir: Path, workers: int) -> None:
    """Take files in and print for a server that runs elsewhere, until stopped: docs/studio.md."""
    from pondel.jobs.tasks import Jobs

    with closing(open_library(data_dir)) as library:
        jobs, stopped = Jobs(library, workers=workers), stopped_by_signals()
        jobs.work()
        say(f"Working on {data_dir.expanduser()} (stop it with Ctrl-C: what is begun is finished)")
        stopped.wait()
        jobs.stop()


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


def _share(share: float | None) -> str:
    return "–" if share is None else f"{share:.0%}"


@main.command()
@click.argument("session")
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object and nothing else.")
@data_option
def measure(session: str, as_json: bool, data_dir: Path) -> None:
    """Levels, hidden shares, and pairs, worst first, of SESSION (id, name or session.json)."""
    from pondel.jobs.report import measure_report

    with opened(session, data_dir) as (desk, document, session_id):
        report = measure_report(desk, document, session_id)
    if as_json:
        click.echo(json.dumps(report, ensure_ascii=False))
        return
    from rich.console import Console
    from rich.table import Table

    console = Console()
    levels = Table("Part", "Role", "Peak dBFS", "True peak dBTP", "RMS dBFS", "LUFS", "Hits", "Hidden")
    for part in report["parts"]:
        lufs = part["integrated_lufs"]
        levels.add_row(
            part["name"],
            part["role"],
            f"{part['sample_peak_dbfs']:.1f}",
            f"{part['true_peak_dbtp']:.1f}",
            f"{part['rms_dbfs']:.1f}",
            "silent" if lufs is None else f"{lufs:.1f}",
            str(part["hits"]),
            part["silent"] or _share(part["hidden_share"]),
        )
    for one in report["returns"]:
        hidden = one["silent"] or _share(one["hidden_share"])
        levels.add_row(one["name"], "return", "", "", "", "", "", hidden)
    console.print(levels)
    names = {part["id"]: part["name"] for part in (*report["parts"], *report["returns"])}
    for pair in report["pairs"][:10]:
        console.print(
            f"{names[pair['by']]} hides {pair['share']:.0%} of {names[pair['hidden']]}, mostly "
            f"{say_hz(pair['low_hz'])} to {say_hz(pair['high_hz'])} ({pair['sone']:.1f} sone)",
            highlight=False,
        )


@main.command()
@click.argument("session")
@click.option("--leader", required=True, help="The part that is to come through (id or name).")
@click.option("--part", required=True, help="The part that gives way (id or name).")
@click.option("--start", "start_s", type=click.FloatRange(0), default=0.0, help="Seconds.")
@click.option("--end", "end_s", type=click.FloatRange(0), default=None, help="Seconds; 8 further.")
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object and nothing else.")
@data_option
def tryouts(
    session: str,
    leader: str,
    part: str,
    start_s: float,
    end_s: float | None,
    as_json: bool,
    data_dir: Path,
) -> None:
    """Every way to make room for a leader in SESSION: what each gives, and what it costs."""
    from pondel.jobs.tryouts_report import tryouts_report

    with opened(session, data_dir) as (desk, document, _):
        report = tryouts_report(desk, document, leader, part, start_s, end_s)
    if as_json:
        click.echo(json.dumps(report, ensure_ascii=False))
        return
    from rich.console import Console
    from rich.table import Table

    console = Console()
    table = Table("Way", "Amount", "Settings", "Clearer dB", "Cost", "Unsteady dB", "Judged on")
    for point in report["points"]:
        table.add_row(
            point["title"],
            point["amount"],
            point["settings_in_words"],
            f"{point['relief_db']:+.1f}",
            f"{-point['cost_share']:+.0%}",
            f"{point['unsteady_db']:.1f}",
            f"the {point['judged_in']}" if point["judged_in"] != "both" else "",
        )
    console.print(table)


@main.command()
@click.argument("session")
@click.option("--keep", is_flag=True, help="Lay its moves, in one step that can be undone.")
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object and nothing else.")
@data_option
def plan(session: str, keep: bool, as_json: bool, data_dir: Path) -> None:
    """Few moves for all fights of SESSION together; nothing is changed unless it is kept."""
    from pondel.jobs.plan_report import plan_report, plan_words

    with opened(session, data_dir) as (desk, document, session_id):
        planned = desk.plans.begin(document)
        planned.finished.wait()
        if planned.trouble is not None:
            raise planned.trouble
        report = plan_report(desk, planned)
        kept = keep and bool(planned.lines)
        if kept:
            desk.do(session_id, [planned.operation()])
    if as_json:
        click.echo(json.dumps({**report, "kept": kept}, ensure_ascii=False))
        return
    for line in plan_words(report):
        click.echo(line)
    if kept:
        say("pondel: kept")


@main.command()
@click.argument("session")
@click.option("--out", required=True, type=click.Path(path_type=Path, file_okay=False))
@click.option(
    "--what", type=click.Choice(["mix", "parts", "both", "curves"]), default="mix", show_default=True
)
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
@data_option
def tidy(data_dir: Path) -> None:
    """Check every recording, empty what was set aside, and give its room back."""
    from pondel.jobs.tidy import tidy_up

    with closing(open_library(data_dir)) as library:
        for line in tidy_up(library):
            click.echo(line)


@main.command()
@click.argument("copy", required=False)
@click.option("--list", "only_list", is_flag=True, help="Name the copies there are.")
@data_option
def restore(copy: str | None, only_list: bool, data_dir: Path) -> None:
    """Put a dated copy of the database back: COPY, or the newest that is sound."""
    from pondel.store.copies import Copies
    from pondel.store.folder import DataFolder

    os.umask(PRIVATE_UMASK)
    copies = Copies(DataFolder(data_dir.expanduser()))
    if only_list:
        for path in copies.all():
            click.echo(f"{path.stem}\t{path.stat().st_size >> 10} KB")
        return
    click.echo(f"{copies.put_back(copy).stem} is the database now; what was there lies in aside/")


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
@click.option("--operations", is_flag=True, help="Of the operations instead.")
def schema(operations: bool) -> None:
    """Print the JSON Schema of the mix document."""
    from pondel.core.document import json_schema
    from pondel.core.operations import operations_schema

    click.echo(json.dumps(operations_schema() if operations else json_schema(), indent=1))
