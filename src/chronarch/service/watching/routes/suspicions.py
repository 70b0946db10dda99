"""What the watch suspects, what people answer, how it stands, and how careful it is."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated, Any

from fastapi import APIRouter, Query, Response
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.bounds import Number, Word
from chronarch.core.watching.measured import MEASURED
from chronarch.records import tables as t
from chronarch.records.paging import number as by_number
from chronarch.records.watching import labelled as labelled_records
from chronarch.records.watching import suspicions as records
from chronarch.service.context import Context
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.http.paging import Page, Paged, pages
from chronarch.service.machines.fleet import TheFleet
from chronarch.service.permissions import Caller
from chronarch.service.problems import ApiProblem
from chronarch.service.watching.answering import answer_suspicion, say_missed
from chronarch.service.watching.bed_watching import TheBedWatching
from chronarch.service.watching.build_watching import TheBuildWatching
from chronarch.wire.common import fill
from chronarch.wire.watching import watch as w
from chronarch.wire.watching.settings import FalseAlarms

router = APIRouter(tags=["watch"], route_class=RetryingRoute)


@router.get("/suspicions")
async def suspicions(
    context: Context, fleet: TheFleet, page: Paged, response: Response,
    machine: Word = "", build: Number | None = None, open: bool = False, unanswered: bool = False,
) -> list[w.Suspicion]:  # fmt: skip
    """What was suspected, newest first. `open`: only what is not over; `unanswered`: only what nobody has answered."""
    query = records.select_suspicions()
    if machine:
        query = query.where(t.Suspicion.machine_id == fleet.find(machine).row.id)
    if build is not None:
        query = query.where(t.Suspicion.build_id == build)
    if open:
        query = query.where(t.Suspicion.over_at.is_(None), t.Suspicion.right.is_(None))
    if unanswered:
        query = query.where(t.Suspicion.right.is_(None))
    async with context.sessions() as db:
        rows = (await db.execute(page.of(query, by_number(t.Suspicion.id, descending=True)))).all()
        found = [_view(row) for row in page.cut(rows, lambda row: (row[0].id,))]
    if page.next:
        response.headers["Link"] = page.next
    return found


@router.get("/suspicions/{number:record}")
async def suspicion(number: Number, context: Context) -> w.Suspicion:
    """One suspicion."""
    async with context.sessions() as db:
        return _view(await _row(db, number))


@router.post("/suspicions/{number:record}/answer")
async def answer(number: Number, said: w.SuspicionAnswer, who: Caller, context: Context) -> w.Suspicion:
    """Say whether it was so. The watch learns from it, and the build's frames are kept as labelled ones."""
    async with context.sessions() as db:
        await answer_suspicion(db, number, right=said.right, by=who.signature, at=context.clock.now())
        return _view(await _row(db, number))


@router.post("/builds/{number:record}/missed", status_code=201)
async def missed(number: Number, said: w.Missed, who: Caller, context: Context) -> w.Suspicion:
    """Say that a build failed and the watch did not see it, with a kept frame that shows it."""
    async with context.sessions() as db:
        made = await say_missed(
            db, number, said.mode, frame=said.frame, object=said.object, by=who.signature, at=context.clock.now()
        )
        return _view(await _row(db, made))


@router.get("/watch")
async def standing(fleet: TheFleet, watching: TheBuildWatching, beds: TheBedWatching) -> w.WatchStanding:
    """How the watch stands: which machines it watches, why not others, and what it costs."""
    machines = []
    for known in fleet.all():
        camera, why = watching.camera_of(known.row.name), watching.why_not(known)
        unjudged, at = watching.stands(known.row.name)
        machines.append(
            w.MachineWatch(
                machine=known.row.name, camera=camera.row.name if camera else "", watching=not why,
                why_not=why or watching.problem(known.row.name), unjudged=unjudged, looked_at=at,
                bed_unseen="" if why else beds.why_not(known),
            )
        )  # fmt: skip
    return w.WatchStanding(share=watching.share(), threshold=watching.chosen.threshold, machines=machines)


@router.get("/watch/curve")
async def curve(
    context: Context, watching: TheBuildWatching,
    false_alarms_a_week: Annotated[FalseAlarms | None, Query(description="What would be chosen for so many.")] = None,
) -> w.WatchCurve:  # fmt: skip
    """What share of failures is caught at which rate of false alarms, and what people here answered."""
    async with context.sessions() as db:
        right, wrong, not_seen = await records.answered(db)
    return w.WatchCurve(
        building_h_per_week=watching.building_h_per_week, points=list(MEASURED),
        chosen=watching.chosen_for(false_alarms_a_week) if false_alarms_a_week else watching.chosen,
        right_here=right, false_here=wrong, missed_here=not_seen,
    )  # fmt: skip


@router.get("/watch/labelled")
async def labelled(
    context: Context, fleet: TheFleet, page: Annotated[Page, pages(20)], response: Response
) -> list[w.LabelledSequence]:
    """The shop's own labelled set: builds, and beds before a start, of which people have said what they were, in the
    order in which they were raised."""
    models = {known.row.name: known.model for known in fleet.all()}
    async with context.sessions() as db:
        query = page.of(labelled_records.select_labelled(), by_number(t.Suspicion.id))
        rows = (await db.execute(query)).all()
        found = []
        for said, sha256, camera, view, machine in page.cut(rows, lambda row: (row[0].id,)):
            if machine not in models:
                continue
            x, y, _ = models[machine].volume_mm
            of_bed = said.build_id is None
            found.append(
                w.LabelledSequence(
                    name=f"bed-{said.id}" if of_bed else f"build-{said.build_id}", build=said.build_id, camera=camera,
                    sha256=sha256, corners=[(u, v) for u, v in view.corners], bed_mm=(x, y),
                    head_mm=said.head_mm if of_bed else None, clear_head_mm=view.head_mm if of_bed else None,
                    frames=await labelled_records.labels_of(db, said, view),
                )
            )  # fmt: skip
    if page.next:
        response.headers["Link"] = page.next
    return found


async def _row(db: AsyncSession, number: int) -> Any:
    row = (await db.execute(records.select_suspicions().where(t.Suspicion.id == number))).first()
    if row is None:
        raise ApiProblem(404, f"There is no suspicion {number}; `chronarch watch suspicions` shows the newest.")
    return row


def _view(row: Sequence[Any]) -> w.Suspicion:
    found, machine, camera = row
    return fill(
        w.Suspicion, found, number=found.id, build=found.build_id, machine=machine, camera=camera or "",
        frame=found.frame_id,
    )  # fmt: skip
