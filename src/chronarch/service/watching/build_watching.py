"""Has builds watched: asks cameras for frames, has them looked at, and raises what is suspected.

Each frame of a machine that builds is judged every `EVERY_S` shop seconds, less often where that would cost more than
the watch may have of a core. What is raised once of a build is not raised again.
"""

from __future__ import annotations

import asyncio
import logging
from collections import deque
from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import Annotated, Any

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.errors import CoreError
from chronarch.core.machines.states import MachineState
from chronarch.core.notices.kinds import NoticeKind
from chronarch.core.watching.answers import learn_from_answers
from chronarch.core.watching.camera_pose import KnownPoint
from chronarch.core.watching.carefulness import CatchRate, choose
from chronarch.core.watching.measured import MEASURED
from chronarch.core.watching.suspicion import FailureMode, Suspicion
from chronarch.core.watching.watch_rules import Follow, WatchRule
from chronarch.records import tables as t
from chronarch.records.notices.opening import open_notice
from chronarch.records.watching import frames, suspicions
from chronarch.service.context import ServiceContext, part
from chronarch.service.library.content_store import ContentStore
from chronarch.service.machines.fleet import Fleet, FleetMachine
from chronarch.service.process_pool import NotDone
from chronarch.service.watching.cameras import Cameras, KnownCamera, Looker, NewestFrame
from chronarch.service.watching.content_folder import FrameStore
from chronarch.service.watching.following import Following
from chronarch.service.watching.raising import keep_picture, tell_of, write_suspicion
from chronarch.service.watching.settings import load_watching
from chronarch.service.watching.watch_messages import Looked, NotBegun, WatchOrder
from chronarch.service.watching.watch_process import WatchProcess
from chronarch.wire.watching.watch import watch_rule

LOOK_EVERY_S = 0.25
"""How often it is seen whether a frame is to be looked at, real seconds."""
EVERY_S = 10.0
"""How often a build is looked at, shop seconds."""
MANY_BUILDS, USUAL_H_PER_WEEK = 10, 60.0
"""From so many builds of a fortnight it is known how long machines build in a week; before, each is taken to build so
long, hours."""
USUAL_COST_S = 0.08
"""What a look is taken to cost until one was measured, s of the processor."""
MOST_SHARE = 0.5
"""What the watch may take of a core."""
OVER_BELOW = 0.3
"""A suspicion that is less likely than this is over."""
GREW = 0.02
AGAIN_S = 5.0
BLIND_S = 600.0
"""After so many shop seconds without a frame that can be judged people are told."""
WEIGHED_EVERY_S = 60.0
log = logging.getLogger("chronarch.watch")


@dataclass
class _Watched:
    """A build that is watched through a camera."""

    build: int
    sha256: str
    begun_at: datetime
    raised: dict[tuple[FailureMode, str], int] = field(default_factory=dict)
    """What was raised of it, by kind and object: the number of its record."""
    likeliest: dict[int, float] = field(default_factory=dict)
    acted: set[int] = field(default_factory=set)
    """Those that something was done for: they stay open until a person answers, or the build ends."""
    looked: datetime | None = None
    unjudged: str = ""
    blind_since: datetime | None = None
    """Since when no frame could be judged; None while they can."""
    told_blind: bool = False
    problem: str = ""
    again_s: float = 0.0
    """When a look that failed is tried again, real seconds."""

    @property
    def key(self) -> str:
        return f"{self.build} {self.sha256}"


class BuildWatching:
    """`look` is the step of one worker."""

    def __init__(
        self, context: ServiceContext, fleet: Fleet, cameras: Cameras, contents: ContentStore, store: FrameStore,
        process: WatchProcess, following: Following,
    ) -> None:  # fmt: skip
        self._context, self._fleet, self._cameras = context, fleet, cameras
        self._contents, self._frames = contents, store
        self._process, self._following = process, following
        self._looker = Looker(counts=False)
        self._watched: dict[str, _Watched] = {}
        """By machine."""
        self._rules: dict[tuple[str, int], WatchRule] = {}
        self._views: dict[int, t.BedView] = {}
        self._changed = context.changes.watch("watch-rules", "cameras", "setup")
        self._changed.event.set()
        self._edited = context.changes.watch("builds")
        self._costs: deque[float] = deque([USUAL_COST_S], maxlen=50)
        self._spent: deque[tuple[float, float]] = deque(maxlen=2000)
        """When looks were made, real seconds, and what each cost."""
        self._weighed_s = -1e9
        self.building_h_per_week = 0.0
        self.chosen: CatchRate = MEASURED[-1]

    # What holds ---------------------------------------------------------------------------------------------------

    async def renew(self) -> None:
        """Read rules and views anew where they have changed."""
        now_s = self._context.clock.monotonic_s()
        if not self._changed.event.is_set() and now_s - self._weighed_s < WEIGHED_EVERY_S:
            return
        self._changed.take()
        async with self._context.sessions() as db:
            self._rules = await suspicions.rules(db, watch_rule.validate_python)
            before, self._views = self._views, await suspicions.views(db)
            made = await frames.made_since(db, self._context.clock.now() - frames.FORTNIGHT)
            settings = await load_watching(db)
            await suspicions.close_ended(db, self._context.clock.now())
            await db.commit()
        for machine, one in list(self._watched.items()):
            camera = self.camera_of(machine)
            if camera is None or _other(before.get(camera.row.id), self._views.get(camera.row.id)):
                await self._end(machine, one)
        self._weighed_s = now_s
        told = made.builds >= MANY_BUILDS
        self.building_h_per_week = (
            max(1.0, made.seconds / 3600 / 2) if told else USUAL_H_PER_WEEK * max(1, len(self._fleet.all()))
        )
        self.chosen = self.chosen_for(settings.false_alarms_a_week)

    def chosen_for(self, false_alarms_a_week: float) -> CatchRate:
        """The point of the measured curve for what a shop puts up with."""
        return choose(MEASURED, false_alarms_a_week / max(self.building_h_per_week, 1.0))

    def camera_of(self, machine: str) -> KnownCamera | None:
        """The camera that watches a machine: its first."""
        return next((k for k in self._cameras.all() if k.machine == machine and k.row.first), None)

    def view_of(self, machine: str) -> t.BedView | None:
        """How the camera that watches a machine sees its bed, without the picture."""
        camera = self.camera_of(machine)
        return self._views.get(camera.row.id) if camera is not None else None

    async def moved(self, db: AsyncSession, camera: int) -> dict[FailureMode, float]:
        """What people's answers move each kind's odds by, for one camera."""
        answers = await suspicions.answers_of(db, camera)
        return {
            mode: learn_from_answers([(p, right) for kind, p, right in answers if kind == mode])
            for mode in FailureMode
        }  # fmt: skip

    def rule(self, known: FleetMachine) -> WatchRule:
        """What holds for a machine and the job it works on."""
        job = known.brief.job if known.brief is not None else 0
        for key in (("job", job), ("machine", known.row.id), ("shop", 0)):
            if key in self._rules:
                return self._rules[key]
        return WatchRule()

    def why_not(self, known: FleetMachine) -> str:
        """Why a machine is not watched; empty where it is."""
        camera, rule = self.camera_of(known.row.name), self.rule(known)
        if not rule.on:
            return f"the watch is off: {rule.reason}" if rule.reason else "the watch is off"
        if camera is None:
            return "no camera looks at it"
        if camera.row.id not in self._views:
            return f"the bed's corners are not marked in the picture of {camera.row.name}"
        if camera.trouble is not None:
            return f"{camera.row.name}: {camera.trouble.text}"
        return ""

    def problem(self, machine: str) -> str:
        """Why the watch could not look at the newest frame of a machine, if it could not; it is tried again."""
        one = self._watched.get(machine)
        return one.problem if one is not None else ""

    def stands(self, machine: str) -> tuple[str, datetime | None]:
        """What keeps the newest frame of a machine from being judged, and when that was taken."""
        one = self._watched.get(machine)
        return (one.unjudged, one.looked) if one is not None else ("", None)

    def share(self) -> float:
        """What it takes of a core, lately."""
        now_s = self._context.clock.monotonic_s()
        while self._spent and now_s - self._spent[0][0] > WEIGHED_EVERY_S:
            self._spent.popleft()
        return sum(cost for _, cost in self._spent) / WEIGHED_EVERY_S

    # Looking ------------------------------------------------------------------------------------------------------

    async def look(self) -> None:
        """Look at the frames that are due."""
        await self.renew()
        await self._follow_edits()
        to_watch = {
            known.row.name: known for known in self._fleet.all()
            if known.brief is not None and known.row.state == MachineState.BUILDING and not self.why_not(known)
        }  # fmt: skip
        for machine, one in list(self._watched.items()):
            brief = next((known.brief for known in self._fleet.all() if known.row.name == machine), None)
            if brief is None or brief.id != one.build or brief.outcome is not None:
                await self._end(machine, one)
        every_s = max(EVERY_S / self._context.clock.rate, len(to_watch) * self._mean_cost_s() / MOST_SHARE)
        cameras = {name: camera for name in to_watch if (camera := self.camera_of(name)) is not None}
        await self._cameras.look(self._looker, {c.row.name: ("full", 1 / every_s) for c in cameras.values()})
        for name in sorted(cameras, key=self._looked_s):
            newest = cameras[name].newest.get("full")
            if newest is not None:
                cost_s = await self._consider(to_watch[name], cameras[name], newest)
                await asyncio.sleep(cost_s / MOST_SHARE - cost_s)

    def _looked_s(self, machine: str) -> float:
        """When a machine was looked at last: the one that has waited longest comes first."""
        one = self._watched.get(machine)
        return one.looked.timestamp() if one is not None and one.looked is not None else 0.0

    async def _follow_edits(self) -> None:
        """Begin anew with builds that go on with another file: objects were left out."""
        if not self._edited.event.is_set():
            return
        self._edited.take()
        mine = {one.build: (machine, one) for machine, one in self._watched.items()}
        async with self._context.sessions() as db:
            query = select(t.Build.id, t.Build.sha256, t.Build.fed_sha256).where(t.Build.id.in_(mine))
            fed = {build: edited or whole for build, whole, edited in await db.execute(query)}
        for build, (machine, one) in mine.items():
            if fed.get(build, one.sha256) != one.sha256:
                del self._watched[machine]
                await self._process.end(one.key)

    def _mean_cost_s(self) -> float:
        return sum(self._costs) / len(self._costs)

    async def _consider(self, known: FleetMachine, camera: KnownCamera, newest: NewestFrame) -> float:
        """Look at a camera's newest frame if it is of this build and was not looked at yet. Returns what that cost, s
        of the processor."""
        one, head = self._watched.get(known.row.name), newest.head
        if known.brief is None or head.build != known.brief.id or not head.command:
            return 0.0
        if one is not None and one.looked is not None and (head.at - one.looked).total_seconds() < 0.5 * EVERY_S:
            return 0.0
        if one is not None and self._context.clock.monotonic_s() < one.again_s:
            return 0.0
        try:
            if one is None:
                one = await self._begin(known, camera)
            found = await self._seen(known, camera, one, newest)
        except (CoreError, ValueError, OSError) as error:
            if one is not None:
                one.problem = f"the watch cannot look: {error}"[:300]
                one.again_s = self._context.clock.monotonic_s() + AGAIN_S
            log.warning("%s cannot be watched: %s", known.row.name, error)
            return 0.0
        one.looked, one.unjudged, one.problem = head.at, found.unjudged, ""
        await self._mind_blindness(known, one)
        self._costs.append(found.cost_s)
        self._spent.append((self._context.clock.monotonic_s(), found.cost_s))
        await self._weigh(known, camera, one, newest, found)
        return found.cost_s

    async def _mind_blindness(self, known: FleetMachine, one: _Watched) -> None:
        """Tell people, once a build, when its frames cannot be judged for some time."""
        assert one.looked is not None
        if not one.unjudged:
            one.blind_since = None
            return
        one.blind_since = one.blind_since or one.looked
        if one.told_blind or (one.looked - one.blind_since).total_seconds() < BLIND_S:
            return
        one.told_blind = True
        text = f"{known.row.name} builds unwatched: {one.unjudged[:1].lower()}{one.unjudged[1:]}"
        async with self._context.sessions() as db:
            about: dict[str, Any] = {"machine_id": known.row.id, "build_id": one.build}
            await open_notice(db, NoticeKind.UNWATCHED, one.looked, text, subject=one.build, **about)
            await db.commit()

    async def _begin(self, known: FleetMachine, camera: KnownCamera) -> _Watched:
        assert known.brief is not None
        async with self._context.sessions() as db:
            build = await db.get_one(t.Build, known.brief.id)
            raised = await suspicions.raised_of(db, build.id)
        one = _Watched(build.id, build.fed_sha256 or build.sha256, build.started_at or build.claimed_at)
        for row in raised:
            one.raised[FailureMode(row.mode), row.object] = row.id
            one.likeliest[row.id] = row.probability
            if row.followed in (Follow.PAUSE, Follow.LEAVE_OUT):
                one.acted.add(row.id)
        self._watched[known.row.name] = one
        return one

    async def _seen(self, known: FleetMachine, camera: KnownCamera, one: _Watched, newest: NewestFrame) -> Looked:
        at_s = (newest.head.at - one.begun_at).total_seconds()
        try:
            return await self._process.look(one.key, newest.jpeg, newest.head.command, at_s)
        except NotBegun:
            await self._process.begin(one.key, await self._order(known, camera, one))
            return await self._process.look(one.key, newest.jpeg, newest.head.command, at_s)

    async def _order(self, known: FleetMachine, camera: KnownCamera, one: _Watched) -> WatchOrder:
        async with self._context.sessions() as db:
            view, clear = await suspicions.view_with_picture(db, camera.row.id)
            moved = await self.moved(db, camera.row.id)
            build = await db.get_one(t.Build, one.build)
        corners = tuple((float(u), float(v)) for u, v in view.corners)
        left_out = tuple(str(skip["object"]) for skip in build.skips)
        path = self._contents.path(one.sha256)
        return WatchOrder(path, known.model, clear, corners, moved, left_out, known_point(view))

    async def _end(self, machine: str, one: _Watched) -> None:
        """A build is no longer watched."""
        self._watched.pop(machine, None)
        async with self._context.sessions() as db:
            await suspicions.close_ended(db, self._context.clock.now())
            await db.commit()
        try:
            await self._process.end(one.key)
        except NotDone as error:
            log.warning("%s", error)

    # Raising ------------------------------------------------------------------------------------------------------

    async def _weigh(
        self, known: FleetMachine, camera: KnownCamera, one: _Watched, newest: NewestFrame, found: Looked
    ) -> None:
        """Raise what is likely enough, and note how likely it still is."""
        rule = self.rule(known)
        for suspicion in found.suspicions:
            number = one.raised.get((suspicion.mode, suspicion.object))
            follow = rule.follows(suspicion.mode)
            if number is None and suspicion.probability >= self.chosen.threshold and follow is not Follow.NOTHING:
                await self._raise(known, camera, one, newest, suspicion, follow, found.objects)
            elif number is not None and suspicion.probability > one.likeliest.get(number, 0.0) + GREW:
                one.likeliest[number] = suspicion.probability
                async with self._context.sessions() as db:
                    row = await db.get_one(t.Suspicion, number)
                    row.probability, row.over_at = suspicion.probability, None
                    await db.commit()
        if found.unjudged:
            return
        likely = {(s.mode, s.object) for s in found.suspicions if s.probability >= OVER_BELOW}
        gone = {number for key, number in one.raised.items() if key not in likely and number in one.likeliest}
        for number in gone - one.acted:
            one.likeliest.pop(number)
            async with self._context.sessions() as db:
                row = await db.get_one(t.Suspicion, number)
                row.over_at = row.over_at or self._context.clock.now()
                await db.commit()

    async def _raise(
        self, known: FleetMachine, camera: KnownCamera, one: _Watched, newest: NewestFrame, found: Suspicion,
        follow: Follow, objects: int,
    ) -> None:  # fmt: skip
        sha256 = await keep_picture(self._frames, known, newest.jpeg)
        async with self._context.sessions() as db:
            if _doubted(await suspicions.raised_of(db, one.build), found):
                follow = Follow.TELL
            row = await write_suspicion(
                db, known, camera, newest, sha256, found, follow=Follow.TELL, build=one.build
            )  # fmt: skip
            if not one.likeliest:  # what follows of one failure is not told as another
                await tell_of(db, row, f"{known.row.name}: {found.sentence} ({found.probability:.0%} likely)")
            await db.commit()
            one.raised[found.mode, found.object] = row.id
            one.likeliest[row.id] = found.probability
        if follow is not Follow.TELL:
            one.acted.add(row.id)
            self._following.begin(row.id, one.build, found, follow, objects)


def _doubted(before: Sequence[t.Suspicion], found: Suspicion) -> bool:
    """Whether a person has called a suspicion of the same thing a false alarm: it may be suspected of something else
    now, and is not paused for it again."""
    return any(
        row.right is False and (row.object == found.object or not row.object or not found.object) for row in before
    )


def known_point(view: t.BedView) -> KnownPoint | None:
    """The nozzle's tip, if it was marked in the clear bed's frame."""
    if not view.tip or not view.head_mm:
        return None
    x, y, z = view.head_mm
    return KnownPoint((x, y, z), (view.tip[0], view.tip[1]))


def _other(before: t.BedView | None, now: t.BedView | None) -> bool:
    return (before and before.set_at) != (now and now.set_at)


TheBuildWatching = Annotated[BuildWatching, part(BuildWatching)]
