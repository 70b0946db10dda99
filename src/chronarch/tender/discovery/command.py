"""`chronarch tender look`: a process of its own looks for machines, so that what feeds builds is not held up."""

from __future__ import annotations

import asyncio
import sys

import click
from pydantic import ValidationError

from chronarch.tender.discovery.finding import find
from chronarch.tender.discovery.greeting import say_hello
from chronarch.wire.machines.finding import Look


@click.command("look", hidden=True)
def look() -> None:
    """Read what to look for from standard input, and print what came of it; both JSON."""
    try:
        asked = Look.model_validate_json(sys.stdin.read())
    except ValidationError as error:
        raise click.UsageError(str(error)) from None
    done = asyncio.run(find(asked) if asked.kind == "find" else say_hello(asked))
    click.echo(done.model_dump_json())


added = (look,)
