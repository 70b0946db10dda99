"""What a set-up file changes, and how that and what is set are written."""

from __future__ import annotations

from collections.abc import Awaitable, Callable, Iterator, Mapping
from dataclasses import asdict, dataclass
from datetime import time
from decimal import Decimal
from enum import Enum
from typing import Any

import tomlkit
from pydantic import BaseModel

HIDDEN = "…"
"""In place of a password."""


@dataclass(frozen=True)
class PlannedChange:
    """One thing to be changed: which, how, and what does it."""

    about: str
    what: str
    do: Callable[[], Awaitable[object]]


def written(part: BaseModel) -> dict[str, Any]:
    """As it stands in the file: without what is as usual."""
    return part.model_dump(exclude_defaults=True, exclude_none=True)


def as_toml(value: Any) -> Any:
    """As TOML has it: whole numbers without a point, decimals and times as text."""
    match value:
        case Mapping():
            return {str(name): as_toml(one) for name, one in value.items()}
        case list() | tuple():
            return [as_toml(one) for one in value]
        case Enum():
            return value.value
        case Decimal():
            return f"{value.normalize():f}"
        case float() if value.is_integer():
            return int(value)
        case time():
            return value.isoformat("minutes")
        case str():
            return tomlkit.string(value, multiline="\n" in value)
    return value


def difference(before: object, after: object) -> str:
    """What differs between two of a kind, in words."""
    return "; ".join(_differences("", _plain(before), _plain(after)))


def _differences(name: str, old: object, new: object) -> Iterator[str]:
    """Each value that differs, by the names that lead to it."""
    if old == new:
        return
    match old, new:
        case dict(), dict():
            for key in new:
                yield from _differences(f"{name} {key}".strip(), old.get(key), new[key])
        case list(), list() if len(old) == len(new) and all(isinstance(one, dict) for one in new):
            for number, (one, other) in enumerate(zip(old, new, strict=True), 1):
                yield from _differences(f"{name} {number}", one, other)
        case _:
            yield f"{name}: {_short(_said(old))} → {_short(_said(new))}"


def _plain(one: object) -> dict[str, Any]:
    fields: dict[str, Any] = one.model_dump() if isinstance(one, BaseModel) else asdict(one)  # type: ignore[call-overload]
    return {name: as_toml(value) for name, value in fields.items()}


def _said(value: object) -> str:
    match value:
        case None | "" | [] | {}:
            return "nothing"
        case bool():
            return "yes" if value else "no"
        case list():
            return ", ".join(_said(one) for one in value)
        case dict():
            return " ".join(f"{name} {_said(one)}" for name, one in value.items() if one not in (None, "", [], {}))
    return str(value)


def _short(text: str) -> str:
    return text if len(text) <= 60 else f"{text[:59]}…"
