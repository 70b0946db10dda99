"""Reports that come by themselves."""

from __future__ import annotations

from typing import Annotated

from annotated_types import Interval, Len
from pydantic import AfterValidator

from chronarch.core.ledger.report_periods import ReportEvery
from chronarch.wire.common import Label, Time, Wire
from chronarch.wire.notices.channels import mail_address


def _recipient(text: str) -> str:
    return mail_address(text) if "@" in text else text


Recipient = Annotated[str, Len(1, 200), AfterValidator(_recipient)]
MOST_TO = 50


class NewReportPlan(Wire):
    """A report that comes by itself: of the whole shop, or of a site or a group of machines (by a tag)."""

    name: Annotated[Label, Len(1)]
    every: ReportEvery
    hour: Annotated[int, Interval(ge=0, le=23)] = 7
    """Weeks and months: at which hour of the day after, by the site's clock."""
    site: Label = ""
    group: Label = ""
    to: Annotated[list[Recipient], Len(0, MOST_TO)]
    """Addresses, and logins of people, who get it over their own mail channels. Without any it is only kept."""
    on: bool = True


class ReportPlan(NewReportPlan):
    id: int
    made_by: str


class KeptReport(Wire):
    """A report as it was made."""

    id: int
    plan: int
    name: str
    begin: Time
    end: Time
    made_at: Time
    asked_by: str
    """Who had it sent; empty where it came by itself."""
    sent: list[str]
    to: list[str]
    """Addresses that it could not be sent to yet."""
    trouble: str
    """What stands against it; empty where nothing does."""


class ReportPage(Wire):
    """A report as a page, and the same in words."""

    name: str
    page: str
    """HTML; it needs nothing else."""
    words: str
