"""`chronarch service`: run the service, and what must be done beside it."""

from __future__ import annotations

import asyncio
import json
import logging
import sys

import click
import uvicorn
from sqlalchemy import delete, select

from chronarch.core.clock import real_clock
from chronarch.records import tables as t
from chronarch.records.database import make_engine, make_sessions, migrate
from chronarch.service.access import hash_secret, hasher, new_secret
from chronarch.service.app import make_app
from chronarch.service.settings import Settings
from chronarch.wire.people import Scope


@click.group()
def service() -> None:
    """The service: records, decisions and the console."""


def _settings() -> Settings:
    try:
        return Settings.from_environment()
    except ValueError as error:
        raise click.UsageError(str(error)) from None


@service.command()
@click.option("--host", default="127.0.0.1", show_default=True, help="The address to listen on.")
@click.option("--port", default=8420, show_default=True)
def run(host: str, port: int) -> None:
    """Bring the tables up to date and serve until stopped."""
    settings = _settings()
    logging.basicConfig(level=logging.INFO, format="%(asctime)s %(name)s %(levelname)s %(message)s")
    logging.getLogger("alembic").setLevel(logging.WARNING)
    migrate(settings.database)
    uvicorn.run(
        make_app(settings),
        host=host,
        port=port,
        log_level="warning",
        timeout_graceful_shutdown=3,
        ws_max_size=8_000_000,
    )


@service.command("add-person")
@click.argument("login")
@click.option("--name", help="What the person is called; the login without it.")
@click.option(
    "--scope",
    type=click.Choice([Scope.READ.value, Scope.OPERATE.value, Scope.MAINTAIN.value]),
    default=Scope.MAINTAIN.value,
    show_default=True,
    help="What they may do.",
)
@click.option("--password-stdin", is_flag=True, help="Read the password from standard input.")
def add_person(login: str, name: str | None, scope: str, password_stdin: bool) -> None:
    """Let a person sign in, or give them a new password."""
    password = sys.stdin.readline().rstrip("\n") if password_stdin else click.prompt("Password", hide_input=True)
    if len(password) < 8:
        raise click.UsageError("A password needs at least 8 characters.")
    asyncio.run(register_person(_settings(), login, name or login, password, Scope(scope)))
    click.echo(f"{login} can sign in.")


async def register_person(
    settings: Settings, login: str, name: str, password: str, scope: Scope = Scope.MAINTAIN
) -> None:
    engine = make_engine(settings.database)
    async with make_sessions(engine)() as db:
        person = (await db.execute(select(t.Person).where(t.Person.login == login))).scalar_one_or_none()
        if person is None:
            person = t.Person(login=login, name=name)
            db.add(person)
        person.name, person.password_hash, person.scope = name, hasher.hash(password), scope
        await db.flush()
        await db.execute(delete(t.Session).where(t.Session.person_id == person.id))  # who is in with the old one is out
        await db.commit()
    await engine.dispose()


@service.command("make-key")
@click.argument("name")
@click.option("--scope", type=click.Choice([s.value for s in Scope]), default=Scope.OPERATE.value, show_default=True)
def make_key(name: str, scope: str) -> None:
    """Make a key and print its secret, which is kept nowhere else."""
    click.echo(asyncio.run(register_key(_settings(), name, Scope(scope))))


async def register_key(settings: Settings, name: str, scope: Scope) -> str:
    secret = new_secret()
    engine = make_engine(settings.database)
    async with make_sessions(engine)() as db:
        now = real_clock().real_now()
        db.add(t.Key(name=name, secret_hash=hash_secret(secret), scope=scope, created_at=now))
        await db.commit()
    await engine.dispose()
    return secret


@service.command()
def openapi() -> None:
    """Print the API's OpenAPI document."""
    from pathlib import Path

    app = make_app(Settings(database="", blobs=Path()))
    click.echo(json.dumps(app.openapi(), indent=1, sort_keys=True))
