"""Printing texts safely, and types for options."""

from __future__ import annotations

import math
import sys
from decimal import Decimal, InvalidOperation
from typing import Any

import click

from chronarch.core.plain import plain


def say(text: str = "", *, err: bool = False, nl: bool = True, **style: Any) -> None:
    """Print a text with control characters escaped; `style` as in click.style."""
    shown = plain(text)
    click.echo(click.style(shown, **style) if style else shown, err=err, nl=nl)


def hand_over(data: bytes) -> None:
    """Write bytes to standard output: as they are into a pipe, with control characters escaped on a terminal."""
    if sys.stdout.isatty():
        say(data.decode("utf-8", "replace").replace("\r\n", "\n"), nl=False)
        return
    sys.stdout.flush()
    sys.stdout.buffer.write(data)
    sys.stdout.buffer.flush()


class _Finite(click.ParamType[float]):
    """A finite number."""

    name = "float"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> float:
        try:
            number = float(value)
        except ValueError:
            number = math.nan
        if not math.isfinite(number):
            self.fail(f"{value!r} is not a number.", param, ctx)
        return number


class _Amount(click.ParamType[Decimal]):
    """An amount of money."""

    name = "amount"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Decimal:
        try:
            amount = Decimal(str(value))
        except InvalidOperation:
            amount = Decimal("nan")
        if not amount.is_finite():
            self.fail(f"{value!r} is no amount; write it like 24.90.", param, ctx)
        return amount


FINITE, AMOUNT = _Finite(), _Amount()
PORT = click.IntRange(1, 65535)
