"""Keeps notices as the shop is: opens what is found to be so, closes what is over, and says once what is said once."""

from __future__ import annotations

from collections.abc import Awaitable, Callable, Iterable, Sequence
from dataclasses import dataclass, field
from datetime import timedelta
from typing import Any

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.notices.kinds import KINDS, NoticeCause, NoticeKind
from chronarch.core.notices.notice_rules import wanted_counts
from chronarch.records import tables as t
from chronarch.records.notices.opening import open_notice, said_before
from chronarch.service.context import ServiceContext
from chronarch.service.machines.fleet import Fleet
from chronarch.service.notices.conditions import CONDITIONS, HOLDS, Found, Lasting, ShopLook
from chronarch.service.notices.settings import load_rules, load_settings
from chronarch.service.orders.order_views import OrderViews
from chronarch.service.planning.planner import Planner
from chronarch.service.planning.snapshot import CurrentPlan

LOOK_EVERY_S, LOOK_HARD_EVERY_S = 2.0, 10.0
"""Real seconds: how often what is open is looked at, and how often also what takes a plan to know."""
FIRST_LAYER_DOWN = 2
RECENTLY = timedelta(days=1)
Said = tuple[str, NoticeKind, str, dict[str, Any]]
"""Subject, kind, text and further columns of something that is said once."""
TIMED = {kind: facts.open_for for kind, facts in KINDS.items() if facts.open_for}


@dataclass
class NoticeKeeper:
    """`troubles` says what is wrong with the service itself."""

    context: ServiceContext
    fleet: Fleet
    planner: Planner
    orders: OrderViews
    troubles: Callable[[], Awaitable[Sequence[tuple[str, bool]]]]
    _lasting: Lasting = field(default_factory=Lasting)
    _hard_at_s: float = 0.0
    _said: dict[str, set[str]] = field(default_factory=dict)
    """Causes of which it is known that they were said, by where they come from."""

    async def look(self) -> None:
        """One look at everything."""
        try:
            await self._look()
        except Exception:
            self._said.clear()  # what was not committed was not said
            raise

    async def _look(self) -> None:
        clock = self.context.clock
        hard = clock.monotonic_s() >= self._hard_at_s
        planned = await self.planner.shown() if hard else None
        if hard:
            self._hard_at_s = clock.monotonic_s() + LOOK_HARD_EVERY_S
        async with self.context.sessions() as db:
            open_now = await self._open(db)
            look = await self._see(db, open_now, planned)
            await self._keep(look, open_now, HOLDS, opens=False)
            if hard:
                await self._keep(look, open_now, CONDITIONS, opens=True)
                await self._orders_complete(look)
            await self._progress(look)
            self._lapse(look, open_now)
            await db.commit()

    async def _open(self, db: AsyncSession) -> list[t.Notice]:
        """Read before anything that says whether they still hold."""
        return list((await db.execute(select(t.Notice).where(t.Notice.closed_at.is_(None)))).scalars())

    async def _see(self, db: AsyncSession, open_now: Iterable[t.Notice], planned: CurrentPlan | None) -> ShopLook:
        rules = [rule for _, _, rule in await load_rules(db)]
        subjects: dict[NoticeKind, set[str]] = {kind: set() for kind in NoticeKind}
        for row in open_now:
            subjects[NoticeKind(row.kind)].add(row.cause.partition(" ")[2])
        clock = self.context.clock
        return ShopLook(
            db, clock.now(), clock.real_now(), self.fleet, self.planner, self.orders, planned,
            {kind: wanted_counts(rules, kind) for kind in (NoticeKind.PROGRESS, NoticeKind.HANDS_SOON)},
            subjects, (await load_settings(db)).spool_low_g, await self.troubles() if planned else (), self._lasting,
        )  # fmt: skip

    async def _keep(
        self, look: ShopLook, open_now: Iterable[t.Notice],
        table: dict[NoticeKind, Callable[[ShopLook], Awaitable[list[Found]]]], *, opens: bool,
    ) -> None:  # fmt: skip
        for kind, find in table.items():
            if not opens and not look.open[kind]:
                continue
            found = {one.subject: one for one in await find(look)}
            for row in open_now:
                if row.kind != kind:
                    continue
                now = found.get(row.cause.partition(" ")[2])
                if now is None:
                    row.closed_at = look.now
                elif now.renewed and now.text != row.text:
                    row.text = now.text
            for one in found.values() if opens else ():
                if one.subject not in look.open[kind]:
                    await open_notice(
                        look.db, kind, look.now, one.text, subject=one.subject, gravity=one.gravity, **one.about
                    )

    async def _progress(self, look: ShopLook) -> None:
        """That first layers are down, and that builds have come so far: once each."""
        said: list[Said] = []
        for known in self.fleet.all():
            brief = known.sample.build if known.sample else None
            if brief is None or known.brief is None or known.brief.id != brief.id or brief.outcome is not None:
                continue
            file = known.brief.file
            if brief.layer >= FIRST_LAYER_DOWN:
                text = f"The first layer of build {brief.id} on {known.row.name} is down: {file}"
                said.append((f"{brief.id}", NoticeKind.FIRST_LAYER, text, look.machine(known)))
            for percent in look.counts[NoticeKind.PROGRESS]:
                if 100 * brief.progress >= percent:
                    text = f"Build {brief.id} on {known.row.name} is at {percent} %: {file}"
                    about = {**look.machine(known), "count": percent}
                    said.append((f"{brief.id} {percent}", NoticeKind.PROGRESS, text, about))
        await self._say_once(look, "builds", said)

    async def _orders_complete(self, look: ShopLook) -> None:
        query = select(t.Order).where(t.Order.finished_at > look.now - RECENTLY)
        said: list[Said] = []
        for row in (await look.db.execute(query)).scalars():
            text = f"Order {row.id} of {row.customer} is complete."
            said.append((str(row.id), NoticeKind.ORDER_COMPLETE, text, {"order_id": row.id}))
        await self._say_once(look, "orders", said)

    async def _say_once(self, look: ShopLook, of: str, said: list[Said]) -> None:
        causes = {NoticeCause(kind, subject).key: (kind, subject, text, about) for subject, kind, text, about in said}
        known = self._said.get(of, set())
        fresh = causes.keys() - known
        before = await said_before(look.db, fresh)
        for key in sorted(fresh - before):
            kind, subject, text, about = causes[key]
            await open_notice(look.db, kind, look.now, text, subject=subject, **about)
        self._said[of] = (known & causes.keys()) | fresh

    def _lapse(self, look: ShopLook, open_now: Iterable[t.Notice]) -> None:
        """Close what is open for a time only, and what is about a build that is over."""
        for row in open_now:
            open_for = TIMED.get(NoticeKind(row.kind))
            if open_for is not None and row.closed_at is None and look.now - row.at >= open_for:
                row.closed_at = look.now
