"""`chronarch builds`: the list, and verdicts."""

from __future__ import annotations

import click

from chronarch.cli.context import Service, json_option, pass_service
from chronarch.cli.groups import build_number, builds
from chronarch.cli.output import clock_time, duration, show_csv, show_facts, show_json, show_table
from chronarch.cli.plain import say
from chronarch.client import requests
from chronarch.core.orders.states import Verdict


@builds.command("list")
@click.option("--machine", help="Only this machine's.")
@click.option("--job", type=int, help="Only this job's.")
@click.option("--limit", type=click.IntRange(min=1), default=20, show_default=True, help="At most so many.")
@json_option
@click.option("--csv", "as_csv", is_flag=True, help="Print rows as CSV.")
@pass_service
def list_builds(
    service: Service, machine: str | None, job: int | None, limit: int, as_json: bool, as_csv: bool
) -> None:
    """Builds, newest first."""
    found = service.all(requests.builds(machine, job), limit)
    if as_json:
        return show_json(found)
    if as_csv:
        return show_csv(found)
    rows = [
        [
            str(b.id),
            b.machine,
            b.file,
            f"{b.job}.{b.copy_number}",
            f"{b.outcome or b.state}",
            clock_time(b.started_at),
            clock_time(b.ended_at),
            f"{b.verdict}{f': {b.scrap_reason}' if b.scrap_reason else ''}" if b.verdict else "",
            b.reason,
        ]
        for b in found
    ]
    show_table(
        ("Build", "Machine", "File", "Copy", "State", "Started", "Ended", "Verdict", "Reason"),
        rows,
        "There are no builds yet. Queue copies with `chronarch jobs submit FILE`.",
    )


@builds.command("show")
@click.argument("build")
@json_option
@pass_service
def show_build(service: Service, build: str, as_json: bool) -> None:
    """One build, by number or by its machine's name."""
    b = service.do(requests.build(build_number(service, build)))
    if as_json:
        return show_json(b)
    show_facts(
        [
            ("Build", f"{b.id} on {b.machine}"),
            ("File", f"{b.file}, revision {b.revision}, copy {b.copy_number} of job {b.job}"),
            ("State", f"{b.outcome or b.state}{f': {b.reason}' if b.reason else ''}"),
            ("Commands", f"{b.acknowledged} of {b.commands}" if b.outcome else f"{b.commands}"),
            ("Started", clock_time(b.started_at)),
            ("Ended", clock_time(b.ended_at)),
            ("Planned time", duration(b.planned_s)),
            ("Filament", f"{b.grams:.1f} g" if b.outcome else ""),
            ("Left out", ", ".join(f"{s.object} from layer {s.from_layer} on" for s in b.skips)),
            ("Verdict", f"{b.verdict} {b.scrap_reason} by {b.judged_by}" if b.verdict else ""),
            ("SHA-256", b.sha256),
        ]
    )


@builds.command()
@click.argument("build")
@click.option("--good", "good", is_flag=True, help="The part is good: the copy counts.")
@click.option("--scrap", metavar="REASON", help="The part is scrap, and why: the copy goes back to the queue.")
@click.option("--pieces", type=int, help="Of several pieces: how many are good; with --scrap why the others are not.")
@pass_service
def clear(service: Service, build: str, good: bool, scrap: str | None, pieces: int | None) -> None:
    """Say that the bed is clear, and how the build turned out (its number or machine)."""
    if pieces is None and good == (scrap is not None):
        raise click.UsageError("Say either --good or --scrap REASON.")
    given = Verdict.GOOD if good or pieces else Verdict.SCRAP
    b = service.do(requests.verdict(build_number(service, build), given, scrap or "", pieces))
    say(f"Build {b.id} on {b.machine}: {b.verdict}{f', {b.scrap_reason}' if b.scrap_reason else ''}.")
