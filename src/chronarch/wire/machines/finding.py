"""Finding machines that are not set up yet, and what is said to one before it joins."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from chronarch.core.control.firmware_info import FirmwareInfo
from chronarch.wire.common import Time, Wire, as_is
from chronarch.wire.machines.machine import NewMachine

as_is(FirmwareInfo)
Link = Annotated[str, Field(max_length=300)]
Words = Annotated[str, Field(max_length=200)]
How = Literal["network", "serial", "broker", "address"]


class Look(Wire):
    """What is to be done, at a tender's computer. `find`: listen on the network, look at serial ports, and at a broker
    where one is given. `greet`: ask what is at a link. `show`: have a code on the display of the machine there.
    `click`: have it wait for a click of its own."""

    kind: Literal["find", "greet", "show", "click"]
    link: Link = ""
    """Of the machine; for `find` of a broker, without a machine's name."""
    text: Annotated[str, Field(max_length=40, pattern=r"^[ -~]*$")] = ""
    """What its display is to show."""
    within_s: Annotated[float, Field(gt=0, le=300)] = 4.0


class Found(Wire):
    """A machine that was found, as far as it is known."""

    link: Link
    how: How
    name: Words = ""
    """Its own."""
    model: Words = ""
    serial: Words = ""
    about: Words = ""
    """What else it says, or what the port calls itself."""
    speed: int | None = None
    contact: FirmwareInfo = FirmwareInfo()
    remarks: Annotated[list[Words], Field(max_length=20)] = Field(default_factory=list)
    machine: str = ""
    """The machine of the shop that has this link already."""
    proposed: str = ""
    """A name for it here."""


class Looked(Wire):
    """What came of it."""

    problem: Annotated[str, Field(max_length=500)] = ""
    found: Annotated[list[Found], Field(max_length=1000)] = Field(default_factory=list)
    troubles: Annotated[list[Words], Field(max_length=20)] = Field(default_factory=list)
    """Ways of looking that did not work, and why."""


class FindWish(Wire):
    """Where to look: at which tender's computer, and at which broker besides."""

    tender: Annotated[str, Field(max_length=60)] = "tender"
    broker: Link = ""
    within_s: Annotated[float, Field(gt=0, le=30)] = 4.0


class GreetWish(Wire):
    """Ask what is at an address."""

    tender: Annotated[str, Field(max_length=60)] = "tender"
    link: Link


class JoinWish(Wire):
    """A machine that is to join, and how that is confirmed at the machine itself: by a code that its display shows, or
    by a click of its own."""

    tender: Annotated[str, Field(max_length=60)] = "tender"
    by: Literal["code", "click"] = "code"
    machine: NewMachine


class Join(Wire):
    """A join under way."""

    id: str
    by: Literal["code", "click"]
    until: Time
    """Real time; after it the join is begun anew."""
    clicked: bool = False
    problem: str = ""
    """Why it can be confirmed no more."""


class JoinConfirmed(Wire):
    """The code that the machine's display shows."""

    code: Annotated[str, Field(max_length=12)] = ""
