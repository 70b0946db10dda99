"""What taking the head out of the picture would come to in a file."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Depends, Query

from chronarch.core.bounds import Word
from chronarch.core.control.film_poses import PoseRun, dry_run
from chronarch.core.control.film_taking import HeadAway
from chronarch.service.context import Context
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.library.content_store import TheContentStore
from chronarch.service.library.contents import known_content, model_for
from chronarch.service.library.readers import TheContentReaders
from chronarch.wire.common import Hash

router = APIRouter(tags=["films"], route_class=RetryingRoute)


def _asked(
    least_layer_s: Annotated[float, Query(ge=0, le=3600)] = HeadAway.least_layer_s,
    settle_s: Annotated[float, Query(ge=0, le=10)] = HeadAway.settle_s,
    retract_mm: Annotated[float, Query(ge=0, le=10)] = HeadAway.retract_mm,
    prime_mm: Annotated[float, Query(ge=0, le=12)] = HeadAway.prime_mm,
) -> HeadAway:
    return HeadAway(least_layer_s, settle_s, retract_mm, prime_mm)


@router.get("/contents/{sha256}/head-away")
async def head_away(
    sha256: Hash, context: Context, store: TheContentStore, readers: TheContentReaders,
    away: Annotated[HeadAway, Depends(_asked)], model: Word = "",
) -> PoseRun:  # fmt: skip
    """At which layers the head would be taken out of the picture, from where, what that costs, and its risk: a dry
    run, which needs no machine."""
    _, figures = await model_for(context, model)
    path, derived = store.path(known_content(store, sha256)), store.derived(sha256)
    starts = await readers.starts(path, derived, figures)
    layers = await readers.table(path, derived, figures)
    return dry_run(figures, starts, [layer.seconds for layer in layers], away)
