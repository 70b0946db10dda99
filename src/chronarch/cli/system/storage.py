"""`chronarch storage`."""

from __future__ import annotations

import click
from rich.text import Text

from chronarch.cli.context import Service, json_option, pass_service
from chronarch.cli.output import clock_time, show_facts, show_json, show_table, size_text
from chronarch.cli.plain import say
from chronarch.client import requests
from chronarch.wire.system.storage import GiveUp, StoragePart

MEANS = {
    StoragePart.FILES: "the library's files", StoragePart.REVISIONS: "their earlier revisions",
    StoragePart.BIN: "the bin", StoragePart.BUILDS: "what was built, shapes and photos",
    StoragePart.LOGS: "line logs of builds", StoragePart.DERIVED: "drawings made from files",
    StoragePart.FRAMES: "camera frames", StoragePart.FILMS: "films", StoragePart.READINGS: "heat and power over time",
    StoragePart.RECORDS: "records", StoragePart.BACKUPS: "backups on this disk",
}  # fmt: skip
GOES = (StoragePart.BIN, StoragePart.REVISIONS, StoragePart.LOGS)


@click.group()
def storage() -> None:
    """What takes the disk, when it will be full, and what can go."""


@storage.command()
@json_option
@pass_service
def show(service: Service, as_json: bool) -> None:
    """What takes how much, against its budget, and how it grows."""
    found = service.do(requests.storage())
    if as_json:
        return show_json(found)
    now = service.do(requests.shop()).now
    rows = [
        [one.part, MEANS[one.part], size_text(one.size), size_text(one.budget) if one.budget is not None else "",
         _grows(one.a_day)]
        for one in found.parts
    ]  # fmt: skip
    show_table(("Part", "What", "Takes", "At most", "A day"), [[Text(str(c)) for c in row] for row in rows], "")
    show_facts(
        [
            ("Free", f"{size_text(found.free)} of {size_text(found.size)}"),
            ("Other things", size_text(found.other)),
            ("Grows", _grows(found.a_day) and f"{_grows(found.a_day)} a day, as known since {found.since}"),
            ("Full", clock_time(found.full_at, now) if found.full_at else "not within ten years, as it grows now"
             if found.a_day is not None else "not known yet: it takes two days to see how it grows"),
        ]
    )  # fmt: skip
    return None


def _grows(a_day: float | None) -> str:
    if a_day is None or abs(a_day) < 1:
        return ""
    return f"{'+' if a_day >= 0 else '-'}{size_text(abs(int(a_day)))}"


@storage.command("give-up")
@click.argument("what", type=click.Choice([one.value for one in GOES]))
@click.option("--older-than", "days", type=click.IntRange(0), default=90, show_default=True, help="Days.")
@click.option("--yes", is_flag=True, help="Do not ask.")
@pass_service
def give_up(service: Service, what: str, days: int, yes: bool) -> None:
    """Have something go for good: earlier revisions that nothing was built from, line logs of builds, or what lies in
    the bin."""
    part = StoragePart(what)
    if not yes:
        click.confirm(f"Give up what is older than {days} days of {MEANS[part]} for good?", abort=True)
    items = 0
    while True:
        done = service.do(requests.give_up_storage(GiveUp(what=part, older_than_days=days)))
        items += done.items
        if not done.more:
            break
    say(f"{items} given up." if items else done.text)
