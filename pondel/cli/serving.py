"""Commands that go on until they are stopped: the demo, the server, a worker."""

from __future__ import annotations

import signal
import threading
from contextlib import closing
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

import click

from pondel.cli.base import data_option, main, open_library, say

if TYPE_CHECKING:
    from pondel.jobs.tasks import Jobs

DEFAULT_PORT = 8750


def stopped_by_signals() -> threading.Event:
    """An event that is set when somebody, or a supervisor, wants this process to end."""
    stopped = threading.Event()
    for one in (signal.SIGINT, signal.SIGTERM):
        signal.signal(one, lambda *_: stopped.set())
    return stopped


def end_as_by_hand() -> None:
    """A supervisor's way of ending a server is that of Ctrl-C: what is begun is finished or kept."""
    signal.signal(signal.SIGTERM, signal.default_int_handler)


def serving_options(command):
    command = click.option("--host", default="127.0.0.1", show_default=True)(command)
    command = click.option("--port", default=DEFAULT_PORT, show_default=True)(command)
    return data_option(command)


PRINTED = ("mix", "parts", "both", "curves")


@main.command()
@serving_options
def demo(data_dir: Path, host: str, port: int) -> None:
    """Serve, and make the demo session if it is absent: its page tells how far it is."""
    from pondel import demo
    from pondel.demo.session import STEPS, found_demo, make_demo
    from pondel.web.serve import check_host, serve

    check_host(host)
    end_as_by_hand()
    with closing(open_library(data_dir, create=True)) as library:
        found = found_demo(library)
        if found:
            library.touch(found)

    def begin(jobs: Jobs) -> None:
        if not found:
            jobs.maker.begin(demo.NAME, STEPS, partial(make_demo, jobs.desk, measured=False), say)

    serve(data_dir.expanduser(), host, port, say, begin=begin)


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
    end_as_by_hand()
    check_workers(workers)
    open_library(data_dir, create=True).close()
    serve(data_dir.expanduser(), host, port, say, workers)


@main.command()
@click.option("--workers", default=1, show_default=True, type=click.IntRange(1, 64), help="Threads.")
@data_option
def work(data_dir: Path, workers: int) -> None:
    """Take files in and print for a server that runs elsewhere, until stopped: docs/studio.md."""
    from pondel.jobs.queue import check_shared
    from pondel.jobs.tasks import Jobs

    check_shared()
    with closing(open_library(data_dir)) as library:
        jobs, stopped = Jobs(library, workers=workers), stopped_by_signals()
        jobs.work()
        say(f"Working on {data_dir.expanduser()} (stop it with Ctrl-C: what is begun is finished)")
        stopped.wait()
        jobs.stop()
