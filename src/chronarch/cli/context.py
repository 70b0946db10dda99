"""What every command needs: where the service is, and how a failed call ends the command."""

from __future__ import annotations

import json
import sys
from collections.abc import Callable
from functools import wraps
from pathlib import Path
from typing import TYPE_CHECKING, Any, NoReturn, TypeVar

import click

from chronarch.cli.plain import say

if TYPE_CHECKING:  # a command that runs a process needs none of these
    from chronarch.client import Client
    from chronarch.client.requests import Call

T = TypeVar("T")
REFUSED, WRONG_USE, UNREACHABLE = 1, 2, 3
ACCESS = Path("~/.config/chronarch/access.json")


class Service:
    """The service as the user named it: by options, environment, or `chronarch connect`."""

    def __init__(self, address: str | None, key: str | None) -> None:
        kept = self._kept()
        self.address = address or kept.get("address") or "http://127.0.0.1:8420"
        self._key = key or kept.get("key") or ""
        self._client: Client | None = None

    @staticmethod
    def _kept() -> dict[str, str]:
        try:
            kept = json.loads(ACCESS.expanduser().read_text())
        except (OSError, ValueError):
            return {}
        return kept if isinstance(kept, dict) else {}

    @property
    def client(self) -> Client:
        if self._client is None:
            from chronarch.client import Client

            self._client = Client(self.address, self._key)
        return self._client

    def do(self, call: Call[T]) -> T:
        return self.client.do(call)

    def all(self, call: Call[list[T]], most: int | None = None) -> list[T]:
        """A list, page by page."""
        return self.client.all(call, most)

    def patient(self, call: Call[T], within_s: float) -> T:
        """A call whose answer may take long: a machine has to do something first."""
        return self.client.do(call, within_s)


pass_service = click.make_pass_decorator(Service)


class SpeakingGroup(click.Group):
    """A group whose commands end with one sentence and the right exit code when a call fails."""

    def invoke(self, ctx: click.Context) -> Any:
        try:
            return super().invoke(ctx)
        except (click.ClickException, click.Abort, click.exceptions.Exit):
            raise
        except Exception as error:
            _end_for(error)
            raise


def _end_for(error: Exception) -> None:
    """End the command if the error is one that a user can do something about."""
    from pydantic import ValidationError

    from chronarch.client import RefusedByService, Unreachable, WrongAccess
    from chronarch.wire.common import faults_of

    match error:
        case WrongAccess():
            fail(str(error), WRONG_USE)
        case RefusedByService():
            fail(str(error), REFUSED)
        case Unreachable():
            fail(str(error), UNREACHABLE)
        case ValidationError():
            fail(faults_of(error), WRONG_USE)
    if "sqlalchemy" in sys.modules:  # a command that works with the records
        _end_for_database(error)


def _end_for_database(error: Exception) -> None:
    from sqlalchemy.exc import ArgumentError, DBAPIError, InterfaceError, NoSuchModuleError, OperationalError

    match error:
        case ArgumentError() | NoSuchModuleError():
            fail(f"CHRONARCH_DATABASE is no database's address: {error}.", WRONG_USE)
        case OperationalError() | InterfaceError():
            why = str(error.orig).splitlines()[0]
            fail(f"The database does not answer ({why}); is it running, is CHRONARCH_DATABASE right?", UNREACHABLE)
        case DBAPIError():
            fail(f"The records cannot hold that: {str(error.orig).splitlines()[0]}.", REFUSED)


def fail(sentence: str, code: int) -> NoReturn:
    """End the command with one sentence on standard error."""
    say(sentence, err=True)
    raise SystemExit(code)


def limit_option(command: Callable[..., Any]) -> Callable[..., Any]:
    """Adds --limit."""
    option = click.option("--limit", type=click.IntRange(min=1), help="At most so many; all without it.")
    decorated: Callable[..., Any] = option(command)
    return decorated


def json_option(command: Callable[..., Any]) -> Callable[..., Any]:
    """Adds --json."""

    @click.option("--json", "as_json", is_flag=True, help="Print the API's own JSON.")
    @wraps(command)
    def with_json(*args: Any, **kwargs: Any) -> Any:
        return command(*args, **kwargs)

    return with_json
