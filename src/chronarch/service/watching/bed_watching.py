"""Has beds looked at before a start: a machine whose bed should be clear takes no work until its camera has shown it.

A few looks are enough. Where none can be judged within `GIVE_UP_S`, work goes on unseen. What lies on a bed holds its
machine until the picture shows it gone, or a person calls it a false alarm.
"""

from __future__ import annotations

import asyncio
import logging
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Annotated

from chronarch.core.errors import CoreError
from chronarch.core.machines.states import MachineState
from chronarch.core.watching.suspicion import FailureMode, Suspicion
from chronarch.core.watching.watch_rules import Follow
from chronarch.records import tables as t
from chronarch.records.watching import suspicions
from chronarch.service.context import ServiceContext, part
from chronarch.service.machines.fleet import Fleet, FleetMachine
from chronarch.service.process_pool import NotDone
from chronarch.service.watching.build_watching import OVER_BELOW, BuildWatching, known_point
from chronarch.service.watching.cameras import Cameras, KnownCamera, Looker, NewestFrame
from chronarch.service.watching.content_folder import FrameStore
from chronarch.service.watching.raising import keep_picture, tell_of, write_suspicion
from chronarch.service.watching.watch_messages import BedOrder, Looked, NotBegun, Place
from chronarch.service.watching.watch_process import WatchProcess

LOOK_EVERY_S = 0.25
"""How often it is seen whether a bed is to be looked at, real seconds."""
EVERY_S = 8.0
"""How often a bed is looked at, shop seconds."""
LOOKS, MOST_LOOKS = 3, 8
"""So many looks that see nothing say that a bed is clear; after so many that are unsure it is taken to be."""
PATIENT_S = 2.0
"""After that it is looked at no more often than this, real seconds."""
GIVE_UP_S = 60.0
"""After so long without a look, shop seconds, but not sooner than `LEAST_GIVE_UP_S` real ones, work goes on unseen."""
LEAST_GIVE_UP_S = 20.0
TOLD_WITHIN_S = 3.0
"""A tender has told where a head is now so soon, real seconds."""
HEAD_UNKNOWN = "it is not known where its head is: home it"
log = logging.getLogger("chronarch.watch")


@dataclass
class _Bed:
    """A bed that is being looked at."""

    key: str
    waits_from: datetime
    waits_from_s: float
    """Since when it waits for a look that can be judged, shop time and real seconds."""
    looked: datetime | None = None
    looks: int = 0
    head_mm: Place | None = None
    """Where the head was in what was looked at last."""
    unjudged: str = ""
    suspicion: int | None = None
    """The number of what was raised of it."""
    acts: Follow = Follow.TELL
    seen: bool = False
    """Whether work may go on."""


class BedWatching:
    """`look` is the step of one worker."""

    def __init__(
        self, context: ServiceContext, fleet: Fleet, cameras: Cameras, watching: BuildWatching, store: FrameStore,
        process: WatchProcess,
    ) -> None:  # fmt: skip
        self._context, self._fleet, self._cameras, self._frames = context, fleet, cameras, store
        self._watching, self._process = watching, process
        self._looker = Looker(counts=False)
        self._beds: dict[str, _Bed] = {}
        """By machine."""
        self._open = context.changes.watch("suspicions")
        self._open.event.set()
        self._begun = 0
        fleet.must_see = self._must_see

    def why_not(self, known: FleetMachine) -> str:
        """Why the bed of a machine is not looked at before a start; empty where it is."""
        if not self._minds(known):
            return "the watch takes no notice of what lies on its bed"
        told = known.head_mm is not None or known.brief is not None  # while it builds its head is not asked for
        return self.why_unseen(known) or ("" if told else HEAD_UNKNOWN)

    def why_unseen(self, known: FleetMachine) -> str:
        """Why the bed of a machine cannot be looked at wherever its head is; empty where it can."""
        why = self._watching.why_not(known)
        if why:
            return why
        view = self._watching.view_of(known.row.name)
        if view is None or view.head_mm is None:
            return "it is not known where the head was in the clear bed's picture: home it, and mark the corners again"
        return ""

    def _must_see(self, known: FleetMachine) -> bool:
        """Whether a machine takes no work before its bed was looked at; so it is too until it is told where its head
        is, right after the service was started."""
        untold = known.sample is None and self._minds(known) and not self.why_unseen(known)
        return untold or not self.why_not(known)

    async def renew(self) -> None:
        """Hold the machines on whose beds something was seen before the service was started."""
        await self._hear_answers()

    async def check(self, known: FleetMachine, within_s: float) -> str:
        """Whether the bed of a machine, whose head has just moved, looks clear from now on: what is wrong, within so
        many real seconds; empty when it is clear."""
        why, camera = self.why_unseen(known), self._watching.camera_of(known.row.name)
        if why or camera is None:
            return f"its bed cannot be looked at: {why}"
        bed, looker = self._new(known), Looker(counts=False)
        bed.waits_from += timedelta(seconds=TOLD_WITHIN_S * self._context.clock.rate)
        deadline = bed.waits_from_s + within_s
        await self._cameras.look(looker, {camera.row.name: ("full", self._context.clock.rate / EVERY_S)})
        try:
            while self._context.clock.monotonic_s() < deadline:
                found = await self._look_at(known, camera, bed)
                if found is not None and bed.looks >= LOOKS:
                    likely = max((one.probability for one in found.suspicions), default=0.0)
                    sure = f"the camera still sees something on the bed ({likely:.0%} likely)"
                    return "" if likely < OVER_BELOW else sure
                await asyncio.sleep(LOOK_EVERY_S)
            return bed.unjudged or ("no camera frame has come since" if known.head_mm else HEAD_UNKNOWN)
        except (CoreError, ValueError, OSError) as error:
            return f"its bed cannot be looked at: {error}"
        finally:
            await self._cameras.look(looker, {})
            await self._forget(bed)

    async def look(self) -> None:
        """Look at the beds that are due."""
        due = {known.row.name: known for known in self._fleet.all() if self._due(known)}
        for machine in [name for name in self._beds if name not in due]:
            await self._end(machine)
        if self._open.event.is_set():
            self._open.take()
            await self._hear_answers()
        for name in [name for name, bed in self._beds.items() if bed.seen and name in due]:
            await self._let_go(due.pop(name))
        cameras = {name: camera for name in due if (camera := self._watching.camera_of(name)) is not None}
        per_s = self._context.clock.rate / EVERY_S
        await self._cameras.look(self._looker, {c.row.name: ("full", per_s) for c in cameras.values()})
        for name, camera in cameras.items():
            try:
                await self._consider(due[name], camera)
            except (CoreError, ValueError, OSError) as error:
                bed = self._beds[name]
                bed.unjudged = str(error)
                self._mind_patience(due[name], bed)

    def _due(self, known: FleetMachine) -> bool:
        if not _idle(known):
            known.bed_seen, known.on_bed = False, ""
            return False
        bed = self._beds.get(known.row.name)
        if bed is not None and bed.suspicion is not None:
            return self._minds(known)  # though its camera fails: what lies there has not gone by that
        return (not known.bed_seen or bed is not None) and not self.why_not(known)

    def _minds(self, known: FleetMachine) -> bool:
        """Whether it matters what lies on the bed of a machine."""
        return self._watching.rule(known).follows(FailureMode.NOT_CLEAR) is not Follow.NOTHING

    async def _begin(self, known: FleetMachine) -> _Bed:
        """Begin to look at a bed; what was raised of it before, or called a false alarm, still holds."""
        async with self._context.sessions() as db:
            before = await suspicions.of_bed(db, known.row.id)
        bed = self._beds[known.row.name] = self._new(known)
        if before is not None and before.right is False:
            bed.seen = True
        elif before is not None and before.over_at is None:
            bed.suspicion, bed.acts = before.id, Follow(before.followed)
            self._hold(known, bed, before.probability)
        return bed

    def _new(self, known: FleetMachine) -> _Bed:
        self._begun += 1
        return _Bed(f"bed {known.row.id} {self._begun}", self._context.clock.now(), self._context.clock.monotonic_s())

    async def _consider(self, known: FleetMachine, camera: KnownCamera) -> None:
        """Look at a camera's newest frame, if it is to be looked at."""
        bed = self._beds.get(known.row.name) or await self._begin(known)
        if bed.seen:
            return await self._let_go(known)
        newest = camera.newest.get("full")
        found = await self._look_at(known, camera, bed)
        if newest is None or found is None:
            return self._mind_patience(known, bed)
        await self._weigh(known, camera, bed, newest, found.suspicions)
        return None

    async def _look_at(self, known: FleetMachine, camera: KnownCamera, bed: _Bed) -> Looked | None:
        """Look at a camera's newest frame, if it is new and shows the head at rest. None when it is not, or cannot be
        judged."""
        newest = camera.newest.get("full")
        patient_s = PATIENT_S * self._context.clock.rate if bed.looks >= MOST_LOOKS else 0.0
        again = bed.looked + timedelta(seconds=max(EVERY_S / 2, patient_s)) if bed.looked else bed.waits_from
        late = newest is not None and newest.head.at > again and known.head_rests(newest.head.at)
        if newest is None or not late or known.head_mm is None:
            return None
        bed.head_mm = known.head_mm
        found = await self._seen(known, camera, bed, newest, bed.head_mm)
        bed.looked, bed.unjudged = newest.head.at, found.unjudged
        if found.unjudged:
            return None
        bed.looks += 1
        bed.waits_from, bed.waits_from_s = self._context.clock.now(), self._context.clock.monotonic_s()
        return found

    def _mind_patience(self, known: FleetMachine, bed: _Bed) -> None:
        """Let work go on after a time without a look that could be judged."""
        if bed.suspicion is not None:
            return
        real_s = self._context.clock.monotonic_s() - bed.waits_from_s
        passed = self._context.clock.now() - bed.waits_from
        if real_s > LEAST_GIVE_UP_S and passed > timedelta(seconds=GIVE_UP_S):
            log.warning("the bed of %s was not seen: %s", known.row.name, bed.unjudged or "no picture has come")
            bed.seen = True

    async def _seen(
        self, known: FleetMachine, camera: KnownCamera, bed: _Bed, newest: NewestFrame, head: Place
    ) -> Looked:
        try:
            return await self._process.look_at_bed(bed.key, newest.jpeg, head)
        except NotBegun:
            await self._process.begin_bed(bed.key, await self._order(known, camera))
            return await self._process.look_at_bed(bed.key, newest.jpeg, head)

    async def _order(self, known: FleetMachine, camera: KnownCamera) -> BedOrder:
        async with self._context.sessions() as db:
            view, clear = await suspicions.view_with_picture(db, camera.row.id)
            moved = await self._watching.moved(db, camera.row.id)
        if view.head_mm is None:  # it was marked anew just now
            raise ValueError("it is not known where the head was in the clear bed's picture")
        (x, y, _), at = known.model.volume_mm, view.head_mm
        corners = tuple((float(u), float(v)) for u, v in view.corners)
        return BedOrder(clear, corners, (x, y), (at[0], at[1], at[2]), moved, known_point(view))

    async def _weigh(
        self, known: FleetMachine, camera: KnownCamera, bed: _Bed, newest: NewestFrame, found: Sequence[Suspicion]
    ) -> None:
        """Raise what is likely enough; let work go on once the bed is clear."""
        worst = max(found, key=lambda one: one.probability, default=None)
        likely = worst.probability if worst is not None else 0.0
        if bed.suspicion is not None:
            if likely < OVER_BELOW and bed.looks >= LOOKS:
                await self._over(bed.suspicion)
                bed.seen = True
        elif worst is not None and likely >= self._watching.chosen.threshold:
            await self._raise(known, camera, bed, newest, worst)
        elif (bed.looks >= LOOKS and likely < OVER_BELOW) or bed.looks >= MOST_LOOKS:
            bed.seen = True
        if bed.seen:
            await self._let_go(known)

    async def _raise(
        self, known: FleetMachine, camera: KnownCamera, bed: _Bed, newest: NewestFrame, found: Suspicion
    ) -> None:
        follow = self._watching.rule(known).follows(FailureMode.NOT_CLEAR)
        sha256 = await keep_picture(self._frames, known, newest.jpeg)
        async with self._context.sessions() as db:
            row = await write_suspicion(
                db, known, camera, newest, sha256, found, follow=follow, head_mm=bed.head_mm
            )  # fmt: skip
            rest = " It takes no work until the bed is clear." if follow is not Follow.TELL else ""
            likely = f"{found.sentence.rstrip('.')} ({found.probability:.0%} likely)"
            await tell_of(db, row, f"{known.row.name}: {likely}.{rest}")
            await db.commit()
            bed.suspicion, bed.acts = row.id, follow
        self._hold(known, bed, found.probability)

    def _hold(self, known: FleetMachine, bed: _Bed, probability: float) -> None:
        """Keep a machine from work because of what was raised, or only tell."""
        if bed.acts is Follow.TELL:
            known.bed_seen = True
        else:
            known.on_bed = f"its bed is perhaps not clear ({probability:.0%} likely)"
        self._tell(known)

    async def _hear_answers(self) -> None:
        """Let machines go whose bed a person has called clear; what was raised of others than are looked at is over."""
        idle = {known.row.id: known for known in self._fleet.all() if _idle(known) and self._minds(known)}
        async with self._context.sessions() as db:
            still = {row.machine_id: row for row in await suspicions.open_of_beds(db)}
            for machine, row in still.items():
                if machine not in idle:
                    row.over_at = self._context.clock.now()
            await db.commit()
        for machine in still.keys() & idle.keys():
            if idle[machine].row.name not in self._beds:  # this service has just been started
                await self._begin(idle[machine])
        for name, bed in self._beds.items():
            if bed.suspicion is not None and self._fleet.find(name).row.id not in still:
                bed.seen = True

    async def _let_go(self, known: FleetMachine) -> None:
        """The bed is clear, or taken to be."""
        known.bed_seen, known.on_bed = True, ""
        await self._end(known.row.name)
        self._tell(known)

    async def _end(self, machine: str) -> None:
        """A bed is not looked at any more."""
        bed = self._beds.pop(machine, None)
        if bed is None:
            return
        self._fleet.find(machine).on_bed = ""
        if bed.suspicion is not None:
            await self._over(bed.suspicion)
        await self._forget(bed)

    async def _forget(self, bed: _Bed) -> None:
        try:
            await self._process.end(bed.key)
        except NotDone as error:
            log.warning("%s", error)

    async def _over(self, number: int) -> None:
        async with self._context.sessions() as db:
            row = await db.get_one(t.Suspicion, number)
            row.over_at = row.over_at or self._context.clock.now()
            await db.commit()

    def _tell(self, known: FleetMachine) -> None:
        """Who hands out work looks again."""
        self._fleet.version += 1
        self._fleet.publish(known)
        self._context.changes.wake("machines")


def _idle(known: FleetMachine) -> bool:
    return known.row.state == MachineState.IDLE and known.brief is None


TheBedWatching = Annotated[BedWatching, part(BedWatching)]
