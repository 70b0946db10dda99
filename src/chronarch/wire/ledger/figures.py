"""Figures: what of the records is asked for, by what, and what came of it."""

from __future__ import annotations

from enum import StrEnum
from typing import Annotated, Literal

from annotated_types import Len
from pydantic import BeforeValidator, Field

from chronarch.core.bounds import Word
from chronarch.core.ledger.measures import Basis, Unit
from chronarch.wire.common import GivenTime, Time, Wire

MOST_PARTS, MOST_MEASURES = 2, 12


def _apart(given: object) -> object:
    """What is given one by one, or with commas between."""
    texts = [given] if isinstance(given, str) else given
    if not isinstance(texts, list) or not all(isinstance(text, str) for text in texts):
        return given
    return [word.strip() for text in texts for word in text.split(",") if word.strip()]


Several = BeforeValidator(_apart)


class FigurePart(StrEnum):
    """What figures are asked by."""

    MACHINE = "machine"
    MODEL = "model"
    SITE = "site"
    POOL = "pool"
    GROUP = "group"
    """Machines that have a tag; one with several counts in each."""
    MONTH = "month"
    WEEK = "week"
    DAY = "day"
    WEEKDAY = "weekday"
    HOUR = "hour"
    SHIFT = "shift"
    """Whether somebody was there."""
    PART = "part"
    FILE = "file"
    MATERIAL = "material"
    COLOUR = "colour"
    CUSTOMER = "customer"
    PERSON = "person"
    """Who judged the build."""
    OUTCOME = "outcome"
    SCRAP_REASON = "scrap_reason"
    STOP_REASON = "stop_reason"
    """Why a machine was paused or went down; of stops alone."""


class FigureFilter(Wire):
    """What is counted: each thing that is said narrows it. Of a part, file, material, colour, customer or person only
    builds can be counted, not machines' time."""

    machine: Word = ""
    model: Word = ""
    site: Word = ""
    pool: Word = ""
    group: Word = ""
    part: Word = ""
    file: Word = ""
    material: Word = ""
    colour: Word = ""
    customer: Word = ""
    person: Word = ""


class FiguresAsked(FigureFilter):
    """Measures by what, over which time; builds count when they ended. By default of the last 28 days."""

    measure: Annotated[list[Word], Several, Len(1, MOST_MEASURES)]
    """Names of measures, as `GET /api/report/measures` has them."""
    by: Annotated[list[FigurePart], Several, Len(0, MOST_PARTS)] = Field(default=[])
    begin: GivenTime | None = Field(default=None, alias="from")
    end: GivenTime | None = Field(default=None, alias="to")
    against_begin: GivenTime | None = Field(default=None, alias="against_from")
    against_end: GivenTime | None = Field(default=None, alias="against_to")
    against: Literal["", "before"] = ""
    """`before`: compared with the same length of time right before; or with the time that `against_from` and
    `against_to` say."""
    format: Literal["json", "csv"] = "json"


class CountInfo(Wire):
    """One sum that measures are worked out from: of seconds, or a count."""

    name: str
    title: str
    seconds: bool


class MeasureInfo(Wire):
    """What a measure is."""

    name: str
    title: str
    unit: Unit
    source: Basis
    formula: str
    counts: list[CountInfo]


class Figure(Wire):
    """A value; `low` to `high` holds the true one 19 times in 20, where that can be said."""

    value: float
    low: float | None = None
    high: float | None = None
    counted: dict[str, float] = Field(default={})
    """What it is worked out from; the measure's `counts` says what each is."""


class FigureRow(Wire):
    """One row: a value of each thing that was asked by, and the figures by the measure's name; null where nothing was
    counted."""

    key: list[str]
    figures: dict[str, Figure | None]
    against: dict[str, Figure | None] | None = None
    """The same of the time that it is compared with; null where there is none, as of days and months."""
    builds: dict[str, str] | None = None
    """What `GET /api/builds` is asked for the builds behind it; null where that cannot be said."""


class FiguresReport(Wire):
    """Figures of begin..end, and of the time that it is compared with, if any."""

    begin: Time
    end: Time
    against_begin: Time | None
    against_end: Time | None
    by: list[FigurePart]
    currency: str
    """Of measures of money."""
    measures: list[MeasureInfo]
    rows: list[FigureRow]
    total: FigureRow
