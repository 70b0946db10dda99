"""Leaving objects out of a build under way."""

from __future__ import annotations

import hashlib
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from datetime import timedelta

from sqlalchemy import select, update
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.gcode.plan import TimePlan
from chronarch.records import tables as t
from chronarch.service.context import ServiceContext
from chronarch.service.control.builds import running
from chronarch.service.library.content_store import ContentStore
from chronarch.service.library.contents import reading_of
from chronarch.service.library.intake import add_content
from chronarch.service.library.readers import ContentReaders
from chronarch.service.machines.fleet import Fleet, FleetMachine
from chronarch.service.problems import ApiProblem, TooLateProblem
from chronarch.wire.control import actions as w
from chronarch.wire.control.commands import Skip
from chronarch.wire.gcode import WirePlan

TRIES = 3


async def leave_out(
    context: ServiceContext, fleet: Fleet, store: ContentStore, readers: ContentReaders, number: int,
    objects: list[str], by: str,
) -> w.SkipPlan:  # fmt: skip
    """Have a running build go on without some objects, from the next layer on that is not too near. Raises
    ApiProblem."""
    lead_s = 0.0
    for more in reversed(range(TRIES)):
        async with _changing(context, fleet, number, "leave out") as (build, known):
            began = context.clock.now()
            told, wish, skips = await skip_plan(context, store, readers, build, known, objects, lead_s)
            try:
                await fleet.command(known, wish, by)
            except TooLateProblem:
                if not more:
                    raise
                lead_s = 2 * (lead_s + (context.clock.now() - began).total_seconds())
                continue
            await _keep_skips(context, number, skips, wish.sha256)
            return told
    raise AssertionError("unreachable")


async def lay_after_all(
    context: ServiceContext, fleet: Fleet, store: ContentStore, readers: ContentReaders, number: int, name: str, by: str
) -> None:
    """Have a running build lay an object that was left out, while its layer has not begun. Raises ApiProblem."""
    async with _changing(context, fleet, number, "undo") as (build, known):
        mine = [s for s in build.skips if s["object"] == name]
        if not mine:
            raise ApiProblem(404, f"{name!r} has not been left out of build {number}.")
        skips = [s for s in build.skips if s["object"] != name]
        sha256 = build.sha256
        async with context.sessions() as db:
            present = await _time_plan_of(db, build.fed_sha256 or sha256, known)
            plan = await _time_plan_of(db, sha256, known)
        if skips:
            sha256, _, plan = await _edited_content(context, store, readers, build.sha256, known, skips)
        from_command = present.layers[int(str(mine[0]["from_layer"])) - 1]
        text = f"{name} is laid after all"
        wish = Skip(build=number, sha256=sha256, plan=WirePlan.of(plan), from_command=from_command, text=text)
        await fleet.command(known, wish, by)
        await _keep_skips(context, number, skips, sha256 if skips else None)


@asynccontextmanager
async def _changing(
    context: ServiceContext, fleet: Fleet, number: int, what: str
) -> AsyncIterator[tuple[t.Build, FleetMachine]]:
    """A running build as it is once whoever changes what it lays is done, and its machine; nobody else changes it
    meanwhile."""
    _, known = await running(context, fleet, number, what)
    async with known.laying:
        yield await running(context, fleet, number, what)


async def _keep_skips(context: ServiceContext, number: int, skips: list[dict[str, object]], sha256: str | None) -> None:
    """Note what is left out of a build, and with which content it goes on."""
    async with context.sessions() as db:
        await db.execute(update(t.Build).where(t.Build.id == number).values(skips=skips, fed_sha256=sha256))
        await db.commit()


async def skip_plan(
    context: ServiceContext,
    store: ContentStore,
    readers: ContentReaders,
    build: t.Build,
    known: FleetMachine,
    objects: list[str],
    lead_s: float = 0.0,
) -> tuple[w.SkipPlan, Skip, list[dict[str, object]]]:
    """Work out what leaving objects out would mean, from the first layer that begins at least `lead_s` from now."""
    brief = known.sample.build if known.sample else None
    if brief is None or brief.id != build.id or known.sample is None:
        raise ApiProblem(409, f"{known.row.name} has not begun this build yet; try again in a moment.")
    if known.sample.hands.runs_file:
        raise ApiProblem(409, f"{known.row.name} runs the whole file itself; what it runs cannot be changed under way.")
    async with context.sessions() as db:
        original = await reading_of(db, build.sha256, known.model.name)
        present = await _time_plan_of(db, build.fed_sha256 or build.sha256, known)
    gone = {str(skip["object"]) for skip in build.skips}
    names = [o.name for o in original.objects]
    for name in objects:
        if name not in names or name in gone:
            listed = ", ".join(n for n in names if n not in gone) or "none"
            raise ApiProblem(422, f"There is no object {name!r} to leave out; there are: {listed}.")
    remaining = [name for name in names if name not in gone and name not in objects]
    if not remaining:
        raise ApiProblem(409, "Nothing would remain; stop the build instead.")
    earliest_s = present.at(brief.acknowledged).planned_s + lead_s / brief.pace
    layer = present.layer_at(brief.acknowledged) + 1
    while layer <= len(present.layers) and present.at(present.layers[layer - 1]).planned_s < earliest_s:
        layer += 1
    if layer > len(present.layers):
        raise ApiProblem(409, "The last layer has begun; there is no later one to leave anything out of.")
    skips = [*build.skips, *({"object": name, "from_layer": max(2, layer)} for name in objects)]
    sha256, from_command, plan = await _edited_content(context, store, readers, build.sha256, known, skips)
    text = f"left out {', '.join(objects)} from layer {max(2, layer)} on"
    now = context.clock.now()
    pace = brief.pace
    done_s = plan.at(brief.acknowledged).planned_s
    remaining_s = (plan.total_s - done_s) * pace
    told = w.SkipPlan(
        objects=objects,
        remaining=remaining,
        from_layer=max(2, layer),
        layers=len(plan.layers),
        remaining_s=remaining_s,
        saved_s=max(0.0, (present.total_s - plan.total_s) * pace),
        expected_end=now + timedelta(seconds=remaining_s),
        sha256=sha256,
    )
    return (
        told,
        Skip(build=build.id, sha256=sha256, plan=WirePlan.of(plan), from_command=from_command, text=text),
        skips,
    )


async def _time_plan_of(db: AsyncSession, sha256: str, known: FleetMachine) -> TimePlan:
    """A content's time plan on a machine's model."""
    query = select(t.ContentReading.plan).where(
        t.ContentReading.sha256 == sha256, t.ContentReading.model == known.model.name
    )
    return WirePlan.model_validate((await db.execute(query)).scalar_one()).core()


async def _edited_content(
    context: ServiceContext,
    store: ContentStore,
    readers: ContentReaders,
    sha256: str,
    known: FleetMachine,
    skips: list[dict[str, object]],
) -> tuple[str, int, TimePlan]:
    """Keep the content without some objects. Returns its hash, the command from which it differs, and its time plan."""
    out = store.new_path()
    try:
        wanted = [(str(s["object"]), int(str(s["from_layer"]))) for s in skips]
        from_command, figures, plan = await readers.leave_out(store.path(sha256), known.model, wanted, out)
        with out.open("rb") as source:
            edited = hashlib.file_digest(source, "sha256").hexdigest()
        size = out.stat().st_size
        if not store.path(edited).exists():
            store.keep(out, edited)
        async with context.sessions() as db:
            await add_content(db, edited, size, [(known.model.name, figures, plan)])
            await db.commit()
    finally:
        out.unlink(missing_ok=True)
    return edited, from_command, WirePlan.model_validate(plan).core()
