"""The root of the command line."""

from __future__ import annotations

import click

from chronarch import __version__
from chronarch.cli.access import connect, keys
from chronarch.cli.context import Service, SpeakingGroup
from chronarch.cli.edits import edit  # noqa: F401  a group of `files`
from chronarch.cli.files import files
from chronarch.cli.follow import follow
from chronarch.cli.hands import home  # noqa: F401  commands of `machines` and `builds`
from chronarch.cli.inspect import inspect
from chronarch.cli.machines import machines
from chronarch.cli.models import models
from chronarch.cli.parts import parts
from chronarch.cli.report import report
from chronarch.cli.work import builds, jobs, notices


@click.group(cls=SpeakingGroup)
@click.option("--address", envvar="CHRONARCH_ADDRESS", help="The service, http://HOST:PORT.")
@click.option("--key", envvar="CHRONARCH_KEY", help="A key for it.")
@click.version_option(__version__, prog_name="chronarch")
@click.pass_context
def root(ctx: click.Context, address: str | None, key: str | None) -> None:
    """Run a print shop's fleet of networked 3D printers."""
    ctx.obj = Service(address, key)


for command in (machines, models, files, parts, jobs, builds, notices, report, follow, inspect, connect, keys):
    root.add_command(command)
