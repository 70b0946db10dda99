"""`chronarch orders`."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click
from rich.text import Text

from chronarch.cli.context import Service, json_option, limit_option, pass_service
from chronarch.cli.orders.words import needs, promise_text, range_text
from chronarch.cli.output import clock_time, show_csv, show_facts, show_json, show_table
from chronarch.cli.plain import say
from chronarch.cli.when import shop_time
from chronarch.client import requests
from chronarch.client import requests as calls
from chronarch.core.library.names import as_number
from chronarch.wire.orders import orders as w


@click.group()
def orders() -> None:
    """Orders: what customers want by when."""


@orders.command("list")
@click.option("--all", "ended", is_flag=True, help="Finished and cancelled ones too.")
@limit_option
@json_option
@click.option("--csv", "as_csv", is_flag=True, help="Print rows as CSV.")
@pass_service
def list_orders(service: Service, ended: bool, limit: int | None, as_json: bool, as_csv: bool) -> None:
    """Orders, soonest due first."""
    found = service.all(calls.orders(ended), limit)
    if as_json:
        return show_json(found)
    if as_csv:
        return show_csv(found)
    now = service.do(requests.shop()).now
    rows: list[list[str | Text]] = [
        [
            str(o.id), o.customer, o.state, f"{o.good} of {o.pieces}", str(o.building), str(o.waiting),
            clock_time(o.due, now), range_text(o.expected, now) if o.state in ("waiting", "running") else "",
            promise_text(o.promise, o.chance),
        ]
        for o in found
    ]  # fmt: skip
    show_table(
        ("Order", "Customer", "State", "Good", "Building", "Waiting", "Due", "Expected", "Promise"),
        rows,
        "No order is in work. Make one with `chronarch orders add CUSTOMER PART=QUANTITY`.",
    )


def show(o: w.Order) -> None:
    show_facts(
        [
            ("Order", f"{o.id} for {o.customer}, made {clock_time(o.created_at)} by {o.created_by}"),
            ("State", o.state),
            ("Stands", o.words),
            ("Due", clock_time(o.due)),
            ("Note", o.note),
            ("Tags", ", ".join(o.tags)),
        ]
    )
    say()
    show_table(
        ("Job", "What", "Needs", "Copies", "Good", "Building", "Waiting", "Expected", "Why it waits"),
        [
            [
                str(j.id), j.file, needs(j.requirement), str(j.copies), str(j.good), str(j.building), str(j.waiting),
                range_text(j.expected) if j.state in ("waiting", "running") else j.state, j.why,
            ]
            for j in o.lines
        ],
        "It has no lines.",
    )  # fmt: skip


@orders.command("show")
@click.argument("number", type=int)
@json_option
@pass_service
def show_order(service: Service, number: int, as_json: bool) -> None:
    """One order: how far it is, whether it will be in time, its lines."""
    o = service.do(calls.order(number))
    return show_json(o) if as_json else show(o)


class LineText(click.ParamType[w.NewOrderLine]):
    """`WHAT=QUANTITY[,material=PLA][,colour=teal][,nozzle=0.4][,pool=P][,volume=300x300x400][,stock=2]` and the like;
    WHAT is a part, or a file when it ends in .gcode."""

    name = "WHAT=QUANTITY[,…]"
    ALSO = ("material", "colour", "nozzle", "hardened", "pool", "machine", "model", "tags", "volume", "stock", "note")

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> w.NewOrderLine:
        if isinstance(value, w.NewOrderLine):
            return value
        head, *more = str(value).split(",")
        what, _, many = head.rpartition("=")
        if not what or as_number(many.strip()) is None:
            self.fail(f"{value!r} does not say how many; write WHAT=QUANTITY, like 'nest box plate=12'.", param, ctx)
        given: dict[str, Any] = {}
        for pair in more:
            key, _, text = pair.partition("=")
            if key.strip() not in self.ALSO or not text:
                self.fail(
                    f"{pair!r} is not understood; possible: {', '.join(f'{a}=…' for a in self.ALSO)}.", param, ctx
                )
            given[key.strip()] = text.strip()
        stock, note = int(given.pop("stock", 0)), given.pop("note", "")
        if "nozzle" in given:
            given["nozzle_mm"] = given.pop("nozzle")
        if "volume" in given:
            given["volume_mm"] = given.pop("volume").split("x")
        where = {"file": what} if what.lower().endswith((".gcode", ".gco", ".g")) else {"part": what}
        return w.NewOrderLine.model_validate(
            {**where, "quantity": int(many), "requirement": given, "from_stock": stock, "note": note}
        )


@orders.command("add")
@click.argument("customer")
@click.argument("lines", type=LineText(), nargs=-1, required=True)
@click.option("--due", help="By when: 2026-10-23 12:00, fri 12:00, 17:00.")
@click.option("--not-before", help="Start nothing of it before then.")
@click.option("--note", default="")
@click.option("--priority", type=click.IntRange(-2, 2), default=0, show_default=True)
@click.option("--tag", "tags", multiple=True)
@click.option("--held", is_flag=True, help="Start nothing until it is released.")
@json_option
@pass_service
def add_order(service: Service, customer: str, lines: tuple[w.NewOrderLine, ...], due: str | None,
              not_before: str | None, note: str, priority: int, tags: tuple[str, ...], held: bool,
              as_json: bool) -> None:  # fmt: skip
    """Make an order. Each line is WHAT=QUANTITY, then ,material=… ,colour=… ,nozzle=… ,pool=… ,stock=… where wanted."""
    order = w.NewOrder(
        customer=customer, note=note, due=shop_time(service, due), not_before=shop_time(service, not_before),
        priority=priority, tags=list(tags), held=held, lines=list(lines),
    )  # fmt: skip
    made = service.do(calls.make_order(order))
    if as_json:
        return show_json(made)
    say(f"Order {made.id} for {made.customer}: {made.words}")


@orders.command("add-csv")
@click.argument("path", type=click.Path(exists=True, dir_okay=False, path_type=Path))
@json_option
@pass_service
def add_csv(service: Service, path: Path, as_json: bool) -> None:
    """Make orders from a CSV file with the columns customer, and part or file; if wanted also order, due, quantity,
    material, colour, nozzle_mm, pool, note. All orders are made, or none."""
    made = service.do(calls.orders_from_csv(path.read_bytes()))
    if as_json:
        return show_json(made)
    for o in made:
        say(f"Order {o.id} for {o.customer}: {o.words}")


@orders.command("change")
@click.argument("number", type=int)
@click.option("--due", help="By when; 'none' takes the due time away.")
@click.option("--not-before", help="Not before then; 'none' takes it away.")
@click.option("--note")
@click.option("--priority", type=click.IntRange(-2, 2))
@click.option("--hold/--release", "held", default=None, help="Start nothing more of it, or let it go on.")
@click.option("--add", "lines", type=LineText(), multiple=True, help="A line to add, as in `add`.")
@pass_service
def change(service: Service, number: int, due: str | None, not_before: str | None, note: str | None,
           priority: int | None, held: bool | None, lines: tuple[w.NewOrderLine, ...]) -> None:  # fmt: skip
    """Change an order. Its due time, priority and hold apply to its lines."""
    given: dict[str, Any] = {"note": note, "priority": priority, "held": held}
    given = {k: v for k, v in given.items() if v is not None}
    for name, text in (("due", due), ("not_before", not_before)):
        if text is not None:
            given[name] = None if text == "none" else shop_time(service, text)
    if lines:
        given["add"] = list(lines)
    if not given:
        raise click.UsageError("Say what is to be changed: --due, --not-before, --note, --priority, --hold, --add.")
    o = service.do(calls.change_order(number, w.OrderChange(**given)))
    say(f"Order {o.id}: {o.words}")


@orders.command()
@click.argument("number", type=int)
@click.option("--running", type=click.Choice(["finish", "stop"]), help="What becomes of copies that are being built.")
@click.option("--yes", is_flag=True, help="Do not ask.")
@pass_service
def cancel(service: Service, number: int, running: str | None, yes: bool) -> None:
    """Make nothing more for an order; good pieces go to stock."""
    o = service.do(calls.order(number))
    if o.building and running is None:
        running = click.prompt(f"{o.building} are being built: finish or stop", type=click.Choice(["finish", "stop"]))
    if not yes:
        click.confirm(f"Cancel order {number} for {o.customer}? {o.waiting} more will not be made.", abort=True)
    made = service.do(calls.cancel_order(number, w.Cancel.model_validate({"running": running})))
    say(f"Order {made.id} is cancelled. {made.good} good went to stock.")


@orders.command()
@click.argument("number", type=int)
@click.option("--due", help="By when: 2026-10-23 12:00, fri 12:00, 17:00.")
@pass_service
def repeat(service: Service, number: int, due: str | None) -> None:
    """Make an order once more, as it was."""
    o = service.do(calls.repeat_order(number, shop_time(service, due)))
    say(f"Order {o.id} for {o.customer}: {o.words}")
