"""What takes the disk."""

from __future__ import annotations

from fastapi import APIRouter

from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.system.storage import TheStorage
from chronarch.wire.system.storage import GivenUp, GiveUp, StorageShown

router = APIRouter(tags=["service"], route_class=RetryingRoute)


@router.get("/storage")
async def storage(keeper: TheStorage) -> StorageShown:
    """What takes how much of the disk that files lie on, how it grows, and when the disk will be full."""
    return await keeper.shown()


@router.post("/storage/give-up")
async def give_up(asked: GiveUp, keeper: TheStorage) -> GivenUp:
    """Have earlier revisions that nothing was built from, line logs of builds, or what lies in the bin go for good,
    some hundred at a time."""
    return await keeper.give_up(asked)
