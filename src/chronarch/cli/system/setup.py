"""`chronarch setup`."""

from __future__ import annotations

from typing import BinaryIO, TextIO

import click

from chronarch.cli.context import Service, json_option, pass_service
from chronarch.cli.output import show_json, show_table
from chronarch.cli.plain import say
from chronarch.client import requests

MOST = 800_000


@click.group()
def setup() -> None:
    """The shop's set-up as a file, to be kept in version control."""


@setup.command()
@click.argument("file", type=click.File("wb", lazy=True), default="-")
@pass_service
def export(service: Service, file: BinaryIO) -> None:
    """Write all that the shop has decided to FILE (or show it), as TOML: its name, money, planning, hours, models,
    machines, prices and the rule of backups. Spools, people, channels and passwords are not in it."""
    file.write(service.do(requests.setup_file()))


@setup.command("apply")
@click.argument("file", type=click.File("r"))
@click.option("--dry-run", is_flag=True, help="Only say what would change.")
@json_option
@pass_service
def apply_file(service: Service, file: TextIO, dry_run: bool, as_json: bool) -> None:
    """Have the shop be as FILE says (- reads standard input). What it leaves out stays, nothing is removed, and applied
    again it changes nothing."""
    try:
        text = file.read(MOST + 1)
    except UnicodeDecodeError as error:
        raise click.UsageError(f"{file.name} is not text: {error}.") from None
    if len(text) > MOST:
        raise click.UsageError(f"{file.name} has over {MOST:,} characters, which no set-up has.")
    done = service.do(requests.apply_setup_file(text, dry_run))
    if as_json:
        return show_json(done)
    show_table(("What", "Change"), [[one.about, one.what] for one in done.changes], "All is as the file says.")
    if done.changes:
        said = "would change; nothing was" if dry_run else "changed"
        say(f"{len(done.changes)} thing{'s' * (len(done.changes) != 1)} {said}.")
