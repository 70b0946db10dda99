# ruff: noqa: E501  the rows of a table read best in one line each
"""The faults table: what is broken and when, what must hold, and how it is tried. docs/reliability.md shows it.

A row is given a shop, a lot to draw points by, and how many points; it breaks things at each, sees what must hold, and
says what it saw. `make test` tries each with few points, `make faults` with all.
"""

from __future__ import annotations

import asyncio
import contextlib
import itertools
import os
import random
import resource
import signal
import socket
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace

import httpx
from websockets.sync.client import connect

from chronarch.client import AsyncClient, RefusedByService, requests
from chronarch.core.control.actions import Adjust, AnswerPrompt
from chronarch.core.control.events import BuildEnded, Noticed
from chronarch.core.machines.states import MachineState, Outcome
from chronarch.core.orders.states import Verdict
from chronarch.core.watching.film_settings import FilmSettings
from chronarch.standins.dialects import DIALECTS
from chronarch.wire.control.upstream import Hello
from chronarch.wire.orders.builds import Build
from chronarch.wire.watching.films import Film, NewFilm
from chronarch.wire.watching.looking import Wish
from tests.faults.clock import jumping_build
from tests.support.gcode import commands, executed_sha256, squares
from tests.support.world import World, WorldCase, eventually

LONG = squares(layers=10, rounds=20, side=50, feed=1200)
"""About 1000 commands and 2000 s of motion: some ten seconds at the shop's rate, so that a slow computer gets to do
something to a build before it is over."""
COMMANDS = len(commands(LONG))


class Shop(WorldCase):
    """Three machines: two that are fed, one that runs files itself; and what must hold of any build."""

    machines = ("Anchor", "Bezel")
    cameras = True
    stored = ("Pallet",)
    rate = 200.0
    own_database = True

    @classmethod
    def prepare(cls) -> None:
        super().prepare()
        cls.world.add_file("long.gcode", LONG)

    def runTest(self) -> None:
        """Nothing by itself."""

    def start_build(self, name: str = "Anchor", at_least: int = 150) -> Build:
        self.clear(name)
        job = self.world.submit("long.gcode", machine=name)
        build = self.world.build_of(job)
        eventually(lambda: self.fed(build), f"build {build.id} is fed")
        self.world.taken(name, at_least)
        return build

    def fed(self, build: Build, commands: int = 1) -> bool:
        """Whether the machine has taken so much of a build, or the build is over."""
        shown = self.world.machine(build.machine).build
        return (
            shown is not None and shown.id == build.id and (shown.acknowledged >= commands or shown.outcome is not None)
        )

    def made(self, build: Build, within_s: float = 90.0) -> None:
        """The build completes, the machine ran the file exactly, no heater is on, the ledger is whole, and the verdict
        counts."""
        w = self.world
        w.until(build.machine, MachineState.UNCLEARED, within_s)
        standin = w.standin(build.machine)
        self.assertEqual((standin["taken"], standin["sha256"]), (COMMANDS, executed_sha256(LONG)))
        ended = w.client.do(requests.build(build.id))
        self.assertEqual((ended.outcome, ended.acknowledged, ended.reason), (Outcome.COMPLETED, COMMANDS, ""))
        self.cold(build.machine)
        entries = w.client.do(requests.ledger(machine=build.machine))
        for before, after in itertools.pairwise(entries):
            self.assertEqual(before.end, after.begin, "the ledger has no gap and no overlap")
        w.client.do(requests.verdict(build.id, Verdict.GOOD))
        self.assertEqual(w.client.do(requests.job(build.job)).good, 1)

    def failed(self, build: Build, reason: str) -> None:
        """The build is over and says truly why; what was run of it is the file's beginning; no heater is on."""
        w = self.world
        eventually(lambda: w.client.do(requests.build(build.id)).outcome, f"build {build.id} ends", 90)
        ended = w.client.do(requests.build(build.id))
        self.assertIs(ended.outcome, Outcome.FAILED)
        self.assertIn(reason, ended.reason)
        self.cold(build.machine)

    def paused(self, build: Build, reason: str, within_s: float = 60.0) -> None:
        """The build stands paused and says truly why."""
        w = self.world
        state = w.until(build.machine, MachineState.PAUSED, within_s)
        self.assertIn(reason, state.reason)

    def cold(self, name: str) -> None:
        """No heater is asked for anything."""

        def off() -> bool:
            standin = self.world.standin(name)
            return (standin["nozzle_asked_c"], standin["bed_asked_c"]) == (0, 0)

        eventually(off, f"the heaters of {name} are off", 60)

    def points(self, lot: random.Random, count: int, each: int = 3) -> list[list[int]]:
        """Points in builds, drawn by lot: up to `each` a build, some way apart, as commands taken."""
        builds = []
        while count > 0:
            mine = min(each, count)
            step = (COMMANDS - 350) // mine
            builds.append([150 + k * step + lot.randrange(max(1, step - 80)) for k in range(mine)])
            count -= mine
        return builds


@dataclass(frozen=True)
class Row:
    """One fault. `points`: how many in the whole table; one or `quick` in the tests."""

    key: str
    broken: str
    when: str
    must: str
    points: int
    run: Callable[[Shop, World, random.Random, int], str]
    quick: int = 1


def _killed(process: str, start: Callable[[World], None]) -> Callable[[Shop, World, random.Random, int], str]:
    def run(shop: Shop, w: World, lot: random.Random, points: int) -> str:
        away = []
        for build_points in shop.points(lot, points):
            build = shop.start_build()
            for at in build_points:
                w.taken("Anchor", at)
                w.kill(process, signal.SIGKILL)
                began = time.monotonic()
                start(w)
                away.append(time.monotonic() - began)
            shop.made(build)
        return f"{points} kills in {len(shop.points(lot, points))} builds; back in {max(away):.1f} s at most; every hash right"

    return run


def _start_service(w: World) -> None:
    w.start_service()
    eventually(lambda: all(m.reachable for m in w.machines()), "the tender is back")


def _database(shop: Shop, w: World, lot: random.Random, points: int) -> str:
    for build_points in shop.points(lot, points):
        build = shop.start_build()
        for at in build_points:
            w.taken("Anchor", at)
            w.server.kill()
            w.taken("Anchor", min(COMMANDS, at + 60))
            answer = httpx.get(f"{w.address}/api/jobs", headers={"Authorization": f"Bearer {w.key}"}, timeout=20)
            shop.assertEqual((answer.status_code, answer.headers["retry-after"]), (503, "3"))
            w.server.start()
            eventually(lambda: w.client.do(requests.jobs()) is not None, "the service has its records again")
        shop.made(build)
    return f"{points} kills; builds went on, requests were answered 503 meanwhile; every hash right"


def _standin(shop: Shop, w: World, lot: random.Random, points: int) -> str:
    for (at,) in shop.points(lot, points, each=1):
        build = shop.start_build()
        w.taken("Anchor", at)
        w.kill("standins", signal.SIGKILL)
        w.start_standins()
        shop.failed(build, "restarted itself")
        shop.assertLess(w.standin("Anchor")["taken"], 5, "nothing of the file is run from its beginning")
        for name in w.names:
            shop.clear(name)
    return f"{points} power cuts; each build failed saying that the machine restarted; nothing was run again"


def _cut(seconds: float) -> Callable[[Shop, World, random.Random, int], str]:
    def run(shop: Shop, w: World, lot: random.Random, points: int) -> str:
        for build_points in shop.points(lot, points, each=2):
            build = shop.start_build("Bezel")
            for at in build_points:
                w.taken("Bezel", at)
                w.fault("Bezel", "link-cut", value=seconds)
                w.taken("Bezel", min(COMMANDS, w.standin("Bezel")["taken"] + 30))
            shop.made(build)
        return f"{points} cuts of {seconds:g} s; every hash right"

    return run


def _cut_long(shop: Shop, w: World, lot: random.Random, points: int) -> str:
    # half a minute is more than an hour and a half of this shop's quick time: the machine's own watch must allow it
    model = w.client.do(requests.models())[0]
    w.client.do(requests.change_model(replace(model, watchdog_s=40_000.0)))
    try:
        return _cut(30)(shop, w, lot, points)
    finally:
        w.client.do(requests.change_model(model))


def _clock(shop: Shop, w: World, lot: random.Random, points: int) -> str:
    """In this process, for a container's clock cannot be set: a link and a machine, minded by a clock that jumps."""
    jumps, told = asyncio.run(jumping_build(points * 5))
    ended = [what for what in told if isinstance(what, BuildEnded)]
    shop.assertEqual([(e.outcome, e.reason) for e in ended], [(Outcome.COMPLETED, "")])
    notices = [what for what in told if isinstance(what, Noticed)]
    late = [what for what in notices if what.about == "readings" and " h" not in what.text]  # this computer is slow
    shop.assertEqual([what for what in notices if what not in late], [])
    return f"{jumps} jumps of an hour; no alarm, no pause; hash right"


def _cut_for_good(shop: Shop, w: World, lot: random.Random, points: int) -> str:
    build = shop.start_build("Bezel")
    w.fault("Bezel", "link-cut", value=0)
    shown = w.until("Bezel", MachineState.OFFLINE, 60)
    shop.assertIn("no link", shown.reason)
    # it is heard of no more: what is left is the machine's own watch over its heaters
    shop.cold("Bezel")
    w.kill("standins", signal.SIGKILL)
    w.start_standins()
    shop.failed(build, "restarted itself")
    for name in w.names:
        shop.clear(name)
    return "shown offline; the machine's own watch turned its heaters off; the build failed once it was back"


def _damaged(fault: str, share: float, must: str) -> Callable[[Shop, World, random.Random, int], str]:
    def run(shop: Shop, w: World, lot: random.Random, points: int) -> str:
        damaged = unseen = 0
        for _ in range(points):
            build = shop.start_build()
            w.fault("Anchor", fault, value=share)
            try:
                if must == "made":
                    w.until("Anchor", MachineState.UNCLEARED, 120)
                else:
                    shop.paused(build, "damages")
                damaged = w.standin("Anchor")["corrupted"]
                shop.assertGreater(damaged, 0)
            finally:
                w.fault("Anchor", "heal")
            if must == "made":
                shop.made(build)
                continue
            _resume(w, build)
            w.until("Anchor", MachineState.UNCLEARED, 90)
            ran = w.http.get("/machines/Anchor/executed").text.splitlines()
            shop.assertEqual(len(ran), COMMANDS, "each line once")
            passed = sum(a != b for a, b in zip(ran, commands(LONG), strict=True))
            shop.assertLessEqual(passed, 2, "hardly a line passes damaged before it is noticed")
            unseen += passed
            shop.cold("Anchor")
        if must == "made":
            return f"{damaged} lines damaged in the last build; completed; every hash right"
        return (
            f"{damaged} lines damaged in the last build; paused saying so, and completed on a sound wire; in {points} "
            f"builds {unseen} damaged lines passed the checksum before that was noticed"
        )

    return run


def _resume(w: World, build: Build) -> None:
    w.client.do(requests.resume(build.id))


def _full_disk(shop: Shop, w: World, lot: random.Random, points: int) -> str:
    for (at,) in shop.points(lot, points, each=1):
        build = shop.start_build()
        w.taken("Anchor", at)
        with _no_more_room(w.processes["tender"].pid):
            w.client.do(requests.pause(build.id))
            told = eventually(
                lambda: [n for n in w.client.do(requests.notices(open=True)) if "disk" in n.text], "people are told"
            )
            _resume(w, build)
            w.taken("Anchor", min(COMMANDS, w.standin("Anchor")["taken"] + 60))
        shop.made(build)
    return f"told: {told[0].text.split(': ', 1)[1]}; builds went on, all events arrived; every hash right"


@contextlib.contextmanager
def _no_more_room(pid: int) -> Iterator[None]:
    """Every write of a process that makes a file longer fails, as on a full disk."""
    before = resource.prlimit(pid, resource.RLIMIT_FSIZE)
    resource.prlimit(pid, resource.RLIMIT_FSIZE, (1, before[1]))
    try:
        yield
    finally:
        resource.prlimit(pid, resource.RLIMIT_FSIZE, before)


def _camera(shop: Shop, w: World, lot: random.Random, points: int) -> str:
    kinds = lot.sample(CAMERA_FAULTS, points)
    w.add_camera("Anchor", "Anchor stream", "stream.mjpg")
    for kind in kinds:
        before = w.client.do(requests.camera("Bezel")).frame_at
        w.fault("Anchor", "camera", text=kind)
        build = shop.start_build()
        for camera in ("Anchor", "Anchor stream"):
            if kind not in FAULTS_OF_STREAMS or camera == "Anchor stream":
                eventually(lambda: w.client.do(requests.camera(camera)).trouble, f"{camera} that {kind} is told of")  # noqa: B023
        eventually(lambda: w.client.do(requests.camera("Bezel")).frame_at != before, "other cameras go on")  # noqa: B023
        shop.made(build)
        w.fault("Anchor", "heal")
        eventually(lambda: w.client.do(requests.camera("Anchor")).trouble is None, "it is back", 120)
    w.client.do(requests.remove_camera("Anchor stream"))
    return f"{', '.join(kinds)}: told of each, the other cameras went on; every hash right"


CAMERA_FAULTS = ("hangs", "hangs-midway", "floods", "garbage", "redirects", "endless-header", "damaged")
FAULTS_OF_STREAMS = ("redirects", "endless-header")


def _many_look(shop: Shop, w: World, lot: random.Random, points: int) -> str:
    w.add_camera("Anchor", "Anchor stream", "stream.mjpg?fps=15")
    build = shop.start_build(at_least=1)

    async def look() -> int:
        """How many frames one of them got until the build is over."""
        async with AsyncClient(w.address, w.read_key) as client:
            count = 0
            async for _ in client.look({"Anchor stream": Wish()}):
                count += 1
                if over.is_set():
                    return count
        return count

    async def all_of_them() -> tuple[list[int], set[int], float]:
        streams: set[int] = set()
        looking = [asyncio.create_task(look()) for _ in range(200)]
        slowest = 0.0
        async with AsyncClient(w.address, w.read_key) as client:
            while not streams or (await client.do(requests.build(build.id))).outcome is None:
                asked = time.monotonic()
                await client.do(requests.machines())
                slowest = max(slowest, time.monotonic() - asked)
                streams.add((await asyncio.to_thread(w.standin, "Anchor"))["camera_streams"])
                await asyncio.sleep(0.1)
            over.set()
            async with asyncio.timeout(60):
                got = await asyncio.gather(*looking)
        return got, streams, slowest

    over = asyncio.Event()
    got, streams, slowest = asyncio.run(all_of_them())
    shop.assertLessEqual(max(streams), 1, "one connection to the camera")
    shop.assertGreater(min(got), 0, "everybody sees something")
    shop.made(build)
    w.client.do(requests.remove_camera("Anchor stream"))
    return f"200 looked at one camera, {sum(got)} frames; one connection to it; the list of machines after {slowest:.2f} s at worst"


def _frames_disk(shop: Shop, w: World, lot: random.Random, points: int) -> str:
    def told(text: str) -> bool:
        return any(text in notice.text for notice in w.client.do(requests.notices()))

    _camera_sees(w)
    build = shop.start_build()
    kept = lambda: len(w.client.all(requests.frames_of_build(build.id)))  # noqa: E731
    eventually(kept, "frames are kept", 180)
    with _no_more_room(w.camera_process()):
        eventually(lambda: told("frames cannot be kept at the tender"), "the tender's full disk is told of")
    with _no_more_room(w.processes["service"].pid):
        eventually(lambda: told("The service cannot write to its disk"), "the service's full disk is told of")
    shop.made(build)
    before = kept()
    eventually(
        lambda: kept() > before or not list((w.folder / "tender" / "frames").glob("*.frame")), "they are handed on"
    )
    return "told of both; the build went on, and frames that waited were handed on; every hash right"


def _film_killed(shop: Shop, w: World, lot: random.Random, points: int) -> str:
    build = shop.start_build()
    shop.made(build)
    long = FilmSettings(length_s=120, fps=60, hold_first_s=0, hold_last_s=0)
    for _ in range(points):
        film = w.client.do(requests.ask_for_film(build.id, NewFilm(settings=long))).number
        eventually(lambda film=film: 0 < w.client.do(requests.film(film)).progress < 1, "it is being made")
        w.kill("service")
        w.start_service()
    made = eventually(
        lambda: [f for f in _films(w, build) if f.state == "done"][points:], "all are made afterwards", 180
    )
    shop.assertEqual({f.state for f in _films(w, build)}, {"done"})
    shop.assertTrue(all(w.client.do(requests.film_file(f.number)) for f in made))
    eventually(lambda: not list((w.folder / "blobs" / "films").glob("*.new*")), "no half of a film is left")
    return f"{points} were made anew; nothing of the half-made ones is left"


def _camera_sees(w: World) -> None:
    """Wait for the newest picture of Anchor's camera to be of now, after what other rows broke."""
    eventually(lambda: (c := w.client.do(requests.camera("Anchor"))).frame_at and not c.trouble, "the camera sees", 180)


def _films(w: World, build: Build) -> list[Film]:
    return w.client.do(requests.films(build=build.id))


def _films_disk(shop: Shop, w: World, lot: random.Random, points: int) -> str:
    _camera_sees(w)
    first = shop.start_build()
    shop.made(first)
    eventually(lambda: [f for f in _films(w, first) if f.state == "done"], "its film is made", 180)
    with _no_more_room(w.processes["service"].pid):
        w.client.do(requests.ask_for_film(first.id, NewFilm()))
        waits = lambda: any("nearly full" in f.problem for f in _films(w, first))  # noqa: E731
        eventually(waits, "the film waits")
        texts = [notice.text for notice in w.client.do(requests.notices())]
        shop.assertTrue(any("films are made when there is room" in text for text in texts), texts)
        second = shop.start_build()
        w.taken("Anchor", 50)
    shop.made(second)
    eventually(lambda: {f.state for f in _films(w, first)} == {"done"}, "it is made when there is room", 90)
    return "told; films waited and were made when there was room; the builds went on, every hash right"


def _two_tenders(shop: Shop, w: World, lot: random.Random, points: int) -> str:
    build = shop.start_build()
    w.spawn("second", "tender", "run", "--folder", str(w.folder / "second"))
    eventually(lambda: "is here already" in w.log("second"), "the second tender is told who has the machines")
    w.kill("second")
    w.spawn("second", "tender", "run", "--folder", str(w.folder / "tender"))
    eventually(lambda: w.processes["second"].poll() is not None, "a second tender in one folder ends at once")
    shop.assertIn("tender that runs already", w.log("second"))
    w.processes.pop("second")
    shop.made(build)
    return "refused with the host and process that has them; the build never noticed; hash right"


def _bad_talk(shop: Shop, w: World, lot: random.Random, points: int) -> str:
    build = shop.start_build()
    headers = {"Authorization": f"Bearer {w.tender_key}"}
    url = w.address.replace("http", "ws") + "/api/tender"
    slow = [socket.create_connection(("127.0.0.1", w.port)) for _ in range(100 * points)]
    try:
        for s in slow:
            s.sendall(b"GET /api/machines HTTP/1.1\r\nHost: x\r\nX-Slow: ")
        messages: list[str | bytes] = ["", "{", "[1,2]", '{"kind":"event"}', b"\x00\xff", "x" * 100_000]
        hello = Hello(tender="tender", epoch="somebody else").model_dump_json()
        for message in [*messages, hello]:
            with connect(url, additional_headers=headers, proxy=None) as talk, contextlib.suppress(Exception):
                talk.send(message)
                talk.recv(5)
                talk.recv(5)
        began = time.monotonic()
        shop.assertTrue(all(m.reachable for m in w.machines()))
        took = time.monotonic() - began
    finally:
        for s in slow:
            s.close()
    shop.made(build)
    return f"{len(slow)} half-sent requests held open, {len(messages) + 1} malformed messages; others answered in {took:.2f} s"


def _tender_away(shop: Shop, w: World, lot: random.Random, points: int) -> str:
    builds = [shop.start_build(name) for name in ("Anchor", "Bezel")]
    w.kill("service", signal.SIGKILL)
    began = w.clock.now()
    for build in builds:
        eventually(lambda: w.standin(build.machine)["taken"] == COMMANDS, f"{build.machine} ends its build", 90)  # noqa: B023
    hour = 3600 / w.rate if points > 1 else 1
    until = w.clock.monotonic_s() + hour
    eventually(lambda: w.clock.monotonic_s() > until, "the service stays away", hour + 30)
    away = (w.clock.now() - began).total_seconds() / 60
    w.start_service()
    eventually(lambda: all(m.reachable for m in w.machines()), "the tender is back")
    for build in builds:
        shop.made(build)
        ended = w.client.do(requests.build(build.id)).ended_at
        assert ended is not None
        shop.assertLess(ended, w.clock.now() - (w.clock.now() - began) * 0.2, "events keep their own times")
    return f"{away:.0f} min of shop time away; all events once, in order, with their own times; every hash right"


def _watchdog(shop: Shop, w: World, lot: random.Random, points: int) -> str:
    build = shop.start_build()
    w.client.do(requests.pause(build.id))
    shop.assertGreater(w.standin("Anchor")["nozzle_asked_c"], 0)
    w.kill("tender", signal.SIGKILL)
    shop.cold("Anchor")
    shop.assertIn("nobody talks", w.standin("Anchor")["halted"])
    w.start_tender()
    shop.failed(build, "")
    for name in w.names:
        shop.clear(name)
    return "the machine's own watch, asked for at first contact, turned its heaters off"


def _reset(shop: Shop, w: World, lot: random.Random, points: int) -> str:
    for (at,) in shop.points(lot, points, each=1):
        build = shop.start_build("Bezel")
        w.taken("Bezel", at)
        w.fault("Bezel", "reset")
        shop.failed(build, "restarted itself")
    return f"{points} resets; each build failed saying so, heaters off"


def _heater(shop: Shop, w: World, lot: random.Random, points: int) -> str:
    build = shop.start_build()
    w.fault("Anchor", "heater-dead", part="nozzle")
    shop.paused(build, "nozzle")
    eventually(lambda: w.standin("Anchor")["nozzle_asked_c"] == 0, "the nozzle is off")
    w.fault("Anchor", "heal")
    _resume(w, build)
    shop.made(build)
    return "paused with the reason, heater off; completed once it was mended; hash right"


def _stored_tender(shop: Shop, w: World, lot: random.Random, points: int) -> str:
    for build_points in shop.points(lot, points):
        build = shop.start_build("Pallet", at_least=20)
        for at in build_points:
            w.taken("Pallet", at)
            w.kill("tender", signal.SIGKILL)
            w.start_tender()
        shop.made(build)
    return f"{points} kills; the machine ran on; every hash right"


def _stored_broker(shop: Shop, w: World, lot: random.Random, points: int) -> str:
    assert w.broker is not None
    for build_points in shop.points(lot, points):
        build = shop.start_build("Pallet", at_least=20)
        for at in build_points:
            w.taken("Pallet", at)
            w.broker.stop()
            w.taken("Pallet", min(COMMANDS, at + 40))
            w.broker.start()
        shop.made(build)
    return f"{points} kills; the machine ran on and told afterwards; every hash right"


def _stored_piece(shop: Shop, w: World, lot: random.Random, points: int) -> str:
    big = LONG + f"; {lot.random()}\n" + ("; " + "y" * 80 + "\n") * 12_000
    w.add_file("big.gcode", big)
    shop.clear("Pallet")
    before = w.standin("Pallet")["pieces"]
    w.fault("Pallet", "damage-piece")
    job = w.submit("big.gcode", machine="Pallet")
    build = w.build_of(job)
    eventually(lambda: w.standin("Pallet")["pieces"] > before + 3, "the file is on its way")
    w.fault("Pallet", "link-cut", value=1)
    w.until("Pallet", MachineState.UNCLEARED, 90)
    standin = w.standin("Pallet")
    shop.assertEqual(standin["sha256"], executed_sha256(LONG))
    sent = standin["pieces"] - before
    needed = len(big) // 65536 + 1
    shop.assertLessEqual(sent, 2 * needed + 8, "after the cut it went on, it was not sent from the beginning")
    w.client.do(requests.verdict(build.id, Verdict.GOOD))
    return f"{sent} pieces for a file of {needed}, one damaged on its way and the link cut once; run only once whole"


def _planned(w: World, build: Build) -> bool:
    """Plan a pause before the third layer, which comes however slow this computer is; False while the machine has not
    begun."""
    try:
        w.client.do(requests.pause_before(build.id, 3))
    except RefusedByService as error:
        if error.problem.status != 409 or "ended" in str(error):
            raise
        return False
    return True


def _dialects(shop: Shop, w: World, lot: random.Random, points: int) -> str:
    """A build in each way of speaking, with a pause, an adjustment and damage; and one that a restart ends."""
    names = [dialect.name for dialect in DIALECTS]
    tried = names if points >= len(names) else lot.sample(names[1:], points)
    try:
        for name in tried:
            shop.clear("Anchor")
            w.fault("Anchor", "dialect", text=name)
            build = w.build_of(w.submit("long.gcode", machine="Anchor"))
            eventually(lambda build=build: _planned(w, build), "a pause is planned")  # type: ignore[misc]
            w.fault("Anchor", "corrupt", value=0.01)
            shop.paused(build, "asked for before layer 3")
            w.client.do(requests.act("Anchor", Adjust(speed_pct=10)))  # the rest lasts, however slow this computer is
            _resume(w, build)
            w.client.do(requests.act("Anchor", Adjust(fan_pct=40, speed_pct=100)))
            w.until("Anchor", MachineState.UNCLEARED, 120)
            w.fault("Anchor", "heal")
            shop.made(build)
            build = shop.start_build()
            w.fault("Anchor", "reset")
            shop.failed(build, "restarted itself")
    finally:
        w.fault("Anchor", "heal")
        w.fault("Anchor", "dialect", text="plain")
    return f"{len(tried)} ways of speaking ({', '.join(tried)}): every hash right, each restart told"


def _late(shop: Shop, w: World, lot: random.Random, points: int) -> str:
    """Nothing is lost, and every line is late: what is paused and gone on with is still run once."""
    few = squares(layers=1, rounds=3)
    w.add_file("few.gcode", few)
    shop.clear("Anchor")
    w.fault("Anchor", "late", value=0.4)
    try:
        job = w.submit("few.gcode", machine="Anchor")
        build = w.build_of(job)
        eventually(lambda: shop.fed(build, 5), "some of it is fed", 120)
        w.client.do(requests.pause(build.id))
        shop.paused(build, "")
        _resume(w, build)
        w.until("Anchor", MachineState.UNCLEARED, 240)
    finally:
        w.fault("Anchor", "heal")
    standin = w.standin("Anchor")
    shop.assertEqual((standin["taken"], standin["sha256"]), (len(commands(few)), executed_sha256(few)))
    ended = w.client.do(requests.build(build.id))
    shop.assertEqual((ended.outcome, ended.reason), (Outcome.COMPLETED, ""))
    return (
        f"{standin['taken']} commands with each line and answer late by up to 0.4 s; run once and in order; hash right"
    )


def _last_words(shop: Shop, w: World, lot: random.Random, points: int) -> str:
    for words in ("", "the left motor has given up")[: max(1, points)]:
        build = shop.start_build()
        w.fault("Anchor", "kill", text=words)
        shown = w.until("Anchor", MachineState.DOWN, 90)
        for said in [words] if words else ["Thermal Runaway", "kill() called"]:
            shop.assertIn(said, shown.reason)
        ended = w.client.do(requests.build(build.id))
        shop.assertEqual(ended.outcome, Outcome.FAILED)
        w.fault("Anchor", "reset")
        eventually(lambda: w.standin("Anchor")["last_line"] == 0, "it has power again")
        time.sleep(1)  # what a restart would make of it has happened by then
        shop.assertEqual((w.state("Anchor"), w.machine("Anchor").reason), (MachineState.DOWN, shown.reason))
        shop.clear("Anchor")
    return "down at once with all that was said; still so after the power came back"


def _asks(shop: Shop, w: World, lot: random.Random, points: int) -> str:
    build = shop.start_build()
    w.fault("Anchor", "asks-for-hands")
    shop.paused(build, "waits for somebody")
    _resume(w, build)
    shop.made(build)
    w.fault("Anchor", "dialect", text="asking")
    build = shop.start_build()
    w.fault("Anchor", "asks-for-hands")
    shop.paused(build, "the machine asks: Spool (Continue)")
    told = eventually(lambda: (h := w.machine("Anchor").hands) and h.choices and h, "its choices are shown")
    shop.assertEqual((told.question, told.choices), ("Spool", ["Continue"]))
    w.client.do(requests.act("Anchor", AnswerPrompt(0)))
    shop.made(build)
    w.fault("Anchor", "dialect", text="plain")
    return "shown as paused with what it says or asks; told to go on, or answered, it did; hash right"


def _unheard(shop: Shop, w: World, lot: random.Random, points: int) -> str:
    for _ in range(points):
        build = shop.start_build("Bezel", at_least=2)
        w.fault("Bezel", "reset-unheard")
        shop.failed(build, "restarted itself")
        ran = w.http.get("/machines/Bezel/executed").text.splitlines()
        shop.assertEqual(ran, commands(LONG)[: len(ran)], "nothing is fed again")
    return (
        f"{points} restarts that were not told, at the file's beginning; each seen by its count; nothing was fed again"
    )


ROWS = (
    Row("service", "service, kill -9", "at random points of a build", "the build never notices; nothing told is lost", 10, _killed("service", _start_service)),
    Row("tender", "tender, kill -9", "at random points of a build", "the new one learns from the machine where it stands, and goes on", 10, _killed("tender", World.start_tender), quick=2),
    Row("database", "MariaDB, kill -9", "at random points of a build", "the build never notices; requests are answered 503 with when to come back", 10, _database),
    Row("machine", "machine, power off and on", "at random points of a build", "the build fails with the true reason; not one line is run again from the beginning", 10, _standin),
    Row("reset", "machine, restarts itself", "at random points of a build", "the build fails with the true reason, heaters off", 5, _reset),
    Row("unheard", "machine, restarts itself and does not say so", "at the beginning of a build", "seen by its count; nothing is fed again", 5, _unheard),
    Row("last-words", "machine, reports a fault and never speaks again", "in mid-build, and power off and on after it", "down at once, with all it said; so it stays", 2, _last_words, quick=2),
    Row("asks", "machine, pauses itself and waits for a person", "in mid-build", "shown as paused; goes on when told to", 1, _asks),
    Row("dialects", "a machine that speaks otherwise, its wire damages 1 % of lines", "paused, resumed, adjusted; then restarted", "the build completes; the restart is told", len(DIALECTS), _dialects),
    Row("late", "each line and answer late by up to 0.4 s", "all through a build, with a pause", "run once and in order", 1, _late),
    Row("cut-short", "link cut for 1 s", "twice a build", "the build goes on with the very next line", 6, _cut(1), quick=2),
    Row("cut-long", "link cut for 30 s", "in mid-build", "shown offline, then the build goes on", 2, _cut_long, quick=0),
    Row("cut-for-good", "link cut for good", "in mid-build", "shown offline; no heater stays on", 1, _cut_for_good, quick=0),
    Row("lines-1", "1 % of lines damaged, both ways", "from mid-build on", "the build completes", 3, _damaged("corrupt", 0.01, "made"), quick=0),
    Row("bytes-1", "1 % of bytes damaged, both ways", "from mid-build on", "too bad for an eight-bit checksum: paused with that reason", 3, _damaged("corrupt-bytes", 0.01, "paused")),
    Row("bytes-10", "10 % of bytes damaged, both ways", "from mid-build on", "too bad for an eight-bit checksum: paused with that reason", 3, _damaged("corrupt-bytes", 0.10, "paused"), quick=0),
    Row("disk", "the tender's disk is full", "in mid-build, for a pause and a resume", "people are told; the build goes on; no event is lost", 2, _full_disk),
    Row("camera", "a camera hangs, also in mid-frame, sends 50 MB, garbage, a redirect to itself, an endless header, half a picture", "all through a build", "it is told why; the feeding and the other cameras do not notice", len(CAMERA_FAULTS), _camera),
    Row("frames-disk", "the disk of the tender's cameras is full, then the service's", "in mid-build", "people are told; frames stop or wait, the build goes on", 1, _frames_disk),
    Row("film-killed", "service, kill -9", "while a film is made", "it is made afterwards", 2, _film_killed, quick=1),
    Row("films-disk", "the disk of the service takes no film", "while a film is made", "people are told; films wait, builds go on", 1, _films_disk),
    Row("many-look", "200 people look at one camera", "all through a build", "one connection to the camera; the build and everybody else do not notice", 1, _many_look),
    Row("two-tenders", "a second tender of the same name, and one in the same folder", "in mid-build", "refused with who has the machines", 1, _two_tenders),
    Row("bad-talk", "half-sent requests held open, malformed WebSocket messages", "in mid-build", "everybody else is answered", 3, _bad_talk),
    Row("away", "the service away", "for an hour of shop time, over the end of two builds", "all events arrive once, in order, with their own times", 2, _tender_away),
    Row("watchdog", "tender killed and not started again", "while a build stands paused, hot", "the machine turns its own heaters off", 1, _watchdog),
    Row("clock", "the computer's clock jumps by an hour", "forward and back, all through a build", "time runs on evenly: no alarm, no pause", 4, _clock),
    Row("heater", "a heater dies", "in mid-build", "paused with the reason, heater off", 1, _heater),
    Row("stored-tender", "tender, kill -9, of a machine that runs files itself", "at random points of a build", "the build is followed again", 10, _stored_tender),
    Row("stored-broker", "MQTT broker, kill -9", "at random points of a build", "the build is followed again", 10, _stored_broker, quick=0),
    Row("stored-piece", "a piece of a file damaged, and the link cut", "while a file is on its way", "sent on from where it was; run only once its hash is right", 1, _stored_piece),
)  # fmt: skip

SEED = int(os.environ.get("CHRONARCH_FAULTS_SEED", "20261019"))
