"""`chronarch install`, `uninstall`, `launch`, and the database of an installation."""

from __future__ import annotations

import json
import signal
import threading
from dataclasses import asdict
from pathlib import Path

import click

from chronarch.core.errors import CoreError
from chronarch.install import installing
from chronarch.install.launching import Launcher
from chronarch.installation import OWN, Installation, InstallWishes

root_option = click.option(
    "--root", type=click.Path(path_type=Path), default=Path("/"), help="Below which folder; / without it."
)


@click.command()
@click.option("--shop", default="The shop", show_default=True, help="What the shop is called.")
@click.option("--host", default="127.0.0.1", show_default=True, help="The address that the service listens on.")
@click.option("--port", type=click.IntRange(1, 65535), default=8420, show_default=True)
@click.option("--database", default=OWN, show_default=True, help="`own`, or the address of a MariaDB database.")
@click.option("--database-port", type=click.IntRange(1, 65535), default=8421, show_default=True, help="Of an own one.")
@click.option("--start/--no-start", "begin", default=True, help="Whether the parts are started at once.")
@root_option
def install(shop: str, host: str, port: int, database: str, database_port: int, begin: bool, root: Path) -> None:
    """Put service, tender and database in place on this computer, and start them.

    Done again, it brings the units up to date; settings, records and files are kept."""
    there = Installation(root.absolute())
    asked = InstallWishes(shop, host, port, database, database_port)
    try:
        installing.install(there, asked, begin, click.echo)
        if not begin:
            click.echo("Not started. systemctl start 'chronarch-*' does it, or `chronarch launch` without systemd.")
            return
        code = installing.first_code(there, click.echo)
        address = there.read()["CHRONARCH_ADDRESS"]
    except CoreError as error:
        raise click.ClickException(str(error)) from None
    click.echo(f"Chronarch is at {address}")
    if code:
        click.echo(f"The code for the first person: {code}")


@click.command()
@click.option("--with-data", is_flag=True, help="Remove settings, records and files, too. Nothing brings them back.")
@click.option("--yes", is_flag=True, help="Do not ask.")
@root_option
def uninstall(with_data: bool, yes: bool, root: Path) -> None:
    """Take the parts away from this computer. Records and files stay, unless told."""
    there = Installation(root.absolute())
    if with_data and not yes:
        click.confirm(f"All records and files in {there.state} will be gone. Go on?", abort=True)
    try:
        installing.uninstall(there, with_data, click.echo)
    except CoreError as error:
        raise click.ClickException(str(error)) from None


@click.command()
@root_option
def launch(root: Path) -> None:
    """Run all parts of an installation until stopped, where there is no systemd."""
    try:
        Launcher(Installation(root.absolute()), click.echo).run()
    except CoreError as error:
        raise click.ClickException(str(error)) from None


SUBJECT_WIDTH = len("certificates") + 2


@click.command()
@click.option("--json", "as_json", is_flag=True, help="As JSON.")
@root_option
def doctor(as_json: bool, root: Path) -> None:
    """Say what is wrong with the installation on this computer, and what to do. Exit code 1 when something is.

    Needs to read the settings and the records: run it as root."""
    from chronarch.install.doctor import Doctor

    found = Doctor(Installation(root.absolute())).look()
    if as_json:
        click.echo(json.dumps([asdict(one) for one in found], indent=1))
    for one in () if as_json else found:
        click.echo(click.style(f"{one.about:<{SUBJECT_WIDTH}}", bold=True) + click.style(one.what, fg="red"))
        click.echo(f"{'':<{SUBJECT_WIDTH}}{one.do}\n")
    if not as_json:
        few = {0: "All is well.", 1: "One thing is wrong."}
        click.secho(few.get(len(found), f"{len(found)} things are wrong."), fg="red" if found else "green")
    if found:
        raise SystemExit(1)


@click.group()
def database() -> None:
    """The database server of an installation that has its own."""


@database.command("run")
@click.option("--folder", type=click.Path(path_type=Path), envvar="CHRONARCH_DATABASE_FOLDER", required=True)
@click.option(
    "--port", type=click.IntRange(1, 65535), envvar="CHRONARCH_DATABASE_PORT", default=8421, show_default=True
)
def run_database(folder: Path, port: int) -> None:
    """Run it until stopped."""
    from chronarch.records.server import PrivateServer, ServerFailed, memory_for_records

    stop = threading.Event()
    for number in (signal.SIGTERM, signal.SIGINT):
        signal.signal(number, lambda *_: stop.set())
    server = PrivateServer(folder, port, memory_for_records())
    try:
        server.start()
        while not stop.wait(1.0):
            if not server.is_running():
                raise ServerFailed(f"The database server ended by itself; its log is {folder / 'log'}.")
    except ServerFailed as error:
        raise click.ClickException(str(error)) from None
    finally:
        server.stop()
