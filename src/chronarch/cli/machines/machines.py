"""`chronarch machines`: the list, setting machines up, what is loaded."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from typing import IO, Any

import click
from rich.text import Text

from chronarch.cli.context import Service, json_option, pass_service
from chronarch.cli.groups import machines
from chronarch.cli.output import clock_time, degrees, duration, show_csv, show_facts, show_json, show_table, state_text
from chronarch.cli.plain import FINITE, hand_over, say
from chronarch.client import requests
from chronarch.core.machines.states import Intake
from chronarch.core.machines.tools import Tool
from chronarch.wire.machines import machine as w

ROWS_OF_READINGS = 24
LARGEST_PHOTO = 12_000_000
"""Bytes; what is larger is refused by the service, in words."""
HEADINGS = ("Machine", "State", "File", "Progress", "Layer", "Ends", "Nozzle", "Bed", "Loaded", "Intake")


def row(m: w.Machine, shop_now: object = None) -> list[str | Text]:
    """A machine as one row under `HEADINGS`."""
    b = m.build
    live = b is not None and b.outcome is None
    reading = m.reading or w.Reading(at=m.since)
    state = state_text(m.state) if m.reachable else Text(f"{m.state} (tender away)", style="red")
    return [
        m.name,
        state,
        b.file if b else "",
        f"{b.progress:.0%}" if b else "",
        f"{b.layer} of {b.layers}" if b and live and b.layers else "",
        clock_time(b.expected_end, shop_now) if b and live else "",  # type: ignore[arg-type]
        degrees(reading.nozzle.measured_c, reading.nozzle.asked_c),
        degrees(reading.bed.measured_c, reading.bed.asked_c),
        ", ".join(loaded(tool) for tool in m.tools),
        m.intake,
    ]


def loaded(tool: Tool) -> str:
    what = f"{tool.colour} {tool.material}".strip() or "nothing"
    return f"{what}, {tool.nozzle_mm:g} mm{' hardened' if tool.hardened else ''}"


@machines.command("list")
@json_option
@click.option("--csv", "as_csv", is_flag=True, help="Print rows as CSV.")
@pass_service
def list_machines(service: Service, as_json: bool, as_csv: bool) -> None:
    """All machines as they are now."""
    found = service.do(requests.machines())
    if as_json:
        show_json(found)
    elif as_csv:
        show_csv(found)
    else:
        now = service.do(requests.shop()).now
        empty = "There are no machines yet. Add one with `chronarch machines add`."
        show_table(HEADINGS, [row(m, now) for m in found], empty)


@machines.command()
@click.argument("name")
@json_option
@pass_service
def show(service: Service, name: str, as_json: bool) -> None:
    """One machine: its build, heat and set-up."""
    m = service.do(requests.machine(name))
    if as_json:
        return show_json(m)
    now = service.do(requests.shop()).now
    b, reading = m.build, m.reading or w.Reading(at=m.since)
    x, y, z = m.model_detail.volume_mm
    show_facts(
        [
            ("Machine", m.name),
            ("State", Text.assemble(state_text(m.state), f" since {clock_time(m.since, now)}")),
            ("Reason", m.reason),
            ("Reachable", "" if m.reachable else "no: its tender is not connected; all here is as last heard"),
            ("Build", f"{b.id}: {b.file}, copy {b.copy_number} of job {b.job}" if b else "none"),
            ("Ended", f"{b.outcome}{f': {b.reason}' if b.reason else ''}" if b and b.outcome else ""),
            ("Progress", f"{b.progress:.1%}, {b.acknowledged} of {b.commands} commands" if b else ""),
            ("Layer", f"{b.layer} of {b.layers}" if b and b.layers and b.outcome is None else ""),
            ("It shows", b.words if b and b.outcome is None else ""),
            ("Elapsed", duration(b.elapsed_s) if b else ""),
            (
                "Expected end",
                f"{clock_time(b.expected_end, now)}, in {duration(b.remaining_s)} at pace {b.pace:.2f}"
                if b and b.expected_end
                else "",
            ),
            ("Nozzle", degrees(reading.nozzle.measured_c, reading.nozzle.asked_c)),
            ("Bed", degrees(reading.bed.measured_c, reading.bed.asked_c)),
            *((name.capitalize(), degrees(v.measured_c, v.asked_c)) for name, v in reading.further.items()),
            *((f"Tool {tool.number}", loaded(tool)) for tool in m.tools),
            ("Intake", m.intake),
            ("Place", f"{m.site} {m.place}".strip()),
            ("Pools", ", ".join(m.pools)),
            ("Tags", ", ".join(m.tags)),
            ("Model", f"{m.model}, {x:g} x {y:g} x {z:g} mm"),
            ("Link", f"{m.link}, {m.resends} lines sent again"),
            ("Camera", m.camera),
        ]
    )


@machines.command()
@click.argument("name")
@click.option("--hours", type=FINITE, default=1.0, show_default=True, help="Of the last so many hours.")
@json_option
@click.option("--csv", "as_csv", is_flag=True, help="Every point as CSV.")
@pass_service
def readings(service: Service, name: str, hours: float, as_json: bool, as_csv: bool) -> None:
    """Heat over time: what was asked and measured."""
    end = service.do(requests.shop()).now
    begin = end - timedelta(hours=hours)
    if as_csv:
        return hand_over(service.do(requests.heat_csv(name, begin, end)))
    curve = service.do(requests.heat(name, begin, end))
    if as_json:
        return show_json(curve)
    known = {"nozzle": curve.nozzle, "bed": curve.bed, "chamber": curve.chamber, **curve.further}
    heaters = [(name.capitalize(), c) for name, c in known.items() if c is not None]
    step = max(1, len(curve.at) // ROWS_OF_READINGS)
    rows = [
        [clock_time(datetime.fromtimestamp(curve.at[n], UTC), end),
         *(degrees(c.measured[n], c.asked[n]) for _, c in heaters)]
        for n in range(0, len(curve.at), step)
    ]  # fmt: skip
    show_table(("At", *(name for name, _ in heaters)), rows, f"Nothing was measured at {name} in that time.")
    disk = service.do(requests.heat_standing())
    say(f"\nReadings of all machines take {disk.now_gb:.2f} GB, and {disk.most_gb:.2f} GB at most.")


def where_options(command: Callable[..., None]) -> Callable[..., None]:
    """Options that say where a machine stands and what it is for."""
    for option in (
        click.option("--tag", "tags", multiple=True, help="What jobs may ask of it; may be repeated."),
        click.option("--pool", "pools", multiple=True, help="A pool whose line it works on; may be repeated."),
        click.option("--place", help="The shelf or bench, as on the rounds: A2"),
        click.option("--site", help="The house or room with hours of its own."),
    ):
        command = option(command)
    return command


@machines.command()
@click.argument("name")
@click.option("--model", required=True)
@click.option("--link", required=True, help="tcp://HOST:PORT")
@click.option("--nozzle", type=FINITE, default=0.4, show_default=True, help="Nozzle diameter, mm.")
@click.option("--hardened", is_flag=True)
@click.option("--material", default="")
@click.option("--colour", default="")
@click.option("--tender", default="tender", show_default=True)
@where_options
@pass_service
def add(service: Service, name: str, model: str, link: str, nozzle: float, hardened: bool,
        material: str, colour: str, tender: str, site: str | None, place: str | None, pools: tuple[str, ...],
        tags: tuple[str, ...]) -> None:  # fmt: skip
    """Add a machine."""
    tool = Tool(nozzle_mm=nozzle, hardened=hardened, material=material, colour=colour)
    order = w.NewMachine.model_validate(
        {"name": name, "model": model, "link": link, "tools": [tool],
         "site": site or "", "place": place or "", "pools": pools, "tags": tags}
    )  # fmt: skip
    made = service.do(requests.add_machine(order, tender))
    say(f"{made.name} is added.")


@machines.command()
@click.argument("name")
@click.option("--link", help="Another address, while no build is on it.")
@click.option("--model", help="Another model, while no build is on it.")
@where_options
@click.option("--no-pools", is_flag=True, help="It is in no pool.")
@click.option("--no-tags", is_flag=True, help="It has no tags.")
@pass_service
def change(service: Service, name: str, link: str | None, model: str | None, site: str | None, place: str | None,
           pools: tuple[str, ...], tags: tuple[str, ...], no_pools: bool, no_tags: bool) -> None:  # fmt: skip
    """Say how a machine is reached, of which model it is, where it stands, and which pools and tags it has; what is not
    said stays."""
    change = requests.change_machine(
        name, link=link, model=model, site=site, place=place, pools=list(pools) if pools or no_pools else None,
        tags=list(tags) if tags or no_tags else None,
    )  # fmt: skip
    m = service.do(change)
    of = (
        ("of model", m.model if model else ""),
        ("reached at", m.link if link else ""),
        ("at", f"{m.site} {m.place}".strip()),
        ("in", ", ".join(m.pools)),
        ("tagged", ", ".join(m.tags)),
    )
    say(f"{m.name}: " + ("; ".join(f"{how} {what}" for how, what in of if what) or "no place, pool or tag") + ".")


@machines.command()
@click.argument("name")
@click.argument("intake", type=click.Choice([i.value for i in Intake]))
@pass_service
def intake(service: Service, name: str, intake: str) -> None:
    """Set whether a machine takes work by itself (open), when a person starts each build (manual), or not (closed)."""
    m = service.do(requests.change_machine(name, intake=Intake(intake)))
    say(f"{m.name}: intake {m.intake}.")


@machines.command()
@click.argument("name")
@click.option("--tool", "number", type=int, default=0, show_default=True)
@click.option("--material", required=True)
@click.option("--colour", default="")
@click.option("--nozzle", type=FINITE, help="The nozzle's diameter, mm, when it was changed too.")
@pass_service
def load(service: Service, name: str, number: int, material: str, colour: str, nozzle: float | None) -> None:
    """Say what is loaded on a machine's tool now."""
    tools = service.do(requests.machine(name)).tools
    if number not in {tool.number for tool in tools}:
        raise click.UsageError(f"{name} has no tool {number}.")
    change: dict[str, Any] = {"material": material, "colour": colour, **({"nozzle_mm": nozzle} if nozzle else {})}
    tools = [replace(t, **change) if t.number == number else t for t in tools]
    m = service.do(requests.change_machine(name, tools=tools))
    say(f"{m.name}: " + ", ".join(loaded(tool) for tool in m.tools))


@machines.command()
@click.argument("name")
@click.argument("picture", type=click.File("rb"), required=False)
@click.option("--remove", is_flag=True, help="Show none any more.")
@pass_service
def photo(service: Service, name: str, picture: IO[bytes] | None, remove: bool) -> None:
    """Give a machine a photo (JPEG or PNG) by which it is known at a glance."""
    if (picture is None) != remove:
        raise click.UsageError("Give a picture, or --remove: one of both.")
    if picture is None:
        service.do(requests.remove_machine_photo(name))
        return say(f"{name} has no photo any more.")
    service.do(requests.put_machine_photo(name, picture.read(LARGEST_PHOTO + 1)))
    return say(f"{name} has a photo.")
