"""A shop whose camera's corners are marked, and a file of three blocks that the watch can follow."""

from __future__ import annotations

from functools import partial

from chronarch.client import RefusedByService, requests
from chronarch.core.control import actions as h
from chronarch.core.machines.states import MachineState
from chronarch.core.orders.states import Verdict
from chronarch.core.watching.suspicion import OF_OBJECT, FailureMode
from chronarch.core.watching.watch_rules import Follow, WatchRule, WatchScope
from chronarch.demo.shapes import RoundedBox, Slice
from chronarch.demo.slicer import DemoPart, slice_part
from chronarch.standins.picture import lens_of
from chronarch.wire.orders.builds import Build
from chronarch.wire.orders.jobs import Job
from chronarch.wire.watching import watch as w
from chronarch.wire.watching.settings import WatchingUpdate
from tests.support.world import World, WorldCase, eventually

BED = (220.0, 220.0)
CORNERS = [(u, v) for u, v in lens_of(BED, "front").corners(BED)]
BLOCK = DemoPart("block", 30.0, lambda z: Slice(RoundedBox(36, 36, 4)), ((70, 70), (150, 80), (110, 150)))
TILE = DemoPart("tile", 1.2, lambda z: Slice(RoundedBox(36, 36, 4)), ((150, 80),))
LATE_S = 180.0
"""How long a build may take to come as far as is wanted, on a slow computer."""
TEAL = {"Anchor": {"colour": "teal"}}
"""What the stand-in of the machine must be made with, so that what it lays is seen on its bed."""


class WatchedCase(WorldCase):
    """A shop of one machine whose camera's corners are marked."""

    rate = 100.0
    cameras = True

    @classmethod
    def prepare(cls) -> None:
        cls.world.setups |= TEAL
        super().prepare()
        have_watched(cls.world)


def have_watched(world: World) -> None:
    """Mark the corners of Anchor's camera, and add the file; everything likely is raised."""
    world.client.do(requests.change_watching(WatchingUpdate(keep_every_s=60, false_alarms_a_week=1000)))
    world.add_file("block.gcode", "".join(f"{line}\n" for line in slice_part(BLOCK)))
    mark_bed(world)


def show_bed(world: World, machine: str = "Anchor") -> None:
    """Lift the head of a machine, which hides the bed's far edge, and wait until a picture shows the whole bed: until
    its corners are found by its edges, within a hundredth of the picture's width."""

    def found() -> bool:
        try:
            sight = world.client.do(requests.offered_corners(machine))
        except RefusedByService as error:
            if "is like a clear bed" in str(error) or "none has come yet" in str(error):
                return False
            raise
        apart = [max(abs(u - x), abs(v - y)) for (u, v), (x, y) in zip(sight.corners, CORNERS, strict=True)]
        return max(apart) < 0.01 * sight.width

    def done(action: h.Action) -> bool:
        try:
            world.client.do(requests.act(machine, action))
        except RefusedByService as error:
            if "is not connected" in str(error):  # on a busy computer its tender may just be connecting anew
                return False
            raise
        return True

    for action in (h.Home(), h.Move(z=150)):
        eventually(partial(done, action), "its tender is there")
    eventually(
        lambda: (world.machine(machine).hands.position_mm or (0, 0, 0))[2] >= 150, "it is known where its head is"
    )
    eventually(found, "the bed's corners are found")


def mark_bed(world: World, machine: str = "Anchor") -> None:
    """Mark the corners in the next picture of a machine that shows its head at rest."""

    def marked() -> bool:
        try:
            world.client.do(requests.mark_corners(machine, CORNERS))
        except RefusedByService as error:
            if "none has come yet" in str(error):
                return False
            raise
        return True

    eventually(marked, "the corners are marked")


def see_beds(world: World) -> None:
    """Have the bed of Anchor looked at before a start: its clear frame shows the head at a place that is known."""
    world.add_file("tile.gcode", "".join(f"{line}\n" for line in slice_part(TILE)))
    show_bed(world)
    mark_bed(world)
    eventually(lambda: not bed_unseen(world), "the bed is looked at")


def bed_unseen(world: World) -> str:
    """Why the bed of Anchor is not looked at before a start."""
    return world.client.do(requests.watch_standing()).machines[0].bed_unseen


def leave_lying(world: World) -> Job:
    """Say that the bed of Anchor is clear, with a part on it, while a job waits. Returns the job."""
    world.fault("Anchor", "part-stays")
    build = world.build_of(world.submit("tile.gcode"))
    world.until("Anchor", MachineState.UNCLEARED, LATE_S)
    waits = world.submit("tile.gcode")
    world.client.do(requests.verdict(build.id, Verdict.GOOD))
    return waits


def follow(world: World, what: Follow) -> None:
    """Have this follow of whatever befalls an object; pauses follow of everything."""
    modes = FailureMode if what is Follow.PAUSE else OF_OBJECT
    world.client.do(requests.set_watch_rule(WatchScope.SHOP, "0", WatchRule(follow=dict.fromkeys(modes, what))))


def come_to(world: World, layer: int) -> None:
    """Wait until the build of Anchor has come so far."""

    def far() -> bool:
        build = world.machine("Anchor").build
        return build is not None and (build.layer or 0) >= layer

    eventually(far, f"layer {layer} is begun", LATE_S)


def begun(world: World) -> Build:
    """A build that has laid some layers, and that the watch looks at."""
    build = world.build_of(world.submit("block.gcode"))
    come_to(world, 6)
    eventually(lambda: world.client.do(requests.watch_standing()).machines[0].looked_at, "it is looked at", LATE_S)
    return build


def tangled(world: World, build: int, then: Follow) -> w.Suspicion:
    """The first suspicion of which that has followed, after material has begun to tangle."""
    world.fault("Anchor", "build-fails", text="tangle")

    def followed() -> list[w.Suspicion]:
        return [s for s in world.client.do(requests.suspicions(build=build)) if s.followed is then]

    return eventually(followed, f"something is suspected, and {then} follows", LATE_S)[-1]
