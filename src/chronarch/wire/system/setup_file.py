"""A shop's set-up as one file in TOML: all that it has decided, without what is on its shelves and without secrets."""

from __future__ import annotations

from collections.abc import Callable
from datetime import date
from typing import Annotated

from pydantic import Field, ValidationError, model_validator

from chronarch.core.machines.model import MachineModel
from chronarch.wire.common import Label, NozzleMm, Tags, Wire, faults_of
from chronarch.wire.ledger.costs import CostSettings, Margin, NewRate, Step
from chronarch.wire.machines.machine import NewMachine
from chronarch.wire.planning.settings import Day, PlanningUpdate, SiteHours, StaffedMinutes
from chronarch.wire.system.backups import BackupSettingsChange
from chronarch.wire.system.shop import ShopChange

DAYS = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")
Span = Annotated[str, Field(pattern=r"^([01]\d|2[0-3]):[0-5]\d-([01]\d|2[0-4]):[0-5]\d$", examples=["08:00-12:00"])]
Spans = Annotated[list[Span], Field(max_length=24)]


def _day(spans: list[str]) -> Day:
    return [StaffedMinutes(begin=begin, end=end) for begin, _, end in (span.partition("-") for span in spans)]


def _spans(day: Day) -> list[str]:
    return [f"{one.begin}-{one.end}" for one in day]


def _try(make: Callable[[], object]) -> None:
    """Make what a part of the file stands for. Raises ValueError."""
    try:
        make()
    except ValidationError as error:
        raise ValueError(faults_of(error)) from None


class ShopPart(ShopChange):
    """What the shop is called, and what its money is."""

    currency: Annotated[str, Field(pattern=r"^[A-Z]{3}$")] | None = None
    """ISO 4217."""
    step: Step | None = None
    margin: Margin | None = None

    def costs(self, now: CostSettings) -> CostSettings:
        said = {name: value for name in CostSettings.model_fields if (value := getattr(self, name)) is not None}
        return now.model_copy(update=said)


class HoursPart(Wire):
    """When somebody is at a site; empty for the shop's own hours. `days` are dates with hours of their own."""

    site: Label = ""
    zone: str = "UTC"
    people: int = 1
    mon: Spans = Field(default_factory=list)
    tue: Spans = Field(default_factory=list)
    wed: Spans = Field(default_factory=list)
    thu: Spans = Field(default_factory=list)
    fri: Spans = Field(default_factory=list)
    sat: Spans = Field(default_factory=list)
    sun: Spans = Field(default_factory=list)
    days: dict[date, Spans] = Field(default_factory=dict, max_length=2000)

    def hours(self) -> SiteHours:
        """Raises pydantic.ValidationError."""
        week = [_day(getattr(self, day)) for day in DAYS]
        days = {day: _day(spans) for day, spans in self.days.items()}
        return SiteHours(site=self.site, zone=self.zone, people=self.people, week=week, days=days)

    @model_validator(mode="after")
    def _sound(self) -> HoursPart:
        _try(self.hours)
        return self

    @classmethod
    def of(cls, hours: SiteHours) -> HoursPart:
        week = {day: _spans(spans) for day, spans in zip(DAYS, hours.week, strict=True)}
        days = {day: _spans(spans) for day, spans in sorted(hours.days.items())}
        return cls.model_validate(
            {"site": hours.site, "zone": hours.zone, "people": hours.people, "days": days, **week}
        )


class NozzlePart(Wire):
    """A tool of a machine; what is loaded on it is not set up here."""

    number: Annotated[int, Field(ge=0, le=15)] = 0
    nozzle_mm: NozzleMm = 0.4
    hardened: bool = False


class MachinePart(Wire):
    """A machine. Whether it takes work, and what is loaded, changes by the hour and is not part of its set-up."""

    name: Annotated[str, Field(min_length=1, max_length=60)]
    model: Annotated[str, Field(max_length=60)]
    link: Annotated[str, Field(max_length=300)]
    tender: Annotated[Label, Field(min_length=1)] = "tender"
    site: Label = ""
    place: Annotated[str, Field(max_length=40)] = ""
    pools: Tags = Field(default_factory=list)
    tags: Tags = Field(default_factory=list)
    tools: list[NozzlePart] = Field(default_factory=lambda: [NozzlePart()], min_length=1, max_length=16)

    def new(self) -> NewMachine:
        """Raises pydantic.ValidationError."""
        return NewMachine.model_validate(self.model_dump(exclude={"tender"}))

    @model_validator(mode="after")
    def _sound(self) -> MachinePart:
        _try(self.new)
        return self


class SetupDocument(Wire):
    """The whole file. What is left out stays as it is, and nothing is removed."""

    shop: ShopPart = ShopPart()
    planning: PlanningUpdate = PlanningUpdate()
    hours: list[HoursPart] = Field(default_factory=list, max_length=500)
    models: list[MachineModel] = Field(default_factory=list, max_length=500)
    machines: list[MachinePart] = Field(default_factory=list, max_length=5000)
    prices: list[NewRate] = Field(default_factory=list, max_length=2000)
    """Without `since` the price that holds now."""
    backups: BackupSettingsChange = BackupSettingsChange()


class SetupText(Wire):
    """A file to be applied."""

    text: Annotated[str, Field(max_length=800_000)]
    """TOML."""
    dry_run: bool = False
    """Only say what would change."""


class SetupChange(Wire):
    """One thing that changes: which, and how."""

    about: str
    what: str


class SetupDone(Wire):
    """What changes, in the order in which it is done."""

    dry_run: bool
    changes: list[SetupChange]
