"""Plugs that machines hang on, and what machines draw."""

from __future__ import annotations

from datetime import date
from typing import Annotated

from pydantic import Field, TypeAdapter, model_validator

from chronarch.core.bounds import Figure
from chronarch.core.machines.plug_address import parse_plug_address
from chronarch.core.machines.plugs import PlugProfile, PowerRules
from chronarch.core.machines.states import MachineState
from chronarch.wire.common import Time, Wire, as_is

as_is(PlugProfile, PowerRules)
plug_profile: TypeAdapter[PlugProfile] = TypeAdapter(PlugProfile)
power_rules: TypeAdapter[PowerRules] = TypeAdapter(PowerRules)
Address = Annotated[str, Field(min_length=1, max_length=300, examples=["http://192.0.2.9/socket-4"])]
Secret = Annotated[str, Field(max_length=120)]


class PlugAccess(Wire):
    """Where a plug is, with what it asks for."""

    address: Address
    login: Secret = ""
    password: Secret = ""

    @model_validator(mode="after")
    def _address(self) -> PlugAccess:
        parse_plug_address(self.address)
        return self


class NewPlug(PlugAccess):
    machine: str = Field(max_length=60)
    profile: str = Field(max_length=60)
    rules: PowerRules = PowerRules()


class PlugChange(Wire):
    """What may be changed; what is left out stays. A password goes with a new address."""

    profile: str | None = Field(default=None, max_length=60)
    address: Address | None = None
    login: Secret | None = None
    password: Secret | None = None
    rules: PowerRules | None = None

    @model_validator(mode="after")
    def _address(self) -> PlugChange:
        if self.address is not None:
            parse_plug_address(self.address)
        return self


class Power(Wire):
    """What a machine's plug says now."""

    on: bool | None = None
    """None while it has not said so."""
    watts: Figure | None = None
    trouble: str = Field(default="", max_length=300)
    """Why it says nothing; empty when it does."""


class Plug(Wire):
    """A plug as people see it."""

    machine: str
    profile: str
    address: str
    """Without secrets."""
    login: str = ""
    has_password: bool = False
    rules: PowerRules
    off_by_itself: bool = False
    """Whether the shop turned it off because there was nothing to do."""
    power: Power | None = None


class PlugSetup(Wire):
    """A plug as the tender of its machine knows it."""

    access: PlugAccess
    profile: PlugProfile
    rules: PowerRules


class PowerWish(Wire):
    """Turn a machine on or off. `force` turns it off whatever it does; the reason is recorded."""

    on: bool
    force: bool = False
    reason: str = Field(default="", max_length=300)

    @model_validator(mode="after")
    def _reason(self) -> PowerWish:
        if self.force and not self.reason.strip():
            raise ValueError("say why it is to be turned off although it must not be: the reason is recorded")
        return self


class EnergyRow(Wire):
    """Wh that a machine drew on a day (UTC) in a state, for a build or none. What was not grouped by is None."""

    machine: str | None = None
    day: date | None = None
    state: MachineState | None = None
    build: int | None = None
    wh: float
    last_at: Time
    """Until when what is counted here was drawn."""
