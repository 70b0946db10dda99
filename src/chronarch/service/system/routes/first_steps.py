"""The first steps of a new shop."""

from __future__ import annotations

from fastapi import APIRouter

from chronarch.service.context import Context
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.system import first_steps as steps
from chronarch.wire.system.first_steps import FirstSteps, FirstStepsChange

router = APIRouter(tags=["setup"], route_class=RetryingRoute)


@router.get("/first-steps")
async def first_steps(context: Context) -> FirstSteps:
    """What a new shop still wants, and what is done already, wherever it was done."""
    return await steps.first_steps(context)


@router.patch("/first-steps")
async def change_first_steps(change: FirstStepsChange, context: Context) -> FirstSteps:
    """Skip a step, take one up again, or say that the shop is set up."""
    async with context.sessions() as db:
        await steps.change_first_steps(db, change)
        await db.commit()
    return await steps.first_steps(context)
