"""Commands that tell what is heard: levels and fights, the ways of one fight, a plan for all."""

from __future__ import annotations

import json
from pathlib import Path

import click

from pondel.cli.base import data_option, main, opened, say
from pondel.core.units import say_hz


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
@click.option(
    "--start", "start_s", type=click.FloatRange(0), default=None, help="Seconds; the first loop."
)
@click.option("--end", "end_s", type=click.FloatRange(0), default=None, help="Seconds; 8 further.")
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object and nothing else.")
@data_option
def tryouts(
    session: str,
    leader: str,
    part: str,
    start_s: float | None,
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
