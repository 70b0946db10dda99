"""`chronarch service`: run the service, and what must be done beside it."""

from __future__ import annotations

import asyncio
import ipaddress
import json
import sys
from dataclasses import replace

import click
import uvicorn
from sqlalchemy import select

from chronarch.core.access.rights import GIVEN_ROLES, WHOLE_SHOP, GivenRole
from chronarch.core.clock import real_clock
from chronarch.core.errors import BadName, CoreError
from chronarch.logs import begin_logging
from chronarch.private_file import write_private
from chronarch.records import tables as t
from chronarch.records.audit import Act, doing
from chronarch.records.database import make_engine, make_sessions
from chronarch.service.access.first_run import code_file
from chronarch.service.access.registering import register
from chronarch.service.app import make_app
from chronarch.service.config import Config
from chronarch.service.http.bounded_protocol import BoundedProtocol
from chronarch.service.principals import key_row, new_secret
from chronarch.service.system.backup.restoring import begun_restore
from chronarch.service.system.upgrade import bring_up_to_date


@click.group()
def service() -> None:
    """The service: records, decisions and the console."""


KEEP_ALIVE_S = 20
"""How long an idle connection is kept. Clients should give theirs up much sooner, so that none is closed just when it
is used again."""
IN_CLEAR = (
    "What goes over the network is not encrypted here, passwords and keys included: "
    "have a proxy with TLS before the service."
)


def is_loopback(host: str) -> bool:
    """Whether only this computer can connect to an address."""
    try:
        return ipaddress.ip_address(host).is_loopback
    except ValueError:
        return host.lower() == "localhost"


def _settings() -> Config:
    try:
        return Config.from_environment()
    except ValueError as error:
        raise click.UsageError(str(error)) from None


@service.command()
@click.option(
    "--host", default="127.0.0.1", envvar="CHRONARCH_HOST", show_default=True, help="The address to listen on."
)
@click.option("--port", type=click.IntRange(1, 65535), default=8420, envvar="CHRONARCH_PORT", show_default=True)
@click.option("--beyond-loopback", is_flag=True, help="Listen where other machines come in too; see docs/security.md.")
def run(host: str, port: int, beyond_loopback: bool) -> None:
    """Bring the tables up to date and serve until stopped."""
    config = replace(_settings(), port=port)
    if not is_loopback(host):
        if not beyond_loopback:
            raise click.UsageError(
                f"{host} lets other machines in. {IN_CLEAR} If that is meant, add --beyond-loopback."
            )
        click.echo(f"Other machines can come in at {host}:{port}. {IN_CLEAR}", err=True)
    begun = begun_restore(config.blobs)
    if begun is not None:
        raise click.UsageError(
            f"{config.blobs} has half of a restored backup ({begun['stamp']} of {begun['place']}). Go on with "
            "`chronarch backup restore`, or empty the folder and the database."
        )
    begin_logging()
    try:
        bring_up_to_date(config)
        if config.local_tender is not None and not config.local_tender.exists():
            key = asyncio.run(register_key(config, "the tender here", GivenRole.TENDER))
            write_private(config.local_tender, key.encode() + b"\n")
    except (CoreError, OSError) as error:
        raise click.ClickException(str(error)) from None
    uvicorn.run(
        make_app(config),
        host=host,
        port=port,
        log_config=None,
        log_level="error",  # malformed requests of others are not worth a line each
        timeout_graceful_shutdown=3,
        timeout_keep_alive=KEEP_ALIVE_S,
        ws_max_size=8_000_000,
        ws_per_message_deflate=False,  # frames are packed already
        http=BoundedProtocol,
    )


KEYS_ROLES = [str(role) for role in GIVEN_ROLES]
PERSONS_ROLES = [role for role in KEYS_ROLES if role != GivenRole.TENDER]


@service.command("add-person")
@click.argument("login")
@click.option("--name", help="What the person is called; the login without it.")
@click.option(
    "--role", type=click.Choice(PERSONS_ROLES), help="What they hold for the whole shop; manager for somebody new."
)
@click.option("--password-stdin", is_flag=True, help="Read the password from standard input.")
def add_person(login: str, name: str | None, role: str | None, password_stdin: bool) -> None:
    """Let a person sign in, or give them a new password."""
    password = sys.stdin.readline().rstrip("\n") if password_stdin else click.prompt("Password", hide_input=True)
    try:
        asyncio.run(register_person(_settings(), login, name or login, password, role))
    except BadName as error:
        raise click.UsageError(str(error)) from None
    click.echo(f"{login} can sign in.")


async def register_person(settings: Config, login: str, name: str, password: str, role: str | None = None) -> None:
    """Let a person in, or change what is known of them. `role`: what they hold for the whole shop; without one, who is
    new manages the shop and who is there keeps what they hold. Raises BadName."""
    engine = make_engine(settings.database)
    with doing(_on_this_computer("service add-person")):
        async with make_sessions(engine)() as db:
            known = (await db.execute(select(t.Person.id).where(t.Person.login == login))).first() is not None
            given = role or (None if known else GivenRole.MANAGER)
            await register(db, login, name, password, None if given is None else [(given, WHOLE_SHOP)])
            await db.commit()
    await engine.dispose()


def _on_this_computer(command: str) -> Act:
    """What the audit tells of a command that needs no key, because whoever may give it may read the records."""
    return Act(real_clock().real_now(), "this computer", command)


@service.command("first-code")
def first_code() -> None:
    """Print the code with which the first person of a new shop signs in."""
    path = code_file(_settings().blobs)
    if not path.exists():
        raise click.ClickException(
            f"There is no code in {path}: somebody can sign in already, or the service has not been started yet."
        )
    click.echo(path.read_text().strip())


@service.command("make-key")
@click.argument("name")
@click.option("--role", type=click.Choice(KEYS_ROLES), default=GivenRole.OPERATOR.value, show_default=True)
def make_key(name: str, role: str) -> None:
    """Make a key and print its secret, which is kept nowhere else."""
    click.echo(asyncio.run(register_key(_settings(), name, role)))


async def register_key(settings: Config, name: str, role: str) -> str:
    """Make a key of the shop that may do what a given role may, everywhere; its secret."""
    secret = new_secret()
    engine = make_engine(settings.database)
    with doing(_on_this_computer("service make-key")) as act:
        async with make_sessions(engine)() as db:
            db.add(t.Key(**key_row(name, secret, role, act.at)))
            await db.commit()
    await engine.dispose()
    return secret


@service.command()
def openapi() -> None:
    """Print the API's OpenAPI document."""
    from pathlib import Path

    app = make_app(Config(database="", blobs=Path()))
    click.echo(json.dumps(app.openapi(), indent=1, sort_keys=True))
