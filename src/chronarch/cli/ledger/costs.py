"""`chronarch costs`: prices, and what builds, parts and orders cost."""

from __future__ import annotations

from datetime import datetime
from decimal import Decimal
from typing import Any

import click

from chronarch.cli.context import Service, json_option, pass_service
from chronarch.cli.groups import build_number
from chronarch.cli.ledger.ledger import FORMATS
from chronarch.cli.output import clock_time, duration, show_facts, show_json, show_table
from chronarch.cli.plain import AMOUNT, say
from chronarch.client import requests
from chronarch.core.ledger.costs import CostPart, RateKind
from chronarch.wire.ledger import costs as w

PER = {
    RateKind.MATERIAL: "a kg", RateKind.ENERGY: "a kWh", RateKind.MACHINE: "an hour", RateKind.HANDS: "a minute",
    RateKind.OVERHEAD: "of all the rest",
}  # fmt: skip


@click.group()
def costs() -> None:
    """What builds, parts and orders cost, and the prices that is worked out from."""


@costs.command("rates")
@json_option
@pass_service
def rates(service: Service, as_json: bool) -> None:
    """All prices, each from when it holds."""
    found = service.do(requests.cost_rates())
    if as_json:
        return show_json(found)
    currency = service.do(requests.cost_settings()).currency
    none = "There are no prices. Set one, like `chronarch costs set material PLA 22.50`."
    show_table(("Number", "Price", "Of", "Since", "Comes to", "Set by"), [_rate(one, currency) for one in found], none)
    return None


def _rate(one: w.CostRate, currency: str) -> list[str]:
    share = one.kind is RateKind.OVERHEAD
    price = f"{one.price:.1%} {PER[one.kind]}" if share else f"{_plain(one.price)} {currency} {PER[one.kind]}"
    price += "".join(f", {h.begin:02}-{h.end:02} h {_plain(h.price)}" for h in one.hours)
    if one.machine is not None:
        m = one.machine
        price += f" ({_plain(m.purchase)} / {_plain(m.life_h)} h + {_plain(m.upkeep_h)})"
    return [str(one.id), one.kind, one.subject or "all", clock_time(one.since), price, one.set_by]


def _plain(amount: Decimal) -> str:
    return f"{amount.normalize():f}"


@costs.command("set")
@click.argument("kind", type=click.Choice([str(kind) for kind in RateKind]))
@click.argument("words", nargs=-1, metavar="[OF] [PRICE]")
@click.option("--since", type=click.DateTime(FORMATS), help="From when it holds, in your own zone; now without.")
@click.option("--hours", "hours", multiple=True, metavar="FROM-TO=PRICE", help="Energy: another price for some hours.")
@click.option("--purchase", type=AMOUNT, help="Machine: what it cost, instead of a price.")
@click.option("--life-h", type=AMOUNT, help="Machine: the hours that it is expected to build.")
@click.option("--upkeep-h", type=AMOUNT, default=Decimal(0), help="Machine: what an hour costs in parts and care.")
@json_option
@pass_service
def set_rate(service: Service, kind: str, words: tuple[str, ...], since: datetime | None, hours: tuple[str, ...],
             purchase: Decimal | None, life_h: Decimal | None, upkeep_h: Decimal, as_json: bool) -> None:  # fmt: skip
    """Set a price. Of a material (a kg), a site's energy (a kWh), a model's hour, a minute of hands, or the share for
    overhead (0.15); OF is the material, site or model, all without it. Costs since then are worked out anew.

    Examples: `costs set material PLA 22.50`, `costs set energy 0.31 --hours 22-6=0.22`,
    `costs set machine "Kiln 250" --purchase 4200 --life-h 9000 --upkeep-h 0.20`."""
    subject, price = _subject_and_price(words, with_price=purchase is None)
    said: dict[str, Any] = {"kind": kind, "subject": subject, "price": price, "hours": [_hours(one) for one in hours]}
    if purchase is not None:
        said["machine"] = {"purchase": purchase, "life_h": life_h or 0, "upkeep_h": upkeep_h}
    asked = w.NewRate.model_validate({**said, "since": since and since.astimezone()})
    made = service.do(requests.set_cost_rate(asked))
    if as_json:
        return show_json(made)
    *_, price_text, _ = _rate(made, service.do(requests.cost_settings()).currency)
    say(f"{made.kind.capitalize()} of {made.subject or 'all'}: {price_text}, from {clock_time(made.since)} on.")
    return None


def _subject_and_price(words: tuple[str, ...], *, with_price: bool) -> tuple[str, Decimal | None]:
    most = 2 if with_price else 1
    if len(words) > most or (with_price and not words):
        raise click.UsageError("Say of what, if not of all, and the price." if with_price else "Say of what at most.")
    if not with_price:
        return (words[0] if words else ""), None
    return (words[0] if len(words) == most else ""), AMOUNT.convert(words[-1], None, None)


def _hours(text: str) -> dict[str, Any]:
    span, _, price = text.partition("=")
    begin, _, end = span.partition("-")
    if not (begin.isdecimal() and end.isdecimal() and price):
        raise click.UsageError(f"{text!r} is not understood; write hours like 22-6=0.22.")
    return {"begin": int(begin), "end": int(end), "price": AMOUNT.convert(price, None, None)}


@costs.command("forget")
@click.argument("number", type=click.IntRange(1))
@pass_service
def forget(service: Service, number: int) -> None:
    """Take a price away; the one before it holds on."""
    say(service.do(requests.forget_cost_rate(number)).text)


@costs.command("settings")
@click.option("--currency", help="Three letters (ISO 4217). Nothing is converted.")
@click.option("--step", type=AMOUNT, help="The smallest amount that people pay in.")
@click.option("--margin", type=AMOUNT, help="The share of a price that is left after the cost, like 0.4.")
@json_option
@pass_service
def settings(
    service: Service, currency: str | None, step: Decimal | None, margin: Decimal | None, as_json: bool
) -> None:
    """What all costs and prices are in; with options, set it."""
    found = service.do(requests.cost_settings())
    said = {
        name: value for name, value in (("currency", currency), ("step", step), ("margin", margin)) if value is not None
    }
    if said:
        found = service.do(requests.set_cost_settings(w.CostSettings.model_validate({**found.model_dump(), **said})))
    if as_json:
        return show_json(found)
    facts = ("Currency", found.currency), ("Smallest amount", _plain(found.step)), ("Margin", f"{found.margin:.1%}")
    show_facts(facts)
    return None


@costs.command("build")
@click.argument("build")
@json_option
@pass_service
def build(service: Service, build: str, as_json: bool) -> None:
    """What a build cost, or has cost up to now."""
    found = service.do(requests.build_cost(build_number(service, build)))
    if as_json:
        return show_json(found)
    each = f"{_plain(found.per_good_piece)} {found.currency}" if found.per_good_piece else ""
    show_facts([*_parts(found.cost, found.currency), ("Good pieces", str(found.good_pieces)), ("Each", each)])
    return _unpriced(found.cost)


@costs.command("part")
@click.argument("part")
@json_option
@pass_service
def part(service: Service, part: str, as_json: bool) -> None:
    """What a part should cost from each of its files on each model that can make it, the cheapest way first."""
    found = service.do(requests.part_cost(part))
    if as_json:
        return show_json(found)
    rows = [
        [
            one.file, one.model, f"{one.each.total} {found.currency}",
            *(str(one.each.parts.get(name, "–")) for name in CostPart),
            f"{one.scrap} ({one.scrap_share:.0%})", duration(one.takes_s), str(one.pieces),
        ]
        for one in found.ways
    ]  # fmt: skip
    head = ("File", "Model", "Each", *(name.capitalize() for name in CostPart), "For scrap", "A build takes", "Pieces")
    show_table(head, rows, "No machine can make it.")
    return _unpriced(*(one.each for one in found.ways))


@costs.command("order")
@click.argument("number", type=click.IntRange(1))
@json_option
@pass_service
def order(service: Service, number: int, as_json: bool) -> None:
    """What an order should cost, for what it may be offered, and what it has cost up to now."""
    found = service.do(requests.order_cost(number))
    if as_json:
        return show_json(found)
    money = found.currency
    rows = [
        [line.name, str(line.quantity), line.made_on or "no machine can make it",
         str(line.quoted.total) if line.quoted else "–", str(line.quoted_scrap), str(line.made), str(line.real.total),
         str(line.scrap)]
        for line in found.lines
    ]  # fmt: skip
    whole = found.quoted.total, found.quoted_scrap, "", found.real.total, found.scrap
    rows.append(["All", "", "", *map(str, whole)])
    show_table(("What", "Pieces", "On", "Should cost", "For scrap", "Good", "Has cost", "Scrap"), rows, "")
    say("")
    say(f"Price with a margin of {found.margin:.1%}: {found.price} {money}. All amounts in {money}.")
    return _unpriced(found.quoted, found.real)


def _parts(cost: w.Cost, currency: str) -> list[tuple[str, str]]:
    return [*((part.capitalize(), f"{amount} {currency}") for part, amount in cost.parts.items() if amount),
            ("Cost", f"{cost.total} {currency}")]  # fmt: skip


def _unpriced(*several: w.Cost) -> None:
    missing = sorted({part for cost in several for part in cost.unpriced})
    if missing:
        say(f"Left out, because there is no price or no reading for it: {', '.join(missing)}.")
