"""The service put together: `make_app` gives the ASGI application. This module alone knows all parts."""

from __future__ import annotations

import asyncio
import contextlib
import gc
import logging
import sys
import warnings
from collections.abc import AsyncIterator
from functools import partial
from pathlib import Path

from fastapi import FastAPI, HTTPException, Request
from fastapi.responses import FileResponse
from fastapi.routing import APIRoute
from fastapi.staticfiles import StaticFiles
from pydantic.warnings import UnsupportedFieldAttributeWarning
from sqlalchemy.exc import SQLAlchemyError
from starlette.responses import Response

from chronarch import __version__
from chronarch.core.clock import parse_clock
from chronarch.records.database import make_engine, make_sessions
from chronarch.service.access import auditing
from chronarch.service.access import routes as access_routes
from chronarch.service.access.auditing import Auditing
from chronarch.service.access.first_run import FirstRun
from chronarch.service.access.passkeys import Passkeys
from chronarch.service.access.second_factors import SecondFactors
from chronarch.service.access.sign_in import SignInGuard
from chronarch.service.audit_log import AuditLog
from chronarch.service.background import Background
from chronarch.service.changes import Changes
from chronarch.service.config import Config
from chronarch.service.context import ServiceContext, ShopName
from chronarch.service.control import routes as control_routes
from chronarch.service.control import tender_socket
from chronarch.service.control.tender_socket import TenderRoom
from chronarch.service.http import errors, open_connections, openapi
from chronarch.service.http.hardening import Hardened
from chronarch.service.http.idempotency import forget_unfinished
from chronarch.service.http.open_connections import OpenConnections
from chronarch.service.http.views import Views
from chronarch.service.ledger import change_points, costs, prover
from chronarch.service.ledger import routes as ledger_routes
from chronarch.service.ledger.change_points import ChangeFinder
from chronarch.service.ledger.costs import CostKeeper
from chronarch.service.ledger.prover import LedgerProver
from chronarch.service.ledger.reporting import reporter
from chronarch.service.ledger.reporting.reporter import Reporter
from chronarch.service.library import hot_folder
from chronarch.service.library import routes as library_routes
from chronarch.service.library.content_facts import ContentFactsCache
from chronarch.service.library.content_store import ContentStore
from chronarch.service.library.drives import Drives
from chronarch.service.library.dropping import Dropping
from chronarch.service.library.intake import UploadIntake
from chronarch.service.library.readers import ContentReaders
from chronarch.service.loop_watch import LoopWatch
from chronarch.service.machines import heat_log
from chronarch.service.machines import routes as machines_routes
from chronarch.service.machines.finding import MachineFinder
from chronarch.service.machines.fleet import Fleet
from chronarch.service.machines.heat_log import HeatLog
from chronarch.service.machines.learned_paces import LearnedPaces
from chronarch.service.machines.machine_list import MachineList
from chronarch.service.notices import deliverer, notice_keeper, notice_router
from chronarch.service.notices import routes as notices_routes
from chronarch.service.notices.act_links import ActLinks
from chronarch.service.notices.acts import NoticeActs
from chronarch.service.notices.channels import chat
from chronarch.service.notices.channels.chat import ChatKeeper, ChatSender
from chronarch.service.notices.channels.chat_line import ChatLine
from chronarch.service.notices.channels.mail import MailSender
from chronarch.service.notices.channels.posting import Poster
from chronarch.service.notices.channels.push import PushSender
from chronarch.service.notices.channels.webhook import WebhookSender
from chronarch.service.notices.chat_answers import ChatAnswers
from chronarch.service.notices.deliverer import Deliverer
from chronarch.service.notices.messages import MessageWriter
from chronarch.service.notices.notice_keeper import NoticeKeeper
from chronarch.service.notices.notice_router import NoticeRouter
from chronarch.service.orders import routes as orders_routes
from chronarch.service.orders.job_views import JobViews
from chronarch.service.orders.order_views import OrderViews
from chronarch.service.orders.outlook import JobOutlook
from chronarch.service.orders.promises import PromiseKeeper
from chronarch.service.planning import dispatcher, power_keeper
from chronarch.service.planning import routes as planning_routes
from chronarch.service.planning.dispatcher import Dispatcher
from chronarch.service.planning.planner import Planner
from chronarch.service.planning.power_keeper import PowerKeeper
from chronarch.service.principals import Callers
from chronarch.service.problems import ApiProblem
from chronarch.service.rounds import hands_calls
from chronarch.service.rounds import routes as rounds_routes
from chronarch.service.rounds.hands_calls import HandsCalls
from chronarch.service.secrets import Secrets
from chronarch.service.system import routes as system_routes
from chronarch.service.system import storage
from chronarch.service.system.backup import keeper as backup_keeper
from chronarch.service.system.backup.keeper import BackupKeeper
from chronarch.service.system.health import HealthCheck
from chronarch.service.system.setup_cameras import SetupCameras
from chronarch.service.system.setup_file import SetupFile
from chronarch.service.system.setup_notices import SetupNotices
from chronarch.service.system.shop_facts import load_shop
from chronarch.service.system.storage import StorageKeeper
from chronarch.service.upkeep import fleet_state, keeper
from chronarch.service.upkeep import routes as upkeep_routes
from chronarch.service.upkeep.fleet_state import FirmwareKeeper
from chronarch.service.upkeep.keeper import UpkeepKeeper
from chronarch.service.upkeep.measuring import OwnChecks
from chronarch.service.watching import (
    bed_watching,
    build_watching,
    camera_socket,
    film_maker,
    frame_keeper,
    looking_socket,
    part_release,
    room_light,
)
from chronarch.service.watching import routes as watching_routes
from chronarch.service.watching.bed_watching import BedWatching
from chronarch.service.watching.build_watching import BuildWatching
from chronarch.service.watching.camera_list import CameraList
from chronarch.service.watching.cameras import Cameras
from chronarch.service.watching.content_folder import FilmStore, FrameStore
from chronarch.service.watching.film_maker import FilmMaker
from chronarch.service.watching.films import Films
from chronarch.service.watching.following import Following
from chronarch.service.watching.frame_keeper import FrameKeeper
from chronarch.service.watching.part_release import PartRelease
from chronarch.service.watching.room_light import RoomLight
from chronarch.service.watching.watch_process import WatchProcess
from chronarch.service.workers import Worker
from chronarch.wire.notices.channels import ChannelKind
from chronarch.wire.system.shop import ShopFacts

warnings.filterwarnings("ignore", category=UnsupportedFieldAttributeWarning)  # FastAPI's own use of aliases for bodies
ROUTES = (
    machines_routes, access_routes, control_routes, watching_routes, library_routes, orders_routes, planning_routes,
    upkeep_routes, rounds_routes, notices_routes, ledger_routes, system_routes,
)  # fmt: skip
CHANGES_EVERY_S = 0.5
COLLECT = (5_000, 10, 100)
"""When garbage is collected: seldom what has lived long, because looking through it holds everybody up. A plan makes
and drops a hundred thousand objects."""
"""How often the change log is read for what another process has changed."""
SWITCH_S = 0.001
"""How long the background computes at most while the event loop waits for its turn."""
PAGES = Path(__file__).parent / "pages"
AT_THE_ROOT = frozenset({"icon.svg", "manifest.webmanifest", "push-worker.js"})
"""Files of the console beside its one page."""
log = logging.getLogger("chronarch.service")


class ServiceParts:
    """All parts of one running service."""

    def __init__(self, config: Config) -> None:
        self.engine, changes = make_engine(config.database), Changes()
        self.context = context = ServiceContext(
            config, parse_clock(config.clock), make_sessions(self.engine, changes.noticed), changes,
            ShopName(ShopFacts(name=config.shop)),
        )  # fmt: skip
        self.fleet = Fleet(context.changes, context.clock.now)
        self.heat_log = HeatLog(context, self.fleet)
        self.store, self.readers = ContentStore(config.blobs), ContentReaders()
        self.intake = UploadIntake(context, self.store, self.readers)
        self.paces = LearnedPaces(context)
        self.connections = OpenConnections(context)
        self.background, self.facts = Background(config.database), ContentFactsCache(context)
        self.planner = Planner(context, self.fleet, self.paces, self.facts)
        self.dispatcher = Dispatcher(context, self.fleet, self.planner)
        self.intake.begin = self.dispatcher.start_job
        self.drives = Drives(context.config.folders)
        self.hot_folders = hot_folder.HotFolders(context, self.intake, self.drives)
        self.dropping = Dropping(context, self.fleet, self.paces, self.intake)
        self.power = PowerKeeper(context, self.fleet, self.planner)
        self.secrets = Secrets(config.secrets_key or config.blobs / "secrets.key")
        self.audit_log = AuditLog(context)
        self.auditing = Auditing(context, self.audit_log, self.secrets)
        self.factors = SecondFactors(context, self.secrets)
        self.passkeys = Passkeys(context, self.factors)
        self.cameras = Cameras(context, self.fleet, self.secrets)
        self.frame_store = FrameStore(config.blobs / "frames")
        self.camera_list = CameraList(context, self.fleet, self.cameras, self.secrets)
        self.keeper = FrameKeeper(context, self.cameras, self.frame_store)
        self.film_store = FilmStore(config.blobs / "films")
        self.film_maker = FilmMaker(context, self.fleet, self.frame_store, self.film_store)
        self.films = Films(context, self.cameras, self.film_maker)
        self.light = RoomLight(context, self.fleet, self.cameras)
        self.watch_process = WatchProcess()
        following = Following(context, self.fleet, self.store, self.readers)
        self.watching = BuildWatching(
            context, self.fleet, self.cameras, self.store, self.frame_store, self.watch_process, following
        )
        self.beds = BedWatching(context, self.fleet, self.cameras, self.watching, self.frame_store, self.watch_process)
        self.release = PartRelease(context, self.fleet, self.beds)
        self.watch = LoopWatch(context.clock)
        acts = NoticeActs(context, self.fleet, self.store, self.readers)
        self.links = ActLinks(context, acts, self.secrets)
        poster = Poster()
        self.pushing = PushSender(context.clock, self.secrets, poster)
        self.chat = ChatLine(context.shop, ChatAnswers(context, self.fleet, self.planner, acts, self.audit_log).answer)
        self.chat_keeper = ChatKeeper(context, self.secrets, self.chat)
        chatting = ChatSender(self.secrets, self.chat)
        mails = MailSender(context.clock, self.secrets)
        self.router = NoticeRouter(context, self.fleet, changes.watch("notices", "notice-rules", "channels"))
        self.deliverer = Deliverer(
            context, MessageWriter(context, self.fleet, self.frame_store, self.links), self.secrets,
            {
                ChannelKind.MAIL: mails,
                ChannelKind.WEBHOOK: WebhookSender(context.clock, poster),
                ChannelKind.PUSH: self.pushing, ChannelKind.CHAT: chatting, ChannelKind.ROOM: chatting,
            },
            changes.watch("deliveries", "channels"),
        )  # fmt: skip
        self.hands = HandsCalls(context, self.fleet, self.planner)
        self.jobs = JobViews(self.planner, self.facts, PromiseKeeper(self.planner))
        self.orders = OrderViews(context, self.fleet, self.jobs)
        self.prover = LedgerProver(context, self.fleet, self.background)
        self.changed = ChangeFinder(context, self.fleet, self.background)
        self.costs = CostKeeper(context, self.fleet, self.background)
        self.reporter = Reporter(context, self.fleet, mails)
        self.upkeep = UpkeepKeeper(context, self.fleet, self.background, OwnChecks(context))
        self.firmware = FirmwareKeeper(context, self.fleet)
        self.backups = BackupKeeper(context, self.secrets)
        self.setup_file = SetupFile(
            context, self.fleet, self.backups, SetupCameras(self.fleet, self.camera_list),
            SetupNotices(context, self.secrets),
        )  # fmt: skip
        self.storage = StorageKeeper(context, self.fleet, self.store, self.background, self.backups)
        self.finder = MachineFinder(context, self.fleet)
        self.guard = SignInGuard()
        self.first = FirstRun(context, self.guard)
        self.health = HealthCheck(context, self.fleet, self.watch, self.prover, self.backups)
        self.notices = NoticeKeeper(context, self.fleet, self.planner, self.orders, self.health.troubles)
        self.workers = self.health.workers = self._workers()

    def parts(self) -> dict[type, object]:
        """By type: what a route may ask for."""
        room = TenderRoom(
            self.context, self.fleet, self.paces, self.heat_log, self.connections, self.films.begin, self.secrets
        )
        views = Views(self.context, self.background)
        machines = MachineList(self.context.changes, self.fleet, views)
        several = (
            self.context, Callers(self.context), self.background, views, self.facts, self.jobs, self.orders,
            self.fleet, machines,
            self.store, self.readers, self.intake, self.paces, self.connections, self.planner, self.dispatcher,
            self.guard, self.first, room, self.health, self.secrets, self.cameras, self.camera_list, self.keeper,
            self.frame_store, self.film_store, self.film_maker, self.films, self.watching, self.beds,
            self.watch_process, self.prover, self.changed, self.upkeep, self.backups, self.reporter, self.links,
            self.links.acts, self.router, self.deliverer, self.pushing, self.chat, self.setup_file, self.finder,
            self.drives, self.hot_folders, self.dropping, self.storage, self.factors, self.passkeys,
            self.audit_log, self.auditing,
        )  # fmt: skip
        return {**{type(one): one for one in several}, JobOutlook: self.planner}

    def _workers(self) -> list[Worker]:
        """What goes on for as long as the service runs."""
        changes, worker = self.context.changes, partial(Worker, now=self.context.clock.real_now)
        lapsed = self.connections.wanted
        return [
            worker("change log", partial(changes.read, self.context.sessions), CHANGES_EVERY_S, changes.unread),
            worker(
                "dispatch",
                self.dispatcher.run_once,
                dispatcher.LOOK_EVERY_S,
                self.dispatcher.wanted,
                acts_as="the plan",
            ),
            worker("heat log", self.heat_log.write, heat_log.WRITE_EVERY_S),
            worker("reading for models", self.intake.read_missing, None, self.intake.wanted),
            worker("cameras", self.cameras.renew, None, self.cameras.changed),
            worker("part release", self.release.look, part_release.LOOK_EVERY_S, acts_as="part release"),
            worker("kept frames", self.keeper.keep, frame_keeper.AGAIN_S, self.keeper.arrived),
            worker("thinning frames", self.keeper.thin, frame_keeper.THIN_EVERY_S),
            worker("films", self.film_maker.look, film_maker.LOOK_EVERY_S, self.film_maker.wanted),
            worker("power", self.power.look, power_keeper.LOOK_EVERY_S, acts_as="power"),
            worker("watch", self.watching.look, build_watching.LOOK_EVERY_S, acts_as="the watch"),
            worker("ledger proof", self.prover.look, prover.LOOK_EVERY_S),
            worker("what has changed", self.changed.look, change_points.LOOK_EVERY_S),
            worker("costs", self.costs.look, costs.LOOK_EVERY_S, changes.watch("costs", "spools")),
            worker("reports", self.reporter.look, reporter.LOOK_EVERY_S),
            worker("upkeep", self.upkeep.look, keeper.LOOK_EVERY_S, acts_as="upkeep"),
            worker("firmware", self.firmware.look, fleet_state.LOOK_EVERY_S),
            worker(
                "backups",
                self.backups.look,
                backup_keeper.LOOK_EVERY_S,
                changes.watch("backups", "setup"),
                acts_as="backups",
            ),
            worker("clear beds", self.beds.look, bed_watching.LOOK_EVERY_S, acts_as="the watch"),
            worker("notices", self.notices.look, notice_keeper.LOOK_EVERY_S),
            worker("who hears", self.router.look, notice_router.LOOK_EVERY_S, self.router.changed),
            worker("messages", self.deliverer.look, deliverer.LOOK_EVERY_S, self.deliverer.changed),
            worker("what was told", self.deliverer.forget, deliverer.FORGET_EVERY_S),
            worker("chat", self.chat_keeper.look, chat.LOOK_EVERY_S),
            worker("hands at machines", self.hands.look, hands_calls.LOOK_EVERY_S),
            worker("room light", self.light.look, room_light.LOOK_EVERY_S),
            worker("open connections", self.connections.close_lapsed, open_connections.LOOK_EVERY_S, lapsed),
            worker("storage", self.storage.look, storage.LOOK_EVERY_S, acts_as="storage"),
            worker("hot folders", self.hot_folders.look, hot_folder.LOOK_EVERY_S, acts_as="hot folders"),
            worker("audit", self.auditing.look, auditing.LOOK_EVERY_S),
        ]

    async def load_fleet(self) -> None:
        """Read the machines; wait for a database that is still starting."""
        while True:
            try:
                await self.context.changes.begin(self.context.sessions)
                async with self.context.sessions() as db:
                    await self.fleet.load(db)
                    await self.cameras.load(db)
                    await load_shop(db, self.context)
                await self.watching.renew()
                await self.beds.renew()
                await self.upkeep.refresh()
                await self.first.begin()
                return
            except (SQLAlchemyError, OSError) as error:
                log.warning("waiting for the database: %s", str(error).splitlines()[0])
                await asyncio.sleep(1)


def make_app(config: Config) -> FastAPI:
    """The service for this configuration."""

    @contextlib.asynccontextmanager
    async def life(app: FastAPI) -> AsyncIterator[None]:
        service = ServiceParts(config)
        service.auditing.texts = auditing.texts_of(routes)
        service.background.start()
        service.planner.background.start()
        await service.load_fleet()
        app.state.parts = service.parts()
        _prepare(app)
        sys.setswitchinterval(SWITCH_S)
        gc.set_threshold(*COLLECT)
        gc.freeze()
        service.watch.start()
        tasks = [asyncio.create_task(worker.run_forever()) for worker in service.workers]
        await forget_unfinished(service.context)
        await service.intake.resume()
        yield
        service.watch.stop()
        await service.deliverer.close()
        await service.chat.close()
        service.intake.close()
        service.context.changes.close()
        for task in tasks:
            task.cancel()
        service.readers.close()
        service.film_maker.close()
        service.watch_process.close()
        await service.planner.background.close()
        await service.background.close()
        await service.engine.dispose()

    app = FastAPI(
        title="Chronarch",
        version=__version__,
        summary="Runs a print shop's fleet of networked 3D printers.",
        lifespan=life,
        openapi_url=None,
        docs_url=None,
        redoc_url=None,
    )
    routers = [router for module in ROUTES for router in module.routers]
    routes = [r for router in routers for r in router.routes if isinstance(r, APIRoute)]
    errors.install(app, routes)
    openapi.install(app, "/api")
    for router in routers:
        app.include_router(router, prefix="/api")
    for module in (tender_socket, camera_socket, looking_socket):
        app.include_router(module.router)
    _serve_pages(app)
    app.add_middleware(Hardened)
    return app


def _prepare(app: FastAPI) -> None:
    """Work out what each route takes and gives, which would otherwise keep the first request waiting."""
    nowhere = {"type": "http", "method": "GET", "path": "/api/.", "root_path": "", "headers": []}
    for route in app.routes:
        route.matches(nowhere)


def _serve_pages(app: FastAPI) -> None:
    """The console: its files, and its one page for every address that is not the API's."""
    if (PAGES / "assets").is_dir():
        app.mount("/assets", StaticFiles(directory=PAGES / "assets"), name="assets")

    @app.get("/{path:path}", include_in_schema=False)
    async def page(path: str, request: Request) -> Response:
        index = PAGES / "index.html"
        if path.startswith("api/"):
            raise HTTPException(405)  # or 404: whoever answers it looks whether another method is possible
        if not index.exists():
            raise ApiProblem(404, "The console has not been built; run `make console`. The API is at /api.")
        found = PAGES / path if path in AT_THE_ROOT else index
        return FileResponse(found, headers={"Cache-Control": "no-cache"})
