"""Options of commands that ask for secrets: in files, because what is typed in a shell is kept by it and shown in lists
of processes."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import click

_file = click.Path(exists=True, dir_okay=False, path_type=Path)
Command = Callable[..., Any]


def place_options(command: Command) -> Command:
    """--login, --password-file and --passphrase-file, for a place of backups."""
    for option in (
        click.option("--passphrase-file", type=_file, help="Holds the passphrase; it is asked for without this."),
        click.option("--password-file", type=_file, help="Holds its password."),
        click.option("--login", default="", help="For storage that speaks S3."),
    ):
        command = option(command)
    return command


private_key_option = click.option(
    "--private-key", type=_file, help="The file with the private key, if they are sealed for a public key."
)


def secret_in(path: Path | None) -> str:
    """The secret in a file, without the end of its line; empty without one."""
    return path.read_text().rstrip("\r\n") if path is not None else ""
