"""A shop's set-up as a file: all that it has decided as TOML, without what is on its shelves and without secrets; its
machines alone as CSV; its models, with their sequences, and its materials as JSON."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from datetime import date
from enum import StrEnum
from typing import Annotated, Literal

from pydantic import Field, ValidationError, model_validator

from chronarch.core.machines.materials import Material
from chronarch.core.machines.model import MachineModel
from chronarch.wire.common import Label, NozzleMm, Tags, Wire, as_is, faults_of
from chronarch.wire.ledger.costs import CostSettings, Margin, NewRate, Step
from chronarch.wire.machines.machine import NewMachine
from chronarch.wire.notices.channels import ChannelKind, ReachSettings
from chronarch.wire.planning.settings import Day, PlanningUpdate, SiteHours, StaffedMinutes
from chronarch.wire.system.backups import BackupSettingsChange
from chronarch.wire.system.shop import ShopChange
from chronarch.wire.watching.cameras import NewCamera

as_is(Material)
ANSWERS = {"yes": True, "true": True, "1": True, "x": True, "no": False, "false": False, "0": False}
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


class ChannelPart(Wire):
    """A mail address or a room of a chat over which the shop is told."""

    kind: Literal[ChannelKind.MAIL, ChannelKind.ROOM]
    address: Annotated[str, Field(max_length=300)]
    name: Label = ""


class MachineRow(Wire):
    """A row of a CSV of machines. What is empty stays as it is, or is as usual for a machine that is new. Several
    pools, tags and nozzles are parted by semicolons; the first nozzle is tool 0."""

    name: str
    model: str = ""
    link: str = ""
    tender: str = ""
    site: str = ""
    place: str = ""
    pools: str = ""
    tags: str = ""
    nozzle_mm: str = ""
    hardened: str = ""

    def said(self, kept: MachinePart | None) -> MachinePart:
        """The machine as it is to be. Raises ValueError."""
        found = {
            name: value
            for name in ("name", "model", "link", "tender", "site", "place")
            if (value := getattr(self, name))
        }
        found |= {name: _parted(value) for name in ("pools", "tags") if (value := getattr(self, name))}
        tools = [tool.model_dump() for tool in kept.tools] if kept else []
        if self.nozzle_mm:
            sizes = [size.replace(",", ".") for size in _parted(self.nozzle_mm)]
            before = {tool["number"]: tool for tool in tools}
            tools = [{**before.get(n, {"number": n}), "nozzle_mm": size} for n, size in enumerate(sizes)]
        hard = [_yes(one) for one in _parted(self.hardened)]
        tools = tools or [{"number": n} for n in range(max(1, len(hard)))]
        if len(hard) > len(tools):
            raise ValueError(f"hardened has {len(hard)} answers for {len(tools)} nozzles")
        for tool, answer in zip(tools, hard, strict=False):
            tool["hardened"] = answer
        try:
            return MachinePart.model_validate({**(kept.model_dump() if kept else {}), **found, "tools": tools})
        except ValidationError as error:
            raise ValueError(faults_of(error)) from None

    @classmethod
    def of(cls, machine: MachinePart) -> MachineRow:
        plain = {name: getattr(machine, name) for name in ("name", "model", "link", "tender", "site", "place")}
        several = {
            "pools": machine.pools, "tags": machine.tags,
            "nozzle_mm": [f"{tool.nozzle_mm:g}" for tool in machine.tools],
            "hardened": ["yes" if tool.hardened else "no" for tool in machine.tools],
        }  # fmt: skip
        return cls(**plain, **{name: "; ".join(values) for name, values in several.items()})


def _parted(text: str) -> list[str]:
    return [word for part in text.split(";") if (word := part.strip())]


def _yes(word: str) -> bool:
    if word.casefold() not in ANSWERS:
        raise ValueError(f"hardened is yes or no; {word!r} is neither")
    return ANSWERS[word.casefold()]


class Catalogue(Wire):
    """What machines of each model have in common, with the shop's own sequences for them, and what is printed with: to
    be taken to another shop."""

    catalogue: Literal[1]
    """Which form of it this is."""
    models: list[MachineModel] = Field(default_factory=list, max_length=500)
    materials: list[Material] = Field(default_factory=list, max_length=500)


class SetupDocument(Wire):
    """The whole file. What is left out stays as it is, and nothing is removed."""

    shop: ShopPart = ShopPart()
    planning: PlanningUpdate = PlanningUpdate()
    hours: list[HoursPart] = Field(default_factory=list, max_length=500)
    models: list[MachineModel] = Field(default_factory=list, max_length=500)
    materials: list[Material] = Field(default_factory=list, max_length=500)
    machines: list[MachinePart] = Field(default_factory=list, max_length=5000)
    cameras: list[NewCamera] = Field(default_factory=list, max_length=1000)
    notices: ReachSettings = ReachSettings()
    channels: list[ChannelPart] = Field(default_factory=list, max_length=20)
    prices: list[NewRate] = Field(default_factory=list, max_length=2000)
    """Without `since` the price that holds now."""
    backups: BackupSettingsChange = BackupSettingsChange()

    @model_validator(mode="after")
    def _once(self) -> SetupDocument:
        named = {
            "machine": [one.name for one in self.machines], "camera": [one.name for one in self.cameras],
            "model": [one.name for one in self.models], "material": [one.name for one in self.materials],
        }  # fmt: skip
        for what, names in named.items():
            times = Counter(name.casefold() for name in names)
            twice = next((name for name, many in times.items() if many > 1), None)
            if twice is not None:
                raise ValueError(f"the {what} {twice!r} is there twice")
        return self


class SetupFormat(StrEnum):
    """How a file is written, which says what is in it."""

    TOML = "toml"
    CSV = "csv"
    JSON = "json"


class SetupText(Wire):
    """A file to be applied."""

    text: Annotated[str, Field(max_length=800_000)]
    format: SetupFormat = SetupFormat.TOML
    """TOML of anything, CSV of machines, or JSON of a catalogue."""
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
