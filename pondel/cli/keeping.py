"""Commands that look after the data folder."""

from __future__ import annotations

import os
from contextlib import closing
from pathlib import Path

import click

from pondel.cli.base import PRIVATE_UMASK, data_option, main, open_library


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
