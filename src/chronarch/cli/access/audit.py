"""`chronarch audit`."""

from __future__ import annotations

import re
from collections.abc import Callable
from datetime import datetime
from pathlib import Path
from typing import Any

import click

from chronarch.cli.context import REFUSED, Service, json_option, pass_service
from chronarch.cli.output import show_json, show_table
from chronarch.cli.plain import hand_over, say
from chronarch.client import requests
from chronarch.wire.access import AuditedRow, AuditEntry, AuditSettings

FORMATS = ["%Y-%m-%d", "%Y-%m-%dT%H:%M", "%Y-%m-%d %H:%M"]
MOST_SHOWN, MOST_VALUE = 3, 30
VERIFY_WITHIN_S = 600.0
NOTED = re.compile(r"([0-9]{1,18}):([0-9a-f]{64})")


def filter_options(command: Callable[..., Any]) -> Callable[..., Any]:
    """Adds what entries are chosen by."""
    for option in reversed((
        click.option("--who", default="", help="A login, or an identity such as `key 7`, `helper 2` or `the plan`."),
        click.option("--text", default="", help="What was done, to what, or a value of what was changed."),
        click.option("--since", type=click.DateTime(FORMATS), help="From then on, in your own zone."),
        click.option("--until", type=click.DateTime(FORMATS), help="Up to then, in your own zone."),
        click.option("--refused", is_flag=True, help="Only what was refused."),
    )):  # fmt: skip
        command = option(command)
    return command


def _zoned(asked: dict[str, Any]) -> dict[str, Any]:
    return {k: v.astimezone() if isinstance(v, datetime) else v for k, v in asked.items()}


@click.group()
def audit() -> None:
    """The audit: who did what to what, from where, when, and what it was before."""


@audit.command("list")
@filter_options
@click.option("--limit", type=click.IntRange(1), default=50, show_default=True, help="At most so many.")
@json_option
@pass_service
def list_entries(service: Service, /, limit: int, as_json: bool, **asked: Any) -> None:
    """Entries, the newest first."""
    found = service.all(requests.audit(**_zoned(asked)), limit)
    if as_json:
        return show_json(found)
    rows = [
        [
            str(e.number or "…"), f"{e.at.astimezone():%d %b %Y %H:%M:%S}", e.name, _done(e), e.subject, _changed(e),
            " ".join(filter(None, (e.address, e.device))),
        ]
        for e in found
    ]  # fmt: skip
    show_table(("No.", "When", "Who", "Did", "To", "Changed", "From"), rows, "There are no such entries.")


def _done(entry: AuditEntry) -> str:
    done = f"{entry.text}: {entry.asked}" if entry.asked else entry.text
    return f"refused ({entry.refused}): {done}" if entry.refused else done


def _changed(entry: AuditEntry) -> str:
    if entry.taken_out and not entry.rows:
        return "(taken out: they have left)"
    said = [f"{row.row}: {_row(row)}" for row in entry.rows[:MOST_SHOWN]]
    left = len(entry.rows) + entry.more - len(said)
    return "\n".join([*said, *([f"and {left} more"] if left else [])])


def _row(row: AuditedRow) -> str:
    if not row.after:
        return "removed"
    if not row.before:
        return "new"
    return ", ".join(f"{name} {_short(row.before.get(name))} → {_short(value)}" for name, value in row.after.items())


def _short(value: Any) -> str:
    text = "nothing" if value in (None, "") else str(value)
    return text if len(text) <= MOST_VALUE else f"{text[: MOST_VALUE - 1]}…"


@audit.command("csv")
@filter_options
@click.option("-o", "--out", type=click.Path(dir_okay=False, path_type=Path), help="Into this file.")
@pass_service
def as_csv(service: Service, /, out: Path | None, **asked: Any) -> None:
    """Entries as CSV, the oldest first, with all that was changed."""
    found = service.patient(requests.audit_csv(**_zoned(asked)), VERIFY_WITHIN_S)
    if out is None:
        return hand_over(found)
    out.write_bytes(found)
    entries = len(found.splitlines()) - 1
    say(f"{out} has {entries} entries.")


@audit.command()
@click.option("--noted", help="NUMBER:SEAL of an earlier check: whether that entry is still there as it was.")
@json_option
@pass_service
def verify(service: Service, noted: str | None, as_json: bool) -> None:
    """Look whether an entry is missing or was changed. Exit code 1 when one is."""
    number, seal = None, ""
    if noted is not None:
        match = NOTED.fullmatch(noted)
        if match is None:
            raise click.UsageError("--noted is NUMBER:SEAL, as an earlier `chronarch audit verify` said it.")
        number, seal = int(match[1]), match[2]
    found = service.patient(requests.verify_audit(number, seal), VERIFY_WITHIN_S)
    if as_json:
        show_json(found)
    else:
        for fault in found.faults:
            say(fault, fg="red")
        if found.found > len(found.faults):
            say(f"and {found.found - len(found.faults)} more")
        if not found.found:
            say(f"The audit is whole: {found.entries} entries.", fg="green")
        if found.taken_out:
            say(f"Of {found.taken_out} something was taken out, because somebody has left; their seals hold.")
        if found.last:
            say(f"Noted down, this shows later that nothing was cut off: {found.last}:{found.seal}")
    if found.found:
        raise SystemExit(REFUSED)


@audit.command()
@click.argument("days", type=click.IntRange(0, 36_500), required=False)
@json_option
@pass_service
def keep(service: Service, days: int | None, as_json: bool) -> None:
    """Say for how many DAYS entries are kept, 0 for ever; without it, how it is set."""
    call = requests.audit_settings()
    if days is not None:
        call = requests.change_audit_settings(AuditSettings(kept_days=days))
    found = service.do(call)
    if as_json:
        return show_json(found)
    say(f"Entries are kept for {found.kept_days} days." if found.kept_days else "Entries are kept for ever.")
