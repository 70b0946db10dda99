"""Makes reports when they are due, keeps them, and sends them until they have arrived."""

from __future__ import annotations

import asyncio
import logging
from collections.abc import Iterable
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Annotated

from jinja2 import Environment, PackageLoader, StrictUndefined
from sqlalchemy import delete, select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.ledger.report_periods import ReportEvery, ReportPeriod, last_period
from chronarch.records import tables as t
from chronarch.service.context import ServiceContext, part
from chronarch.service.ledger.reporting import pdf
from chronarch.service.ledger.reporting.contents import ReportContents, gather
from chronarch.service.ledger.reporting.mail import report_mail
from chronarch.service.machines.fleet import Fleet
from chronarch.service.notices.channels.mail import NO_SERVER, MailSender
from chronarch.service.notices.channels.sending import NotSent, Refused
from chronarch.service.notices.settings import load_settings as load_notice_settings
from chronarch.service.planning.settings import load_settings
from chronarch.service.problems import ApiProblem
from chronarch.service.workers import LongWork
from chronarch.wire.notices.channels import ChannelKind, StoredNoticeSettings

LOOK_EVERY_S = 5.0
WAITS = tuple(timedelta(minutes=minutes) for minutes in (1, 5, 15, 60, 180, 360, 720))
"""Until it is tried again, real time; after the last it is given up."""
MOST_KEPT = 400
"""Reports of one plan."""
AT_ONCE = 20
log = logging.getLogger("chronarch.reports")
_templates = Environment(
    loader=PackageLoader("chronarch.service.ledger"), autoescape=lambda name: bool(name and name.endswith(".html")),
    undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True,
)  # fmt: skip


@dataclass
class Reporter:
    context: ServiceContext
    fleet: Fleet
    mails: MailSender
    _work: LongWork = field(default_factory=LongWork)

    async def look(self) -> None:
        """Make what is due, and send what waits. This is the step of one worker; the work goes on beside it."""
        if not self._work.busy():
            self._work.begin(self._go())

    async def _go(self) -> None:
        async with self.context.sessions() as db:
            running = select(t.ReportPlan).where(t.ReportPlan.on, t.ReportPlan.dropped_at.is_(None))
            for plan in (await db.execute(running)).scalars().all():
                period = await self.period(db, plan)
                if period is None or period.end <= plan.last_end:
                    continue
                try:
                    await self.make(db, plan, period, "")
                except ApiProblem as error:  # the others are made nevertheless
                    log.warning("the report %s of %s was not made: %s", plan.name, period.end, error)
                plan.last_end = period.end
                await db.commit()
        await self._send()

    async def period(self, db: AsyncSession, plan: t.ReportPlan, before: datetime | None = None) -> ReportPeriod | None:
        """The newest period of a plan that is over, or was over `before`."""
        pattern, now = (await load_settings(db)).core(plan.site), self.context.clock.now()
        return last_period(ReportEvery(plan.every), plan.hour, pattern, min(before or now, now))

    async def contents(self, db: AsyncSession, plan: t.ReportPlan, period: ReportPeriod) -> ReportContents:
        settings, now = await load_notice_settings(db), self.context.clock.now()
        return await gather(db, self.fleet, plan, period, now, self.context.shop.name, settings.address)

    async def make(self, db: AsyncSession, plan: t.ReportPlan, period: ReportPeriod, by: str) -> t.KeptReport:
        """Make and keep a report, to be sent to whom the plan says; committed by whoever asks."""
        found = await self.contents(db, plan, period)
        to = await addresses(db, plan.to)
        now = self.context.clock
        row = t.KeptReport(
            plan_id=plan.id, name=f"{plan.name}, {found.period}"[:160], begin_at=period.begin, end_at=period.end,
            made_at=now.now(), asked_by=by, page=page_of(found), words=words_of(found), rows=found.rows, to=to, sent=[],
            trouble="" if to else NOBODY, tries=0, next_at=now.real_now() if to else None,
        )  # fmt: skip
        db.add(row)
        await db.flush()
        kept = t.KeptReport
        older = select(kept.id).where(kept.plan_id == plan.id).order_by(kept.id.desc()).offset(MOST_KEPT).limit(1)
        if (last := (await db.execute(older)).scalar()) is not None:
            await db.execute(delete(kept).where(kept.plan_id == plan.id, kept.id <= last))
        return row

    async def _send(self) -> None:
        """Send what waits, each to one address after the other."""
        now = self.context.clock.real_now()
        async with self.context.sessions() as db:
            waiting = select(t.KeptReport).where(t.KeptReport.next_at <= now).order_by(t.KeptReport.next_at)
            for row in (await db.execute(waiting.limit(AT_ONCE))).scalars().all():
                await self._send_one(db, row)
                await db.commit()

    async def _send_one(self, db: AsyncSession, row: t.KeptReport) -> None:
        settings, clock = await load_notice_settings(db), self.context.clock
        left, troubles = list(row.to), [NO_SERVER]
        if settings.mail is not None:
            left, troubles = await self._post(row, settings, settings.mail.sender)
        row.to, row.trouble, row.tries = left, "; ".join(troubles)[:300], row.tries + 1
        again = bool(left) and row.tries <= len(WAITS)
        row.next_at = clock.real_now() + WAITS[row.tries - 1] if again else None

    async def _post(
        self, row: t.KeptReport, settings: StoredNoticeSettings, sender: str
    ) -> tuple[list[str], list[str]]:
        """The addresses that have not got it and may be tried again, and what stood against it."""
        left: list[str] = []
        troubles: list[str] = []
        try:
            attached = await pdf.made(row.page)
        except ApiProblem as error:
            attached = None
            troubles.append(f"sent without its PDF: {error}")
        for address in row.to:
            now = self.context.clock.real_now()
            mail = await asyncio.to_thread(report_mail, row, self.context.shop.name, sender, address, now, attached)
            try:
                await self.mails.post(mail, settings)
                row.sent = [*row.sent, address]
            except NotSent as error:
                troubles.append(f"{address}: {error}")
                if not isinstance(error, Refused):
                    left.append(address)
        return left, troubles


TheReporter = Annotated[Reporter, part(Reporter)]
NOBODY = "nobody is there to send it to: no address, and nobody of those named has a mail channel"


async def addresses(db: AsyncSession, to: Iterable[str]) -> list[str]:
    """The addresses that a report goes to: those that are said, and those of people's mail channels."""
    found: list[str] = []
    for one in to:
        if "@" in one:
            found.append(one)
            continue
        channels = (
            select(t.Channel.shown)
            .join(t.Person, t.Person.id == t.Channel.person_id)
            .where(t.Person.login == one, t.Channel.kind == ChannelKind.MAIL, t.Channel.on)
        )
        found += (await db.execute(channels.limit(3))).scalars()
    return list(dict.fromkeys(found))


def page_of(contents: ReportContents) -> str:
    """The report as a page: what is mailed, printed, and made a PDF of."""
    return _templates.get_template("report.html").render(report=contents)


def words_of(contents: ReportContents) -> str:
    return _templates.get_template("report.txt").render(report=contents)
