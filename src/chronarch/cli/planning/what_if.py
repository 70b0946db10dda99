"""`chronarch what-if`."""

from __future__ import annotations

from typing import Any

import click
from rich.text import Text

from chronarch.cli.context import Service, json_option, pass_service
from chronarch.cli.orders.words import promise_text, range_text
from chronarch.cli.output import clock_time, console, make_table, show_json
from chronarch.cli.plain import say
from chronarch.cli.when import shop_time
from chronarch.client import requests as calls
from chronarch.core.library.names import as_number
from chronarch.core.planning.snapshot import Strategy
from chronarch.wire.planning import scenarios as w


@click.command("what-if")
@click.option("--order", type=int, help="This order, due --by.")
@click.option("--job", type=int, help="This job, due --by.")
@click.option("--by", help="When it is to be due: fri 12:00, 2026-10-23 12:00.")
@click.option("--with", "works", metavar="MACHINE", multiple=True, help="This machine in work.")
@click.option("--without", metavar="MACHINE", multiple=True, help="This machine out of work.")
@click.option("--staffed", nargs=2, metavar="FROM TO", multiple=True, help="Somebody there, too: 'sat 9:00' 13:00.")
@click.option("--more", nargs=2, metavar="MANY LIKE", multiple=True, help="More machines like one, or of a model.")
@click.option("--strategy", type=click.Choice([s.value for s in Strategy]))
@json_option
@pass_service
def what_if(service: Service, order: int | None, job: int | None, by: str | None, works: tuple[str, ...],
            without: tuple[str, ...], staffed: tuple[tuple[str, str], ...], more: tuple[tuple[str, str], ...],
            strategy: str | None, as_json: bool) -> None:  # fmt: skip
    """What would happen if: both plans side by side. Nothing of the shop changes."""
    changes: list[Any] = []
    if (order is not None or job is not None) != (by is not None):
        raise click.UsageError("Say which order (or job) and --by when: --order 3 --by 'fri 12:00'.")
    if by is not None:
        due = shop_time(service, by)
        assert due is not None
        changes.append(w.IfDue(order=order, job=job, due=due))
    changes += [w.IfMachine(machine=name, works=True) for name in works]
    changes += [w.IfMachine(machine=name, works=False) for name in without]
    for begin, end in staffed:
        a = shop_time(service, begin)
        assert a is not None
        from chronarch.cli.when import parse_when

        changes.append(w.IfStaffed(begin=a, end=parse_when(end, a)))
    for many, like in more:
        machines = as_number(many)
        if machines is None:
            raise click.UsageError(f"--more says how many first: --more 2 '{like}'; {many!r} is no number.")
        changes.append(w.IfMore(like=like, many=machines))
    if strategy is not None:
        changes.append(w.IfStrategy(strategy=Strategy(strategy)))
    if not changes:
        raise click.UsageError("Say what would be otherwise: --order 3 --by …, --with, --without, --staffed, --more.")
    found = service.do(calls.what_if(w.WhatIf(changes=changes)))
    if as_json:
        return show_json(found)
    say(f"{found.question}\n{found.answer}\n")
    then = {(o.order, o.job): o for o in found.then.orders}
    rows: list[list[str | Text]] = []
    for o in found.now.orders:
        t = then.get((o.order, o.job), o)
        name = f"order {o.order}, {o.name}" if o.order else f"job {o.job}, {o.name}"
        rows.append(
            [name, _due(o, t), range_text(o.expected), promise_text(o.promise, o.chance), range_text(t.expected),
             promise_text(t.promise, t.chance)]
        )  # fmt: skip
    console().print(make_table(("", "Due", "As it is", "", "Then", ""), rows))
    before, after = found.now, found.then
    facts = [
        ["In time", f"{before.in_time} of {before.due}", f"{after.in_time} of {after.due}"],
        ["All done", _all_done(before), _all_done(after)],
        ["Productive, next 7 days", f"{before.productive:.1%}", f"{after.productive:.1%}"],
        ["Spools and nozzles to change", str(before.changes), str(after.changes)],
    ]
    console().print(make_table(("", "As it is", "Then"), facts))


def _due(now: w.OrderOutlook, then: w.OrderOutlook) -> str:
    """When something is due, and when it would be if that differs."""
    asked = "" if then.due == now.due else f"asked for {clock_time(then.due)}"
    return ", ".join(filter(None, (clock_time(now.due), asked)))


def _all_done(o: w.Outlook) -> str:
    jobs = "1 job" if o.cannot == 1 else f"{o.cannot} jobs"
    but = f"but for {jobs} that no machine can make" if o.cannot else ""
    return ", ".join(filter(None, (clock_time(o.ready) or "nothing waits", but)))
