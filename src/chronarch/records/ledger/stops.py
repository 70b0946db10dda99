"""Why machines stopped: the words of a reason before its colon, for what comes after is of this one time."""

from __future__ import annotations

from typing import Any

from sqlalchemy import func, select
from sqlalchemy.dialects.mysql import insert
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.machines.states import MachineState
from chronarch.records.ledger.tables import BuildStop, Ledger

STOPS = (MachineState.PAUSED, MachineState.DOWN)
WHY: Any = func.coalesce(func.nullif(func.substring_index(Ledger.reason, ":", 1), ""), Ledger.state)
"""Why it stopped, of a row of the ledger; the state where nobody said."""


async def keep_stop(db: AsyncSession, build: int, state: MachineState, reason: str) -> None:
    """Write down why a build was stopped."""
    why = reason[:300].split(":", 1)[0] or state
    row = insert(BuildStop).values(build_id=build, why=why)
    await db.execute(row.on_duplicate_key_update(why=why))


async def keep_all_stops(db: AsyncSession) -> None:
    """Write down why builds were stopped, by all that the ledger says, where that is not there yet."""
    said = select(Ledger.build_id, WHY).distinct().where(Ledger.state.in_(STOPS), Ledger.build_id.is_not(None))
    await db.execute(insert(BuildStop).prefix_with("ignore").from_select(["build_id", "why"], said))


def stopped_because(reason: str) -> Any:
    """The numbers of the builds that were stopped for a reason."""
    return select(BuildStop.build_id).where(BuildStop.why == reason)
