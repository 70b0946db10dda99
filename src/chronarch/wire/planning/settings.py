"""How the shop plans, and when hands are there."""

from __future__ import annotations

from datetime import date
from typing import Annotated
from zoneinfo import ZoneInfo

from pydantic import Field, field_validator, model_validator

from chronarch.core.planning.shifts import ShiftPattern
from chronarch.core.planning.snapshot import Costs, Nozzle, Strategy
from chronarch.wire.common import Label, NozzleMm, Time, Wire

Clock = Annotated[str, Field(pattern=r"^([01]\d|2[0-3]):[0-5]\d$|^24:00$", examples=["08:00"])]
Minutes = Annotated[float, Field(ge=0, le=600, allow_inf_nan=False)]


def _minutes(clock: str) -> int:
    hours, minutes = clock.split(":")
    return int(hours) * 60 + int(minutes)


class StaffedMinutes(Wire):
    """From when until when somebody is there, on the shop's own clock."""

    begin: Clock
    end: Clock

    @model_validator(mode="after")
    def _forward(self) -> StaffedMinutes:
        if _minutes(self.end) <= _minutes(self.begin):
            raise ValueError(
                f"the hours end ({self.end}) before they begin ({self.begin}); write two days' hours apart"
            )
        return self


Day = Annotated[list[StaffedMinutes], Field(max_length=24)]


class SiteHours(Wire):
    """When somebody is at a site. `week` has seven rows, Monday first; `days` are dates with hours of their own."""

    site: Label = ""
    zone: str = Field(default="UTC", max_length=60)
    week: list[Day] = Field(min_length=7, max_length=7)
    days: dict[date, Day] = Field(default_factory=dict, max_length=2000)
    people: int = Field(default=1, ge=1, le=50)

    @field_validator("zone")
    @classmethod
    def _known(cls, value: str) -> str:
        try:
            ZoneInfo(value)
        except (ValueError, OSError, KeyError):
            raise ValueError(f"there is no time zone {value!r}; it is one like Europe/Lisbon or UTC") from None
        return value

    def core(self) -> ShiftPattern:
        def spans(rows: list[StaffedMinutes]) -> tuple[tuple[int, int], ...]:
            return tuple((_minutes(s.begin), _minutes(s.end)) for s in rows)

        return ShiftPattern(
            tuple(spans(rows) for rows in self.week),
            {day: spans(rows) for day, rows in self.days.items()},
            self.zone,
            self.people,
        )


ALL_WEEK: list[Day] = [[StaffedMinutes(begin="00:00", end="24:00")] for _ in range(7)]
"""Somebody is always there, as where nobody has said when."""


class StaffedSpan(Wire):
    """One span in which somebody is there."""

    site: str = ""
    begin: Time
    end: Time


class SpareNozzle(Wire):
    """A nozzle in the drawer."""

    nozzle_mm: NozzleMm = 0.4
    hardened: bool = False


SpareNozzles = Annotated[list[SpareNozzle], Field(max_length=50)]
ScrapReasons = Annotated[list[Annotated[str, Field(min_length=1, max_length=60)]], Field(max_length=30)]


class Planning(Wire):
    """How the shop plans: its strategy, and how many minutes work by hand takes."""

    strategy: Strategy = Strategy.FIRST_COME
    clear_min: Minutes = 3
    spool_min: Minutes = 4
    nozzle_min: Minutes = 15
    walk_min: Minutes = 5
    """Usual minutes from a bed being ready until a person is at it, while somebody is there."""
    spare_nozzles: SpareNozzles = Field(default_factory=list)
    scrap_reasons: ScrapReasons = Field(
        default_factory=lambda: ["warped corner", "layer shift", "stringing", "first layer let go", "surface"]
    )

    def costs(self) -> Costs:
        spare = tuple(Nozzle(n.nozzle_mm, n.hardened) for n in self.spare_nozzles)
        return Costs(self.clear_min * 60, self.spool_min * 60, self.nozzle_min * 60, self.walk_min * 60, spare)


class PlanningUpdate(Wire):
    """What may be changed of how the shop plans; what is left out stays."""

    strategy: Strategy | None = None
    clear_min: Minutes | None = None
    spool_min: Minutes | None = None
    nozzle_min: Minutes | None = None
    walk_min: Minutes | None = None
    spare_nozzles: SpareNozzles | None = None
    scrap_reasons: ScrapReasons | None = None


class StrategyMeaning(Wire):
    """One way to choose the next build, and what it does."""

    strategy: Strategy
    meaning: str
