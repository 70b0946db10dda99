"""What happened while somebody was away."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.machines.states import PRODUCTIVE, MachineState, Outcome
from chronarch.records import tables as t
from chronarch.records.ledger.intervals import time_in_states
from chronarch.records.orders.builds import select_builds
from chronarch.service.context import ServiceContext
from chronarch.service.machines.fleet import Fleet
from chronarch.wire import rounds as w

KINDS = {Outcome.COMPLETED: "ended", Outcome.STOPPED: "stopped", Outcome.FAILED: "failed"}


async def since(context: ServiceContext, fleet: Fleet, db: AsyncSession, left: datetime | None) -> w.SinceYouLeft:
    now = context.clock.now()
    if left is None:
        return w.SinceYouLeft(left=None, now=now, items=[], ended=0, failed=0, waits=0, good_hours=0.0)
    items: list[w.SinceItem] = []
    query = select_builds().where(t.Build.ended_at >= left).limit(400)
    for b, machine, file in await db.execute(query):
        kind = KINDS[Outcome(b.outcome)]
        why = f": {b.reason}" if b.reason and kind != "ended" else ""
        waits = " and waits to be lifted off" if b.cleared_at is None else ""
        items.append(
            w.SinceItem(at=b.ended_at, machine=machine, kind=kind, text=f"{file} {kind}{why}{waits}", build=b.id)
        )
    words = {MachineState.PAUSED: "paused", MachineState.DOWN: "down"}
    rows = await db.execute(
        select(t.Ledger, t.Machine.name, t.Machine.reason)
        .join(t.Machine, t.Machine.id == t.Ledger.machine_id)
        .where(t.Ledger.begin_at >= left, t.Ledger.begin_at <= now, t.Ledger.state.in_(list(words)))
        .limit(200)
    )
    hours = 0.0
    for l, machine, reason in rows:  # noqa: E741
        lasts = l.end_at > now
        kind = words[MachineState(l.state)]
        why = f": {reason}" if lasts and reason else ""
        text = f"{'is' if lasts else 'was'} {kind}{why}" + (
            "" if lasts else f", for {max(1, round((l.end_at - l.begin_at).total_seconds() / 60))} min"
        )
        items.append(w.SinceItem(at=l.begin_at, machine=machine, kind=kind, text=text, build=l.build_id))
    for spent in (await time_in_states(db, [known.row.id for known in fleet.all()], left, now)).values():
        hours += sum(spent.get(state, 0) for state in PRODUCTIVE) / 3.6e9
    waits_now = sum(k.row.state == MachineState.UNCLEARED for k in fleet.all())
    items.sort(key=lambda i: i.at, reverse=True)
    return w.SinceYouLeft(
        left=left, now=now, items=items[:200], ended=sum(i.kind == "ended" for i in items),
        failed=sum(i.kind == "failed" for i in items), waits=waits_now, good_hours=hours,
    )  # fmt: skip
