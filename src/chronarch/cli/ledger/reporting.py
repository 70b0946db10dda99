"""`chronarch reports`: reports that come by themselves."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path

import click

from chronarch.cli.context import Service, json_option, pass_service
from chronarch.cli.ledger.ledger import FORMATS
from chronarch.cli.output import clock_time, show_json, show_table
from chronarch.cli.plain import say
from chronarch.client import requests
from chronarch.core.ledger.report_periods import ReportEvery
from chronarch.wire.ledger import reporting as w

INTO = click.Path(dir_okay=False, path_type=Path)


@click.group(invoke_without_command=True)
@click.pass_context
def reports(ctx: click.Context) -> None:
    """Reports that come by themselves, each week, month or shift; and those that came, as they were."""
    if ctx.invoked_subcommand is None:
        ctx.invoke(plans)


@reports.command("plans")
@json_option
@pass_service
def plans(service: Service, as_json: bool) -> None:
    """All reports that come by themselves, and to whom."""
    found = service.do(requests.report_plans())
    if as_json:
        return show_json(found)
    none = 'No report comes by itself. Add one, like `chronarch reports add "The week" week --to maud`.'
    rows = [
        [str(p.id), p.name, _every(p), _of(p), ", ".join(p.to) or "only kept", "" if p.on else "off"] for p in found
    ]
    show_table(("Report", "Name", "Comes", "Of", "To", ""), rows, none)
    return None


def _every(plan: w.ReportPlan) -> str:
    return "at each shift's end" if plan.every is ReportEvery.SHIFT else f"each {plan.every}, {plan.hour:02}:00"


def _of(plan: w.ReportPlan) -> str:
    return ", ".join(one for one in (plan.site, plan.group) if one) or "the shop"


@reports.command("add")
@click.argument("name")
@click.argument("every", type=click.Choice([str(one) for one in ReportEvery]))
@click.option("--to", multiple=True, help="An address, or the login of somebody with a mail channel.")
@click.option("--hour", type=click.IntRange(0, 23), default=7, show_default=True, help="Of the day after.")
@click.option("--site", default="", help="Only this site.")
@click.option("--group", default="", help="Only machines with this tag.")
@json_option
@pass_service
def add(service: Service, name: str, every: str, to: tuple[str, ...], hour: int, site: str, group: str,
        as_json: bool) -> None:  # fmt: skip
    """Have a report come by itself each week, month or shift, from the next one on.

    Examples: `reports add "The week" week --to maud --to office@shop.example`, `reports add Handover shift --site
    "Yard shed" --to tilda`."""
    asked = w.NewReportPlan(name=name, every=ReportEvery(every), to=list(to), hour=hour, site=site, group=group)
    made = service.do(requests.add_report_plan(asked))
    if as_json:
        return show_json(made)
    say(f"Report {made.id}, {made.name}: {_every(made)}, to {', '.join(made.to) or 'nobody; it is kept'}.")
    return None


@reports.command("drop")
@click.argument("report", type=click.IntRange(1))
@pass_service
def drop(service: Service, report: int) -> None:
    """Have a report come no more. What was made of it stays."""
    say(service.do(requests.drop_report_plan(report)).text)


@reports.command("preview")
@click.argument("report", type=click.IntRange(1))
@click.option("--before", type=click.DateTime(FORMATS), help="Of the last period that was over by then.")
@click.option("--html", type=INTO, help="Write the page here instead of printing its words.")
@json_option
@pass_service
def preview(service: Service, report: int, before: datetime | None, html: Path | None, as_json: bool) -> None:
    """What the newest one would say, of the last period that is over. Nothing is sent."""
    found = service.do(requests.preview_report(report, before and before.astimezone()))
    if as_json:
        return show_json(found)
    return _show(found, html)


def _show(found: w.ReportPage, html: Path | None) -> None:
    if html is None:
        return say(found.words)
    html.write_text(found.page)
    say(f"{found.name}: {html}.")
    return None


@reports.command("send")
@click.argument("report", type=click.IntRange(1))
@click.option("--before", type=click.DateTime(FORMATS), help="Of the last period that was over by then.")
@json_option
@pass_service
def send(service: Service, report: int, before: datetime | None, as_json: bool) -> None:
    """Make and send it now, of the last period that is over."""
    made = service.do(requests.send_report(report, before and before.astimezone()))
    if as_json:
        return show_json(made)
    say(f"Kept as {made.id}; {made.trouble or 'it is on its way to ' + ', '.join(made.to)}.")
    return None


@reports.command("kept")
@click.option("--last", type=click.IntRange(1, 10_000), default=20, show_default=True)
@json_option
@pass_service
def kept(service: Service, last: int, as_json: bool) -> None:
    """Reports that were made, newest first, and whether they have arrived."""
    found = service.all(requests.kept_reports(), last)
    if as_json:
        return show_json(found)
    rows = [
        [str(one.id), one.name, clock_time(one.made_at), one.asked_by or "by itself", ", ".join(one.sent), one.trouble]
        for one in found
    ]
    show_table(("Number", "Report", "Made", "By", "Sent to", "Trouble"), rows, "No report was made yet.")
    return None


@reports.command("open")
@click.argument("number", type=click.IntRange(1))
@click.option("--html", type=INTO, help="Write the page here.")
@click.option("--pdf", type=INTO, help="Write a PDF here.")
@click.option("--csv", "rows", type=INTO, help="Write the table of machines here.")
@json_option
@pass_service
def open_report(service: Service, number: int, html: Path | None, pdf: Path | None, rows: Path | None,
                as_json: bool) -> None:  # fmt: skip
    """A report as it was: its words, or as a page, a PDF, a table."""
    if pdf is not None:
        pdf.write_bytes(service.patient(requests.kept_report_pdf(number), 150.0))
        say(f"Report {number}: {pdf}.")
    if rows is not None:
        rows.write_text(service.do(requests.kept_report_csv(number)))
        say(f"Report {number}: {rows}.")
    if (pdf or rows) and html is None:
        return None
    found = service.do(requests.kept_report(number))
    if as_json:
        return show_json(found)
    return _show(found, html)
