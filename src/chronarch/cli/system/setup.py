"""`chronarch setup`."""

from __future__ import annotations

from pathlib import PurePath
from typing import BinaryIO, TextIO

import click

from chronarch.cli.context import Service, json_option, pass_service
from chronarch.cli.output import show_facts, show_json, show_table
from chronarch.cli.plain import say
from chronarch.client import requests
from chronarch.wire.system.first_steps import FirstStepsChange, Step
from chronarch.wire.system.setup_file import SetupFormat
from chronarch.wire.system.shop import ShopChange

MOST = 800_000
format_option = click.option(
    "--format",
    "form",
    type=click.Choice([one.value for one in SetupFormat]),
    help="Without it, what the file's name ends in; else toml.",
)
STEP = click.Choice([step.value for step in Step])
SAYS = {
    Step.SHOP: ("Its name", "setup shop --name NAME"), Step.HOURS: ("When hands are there", "hours set"),
    Step.MACHINES: ("Machines", "models add, machines add"), Step.SPOOLS: ("Spools", "spools add"),
    Step.MESSAGE: ("A message that arrives", "channels add, channels test"),
    Step.BACKUPS: ("A place for backups", "backup schedule"),
}  # fmt: skip
"""What a step is, and the commands that do it."""


@click.group()
def setup() -> None:
    """The shop's set-up as a file, to be kept in version control."""


def _format(file: object, said: str | None) -> SetupFormat:
    """As it was said, or as the file's name ends."""
    ending = PurePath(str(getattr(file, "name", ""))).suffix.removeprefix(".").lower()
    return SetupFormat(said or (ending if ending in list(SetupFormat) else SetupFormat.TOML))


@setup.command()
@click.argument("file", type=click.File("wb", lazy=True), default="-")
@format_option
@pass_service
def export(service: Service, file: BinaryIO, form: str | None) -> None:
    """Write what the shop has decided to FILE (or show it). As TOML: its name, money, planning, hours, materials,
    models, machines, cameras, mail, chat, prices and the rule of backups; spools, people and passwords are not in it.
    As CSV: its machines. As JSON: its catalogue of models with their sequences, and of materials."""
    file.write(service.do(requests.setup_file(_format(file, form))))


@setup.command()
@pass_service
def schema(service: Service) -> None:
    """The JSON Schema of a catalogue."""
    show_json(service.do(requests.catalogue_schema()))


@setup.command("apply")
@click.argument("file", type=click.File("r"))
@format_option
@click.option("--dry-run", is_flag=True, help="Only say what would change.")
@json_option
@pass_service
def apply_file(service: Service, file: TextIO, form: str | None, dry_run: bool, as_json: bool) -> None:
    """Have the shop be as FILE says (- reads standard input). What it leaves out stays, nothing is removed, and applied
    again it changes nothing. TOML says anything; CSV has a row for each machine; JSON has models and materials."""
    try:
        text = file.read(MOST + 1)
    except UnicodeDecodeError as error:
        raise click.UsageError(f"{file.name} is not text: {error}.") from None
    if len(text) > MOST:
        raise click.UsageError(f"{file.name} has over {MOST:,} characters, which no set-up has.")
    done = service.do(requests.apply_setup_file(text, dry_run, _format(file, form)))
    if as_json:
        return show_json(done)
    show_table(("What", "Change"), [[one.about, one.what] for one in done.changes], "All is as the file says.")
    if done.changes:
        said = "would change; nothing was" if dry_run else "changed"
        say(f"{len(done.changes)} thing{'s' * (len(done.changes) != 1)} {said}.")


@setup.command()
@click.option("--name", help="What the shop is called.")
@click.option("--dates", help="The language in which the console writes dates, such as en-GB or de-DE.")
@json_option
@pass_service
def shop(service: Service, name: str | None, dates: str | None, as_json: bool) -> None:
    """What the shop is called, and in which language the console writes dates; with options, change it."""
    said = name is not None or dates is not None
    now = service.do(requests.change_shop(ShopChange(name=name, dates=dates)) if said else requests.shop())
    if as_json:
        return show_json(now)
    return show_facts([("Name", now.name), ("Dates in", now.dates)])


@setup.command("steps")
@click.option("--skip", type=STEP, help="Do without a step.")
@click.option("--take-up", type=STEP, help="Take a skipped step up again.")
@click.option("--over/--not-over", "over", default=None, help="Say whether the shop is set up.")
@json_option
@pass_service
def steps(service: Service, skip: str | None, take_up: str | None, over: bool | None, as_json: bool) -> None:
    """The first steps of a new shop: what is done, and what is still open."""
    change = FirstStepsChange.model_validate({"skip": skip, "take_up": take_up, "over": over})
    said = skip or take_up or over is not None
    found = service.do(requests.change_first_steps(change) if said else requests.first_steps())
    if as_json:
        return show_json(found)
    rows = [
        [one.step, SAYS[one.step][0], one.standing, one.told or f"chronarch {SAYS[one.step][1]}"] for one in found.steps
    ]
    show_table(("Step", "What", "Standing", ""), rows, "")
    return None
