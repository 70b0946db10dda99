"""What people have machines do."""

from __future__ import annotations

from typing import Annotated, Literal, get_args

from pydantic import Field, TypeAdapter

from chronarch.core.bounds import Word
from chronarch.core.control import actions as core
from chronarch.wire.common import Time, Wire, as_is

as_is(*get_args(core.Action))

Action = Annotated[core.Action, Field(discriminator="kind")]
action: TypeAdapter[core.Action] = TypeAdapter(Action)


class ActionDone(Wire):
    """An action took effect; `said` is what the machine answered besides."""

    text: str
    said: list[str] = Field(default_factory=list)


class LogLine(Wire):
    """One line between tender and machine. `file` (from the file) and `own` (from the tender) were sent; `heat`,
    `trouble` and `said` were heard; `ok` is acknowledgement in either direction."""

    number: int
    at: Time
    sent: bool
    kind: Literal["file", "own", "ok", "heat", "trouble", "said"]
    text: str


class SkipRequest(Wire):
    """Objects of a running build to be left out from the next layer on."""

    objects: list[Word] = Field(min_length=1, max_length=200)


class SkipPlan(Wire):
    """What leaving objects out means: from which layer, what remains, and when the build would end."""

    objects: list[str]
    remaining: list[str]
    from_layer: int
    layers: int
    remaining_s: float
    """Shop seconds still to go with them left out."""
    saved_s: float
    expected_end: Time
    sha256: str
    """The edited file, for a drawing of what remains."""


class BuildChange(Wire):
    """One thing that a person changed of a build."""

    at: Time
    text: str
    by: str
