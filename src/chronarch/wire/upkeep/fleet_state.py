"""The state of the fleet: firmware, what machines can do, and what they have stored, side by side."""

from __future__ import annotations

from typing import Annotated

from annotated_types import Len

from chronarch.wire.common import Label, Time, Wire


class FirmwareWish(Wire):
    """The firmware, with its version, that the shop wants on all machines of a model; empty: any."""

    model: Annotated[Label, Len(1)]
    firmware: Annotated[str, Len(0, 200)]


class MachineTells(Wire):
    """What one machine tells of itself."""

    machine: str
    site: str
    firmware: str
    """As it says it; empty while it has not said."""
    since: Time | None
    """Since when it says that."""
    behind: bool
    """Whether the shop wants another."""
    can: list[str]
    """What it says it can do, by the firmware's own names."""
    cannot: list[str]
    settings_told_at: Time | None
    """When it last told what it has stored; None where it was never asked."""
    settings_since: Time | None
    """Since when it has that stored."""


class SettingValue(Wire):
    machine: str
    value: float | None
    """None where it told none."""
    since: Time
    """Since when it has it, as far as it was asked."""


class DifferentSetting(Wire):
    """A value that is not the same on all machines of the model that have told theirs."""

    name: str
    meaning: str
    usual: float | None
    """What most have; None where none has more than another."""
    values: list[SettingValue]


class FleetOfModel(Wire):
    model: str
    wanted: str
    """The firmware that the shop wants; empty: any."""
    wanted_by: str
    machines: list[MachineTells]
    different: list[DifferentSetting]
    same: int
    """How many stored values are the same on all that have told theirs."""


class NotAsked(Wire):
    machine: str
    why: str


class AskedSettings(Wire):
    """Which machines told what they have stored, and which could not be asked now."""

    told: list[str]
    not_asked: list[NotAsked]
