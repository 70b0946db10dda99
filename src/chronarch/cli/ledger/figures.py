"""`chronarch report figures`: any measure of the records, by what one likes."""

from __future__ import annotations

from datetime import datetime
from typing import Any

import click

from chronarch.cli.context import Service, json_option, pass_service
from chronarch.cli.ledger.ledger import FORMATS, report
from chronarch.cli.output import show_json, show_table
from chronarch.cli.plain import hand_over, say
from chronarch.client import requests
from chronarch.core.ledger.measures import WRITTEN, Unit
from chronarch.wire.ledger.figures import Figure, FigureFilter, FigurePart, FigureRow, FiguresAsked, MeasureInfo

WEEKDAYS = ("", "Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday")


@report.command("measures")
@json_option
@pass_service
def measures(service: Service, as_json: bool) -> None:
    """What `report figures` can be asked for, each with its formula."""
    found = service.do(requests.measures())
    if as_json:
        return show_json(found)
    show_table(("Measure", "Is", "Unit", "Formula"), [[m.name, m.title, m.unit, m.formula] for m in found], "")
    return None


def _narrowing(command: Any) -> Any:
    for name in reversed(FigureFilter.model_fields):
        command = click.option(f"--{name}", name, default="", help=f"Only of this {name}.")(command)
    return command


@report.command("figures")
@click.option("--measure", required=True, help="Measures with commas between, as `report measures` names them.")
@click.option("--by", default="", help=f"One or two of {', '.join(FigurePart)}; in all without it.")
@click.option("--from", "begin", type=click.DateTime(FORMATS), help="In your own zone; four weeks before --to without.")
@click.option("--to", "end", type=click.DateTime(FORMATS), help="Now without it.")
@click.option("--against", type=click.Choice(["before"]), default=None, help="Beside the same length of time before.")
@click.option("--against-from", type=click.DateTime(FORMATS), help="Beside any other time.")
@click.option("--against-to", type=click.DateTime(FORMATS))
@_narrowing
@json_option
@click.option("--csv", "as_csv", is_flag=True, help="Print rows as CSV.")
@pass_service
def figures(
    service: Service, /, measure: str, by: str, begin: datetime | None, end: datetime | None, against: str | None,
    against_from: datetime | None, against_to: datetime | None, as_json: bool, as_csv: bool, **narrowed: str,
) -> None:  # fmt: skip
    """Measures of the records by machine, place, calendar or what was made."""
    times = {"from": begin, "to": end, "against_from": against_from, "against_to": against_to}
    said: dict[str, Any] = {name: at.astimezone() for name, at in times.items() if at}
    said |= {"measure": measure, "by": by, "against": against or "", **narrowed}
    asked = FiguresAsked.model_validate(said)
    if as_csv:
        return hand_over(service.do(requests.figures_csv(asked)).encode())
    found = service.do(requests.figures(asked))
    if as_json:
        return show_json(found)
    say(f"{found.begin.astimezone():%a %d %b %Y %H:%M} to {found.end.astimezone():%a %d %b %Y %H:%M}")
    if found.against_begin and found.against_end:
        before = found.against_begin.astimezone(), found.against_end.astimezone()
        say(f"In brackets: {before[0]:%a %d %b %Y %H:%M} to {before[1]:%a %d %b %Y %H:%M}")
    say("")

    def cells(row: FigureRow) -> list[str]:
        return [_cell(row, m.name, WRITTEN[m.unit]) for m in found.measures]

    rows = [[*map(_label, found.by, row.key), *cells(row)] for row in found.rows]
    rows.append([*(["All"] + [""] * (len(found.by) - 1) if found.by else []), *cells(found.total)])
    headings = [*(part.replace("_", " ").capitalize() for part in found.by), *(m.title for m in found.measures)]
    if len(found.measures) == 1:
        headings.append("Worked out from")
        rows = [
            [*row, _counted(told, found.measures[0])]
            for row, told in zip(rows, [*found.rows, found.total], strict=True)
        ]
    show_table(headings, rows, "")
    say("")
    for m in found.measures:
        say(f"{m.title}{f', {found.currency},' if m.unit is Unit.MONEY else ''} = {m.formula}")
    return None


def _counted(row: FigureRow, measure: MeasureInfo) -> str:
    figure = row.figures[measure.name]
    if figure is None:
        return ""
    amounts = [(count.title, figure.counted.get(count.name, 0.0), count.seconds) for count in measure.counts]
    return ", ".join(
        f"{title} {f'{amount / 3600:,.1f} h' if is_s else f'{amount:,.0f}'}" for title, amount, is_s in amounts
    )


def _label(part: FigurePart, key: str) -> str:
    return WEEKDAYS[int(key)] if part is FigurePart.WEEKDAY else key or "none"


def _cell(row: FigureRow, name: str, written: Any) -> str:
    def one(figure: Figure | None) -> str:
        return "–" if figure is None else str(written(figure.value))

    figure = row.figures[name]
    text = one(figure)
    if figure is not None and figure.low is not None and figure.high is not None:
        text += f" ({written(figure.low)} to {written(figure.high)})"
    return text if row.against is None else f"{text} [{one(row.against[name])}]"
