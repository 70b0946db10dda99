"""Fills an empty service with the demo shop: models, machines, files, the past, and the first jobs."""

from __future__ import annotations

import asyncio
import tempfile
from collections.abc import Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from dataclasses import replace
from datetime import datetime, timedelta
from pathlib import Path
from random import Random

from sqlalchemy import insert, select, update
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.client import Client, RefusedByService, requests
from chronarch.core.control import actions as hands
from chronarch.core.ledger.intervals import OPEN_END
from chronarch.core.machines.materials import grams
from chronarch.core.machines.plugs import PowerRules
from chronarch.core.machines.states import BuildState, Intake, MachineState
from chronarch.core.machines.tools import Tool
from chronarch.core.orders.requirement import Requirement
from chronarch.core.planning.eligibility import JobNeed
from chronarch.core.watching.watch_rules import WatchScope
from chronarch.demo.history import MadeUpPast, PastFile, make_past
from chronarch.demo.shop import (
    AT_ONCE,
    CAMERAS,
    FIRMWARE,
    FOLDERS,
    GO_OFF,
    GOES_OFF,
    HANDOVER,
    HOURS,
    IN_THE_MORNING,
    LEFT,
    MACHINES,
    MAIL_FROM,
    MAIL_TO,
    MATERIAL,
    MODELS,
    ORDERS,
    PARTS,
    PAST,
    PLANNING,
    PLUGS,
    PRICES,
    QUEUE,
    SOCKETS,
    SPARES,
    THE_WEEK,
    WATCH,
    WATCHING,
    file_name,
)
from chronarch.demo.slicer import slice_part
from chronarch.demo.upkeep import add_upkeep
from chronarch.records import tables as t
from chronarch.records.database import make_engine, make_sessions
from chronarch.records.ledger import energy
from chronarch.records.ledger.intervals import rebuild_days
from chronarch.records.ledger.stops import keep_all_stops
from chronarch.records.orders.build_layers import packed
from chronarch.records.system.storage import keep_day
from chronarch.standins.picture import lens_of
from chronarch.wire.gcode import WirePlan
from chronarch.wire.library import File
from chronarch.wire.machines import machine as w
from chronarch.wire.machines import power as wp
from chronarch.wire.machines import spools as ws
from chronarch.wire.notices import channels as wn
from chronarch.wire.upkeep.fleet_state import FirmwareWish
from chronarch.wire.watching import cameras as wc

USUAL_W, IDLE_W = {MachineState.BUILDING: 92.0, MachineState.WARMING: 260.0, MachineState.PAUSED: 70.0}, 6.5
"""What machines on plugs drew in the past, W."""
DAYS = 21
DAYS_MEASURED = 20
"""How many days back it is known what took the disk."""
LIFTED_MM = 120.0
BY = "Maud"
NOTES = {
    "warped": "The corner by the door again: draught?",
    "shift": "Belt felt loose; tightened a quarter turn.",
    "stringing": "Spool had been open for a week; dried it overnight.",
}
"""What was written beside scrap, by a word of why it was scrap."""


def add_files(client: Client) -> dict[str, File]:
    """Slice the parts and add them, by part."""
    added = {}
    with tempfile.TemporaryDirectory() as folder:
        for part in PARTS:
            path = Path(folder) / file_name(part)
            with path.open("w") as out:
                out.writelines(f"{line}\n" for line in slice_part(part, material=MATERIAL.get(part.name, "PLA")))
            added[part.name] = client.add_file(path, folder=FOLDERS.get(part.name, "")).file
    return added


def add_models(client: Client) -> None:
    for model in MODELS:
        client.do(requests.add_model(model))


def add_machines(client: Client, links: dict[str, str]) -> None:
    """Add machines of the models, each with its link. None starts anything by itself before `open_intake`."""
    for m in MACHINES:
        tool = Tool(nozzle_mm=m.nozzle_mm, hardened=m.hardened, material=m.material, colour=m.colour)
        order = {
            "name": m.name,
            "model": m.model,
            "link": links[m.name],
            "intake": Intake.MANUAL,
            "tools": [tool],
            "site": m.site,
            "place": m.place,
            "pools": list(m.pools),
            "tags": list(m.tags),
        }
        client.do(requests.add_machine(w.NewMachine.model_validate(order)))


def add_cameras(client: Client, addresses: dict[str, str]) -> None:
    """Add the shop's cameras; `addresses` are the beginnings of their addresses, by their kind."""
    for c in CAMERAS:
        login, _, password = c.login.partition(":")
        address = f"{addresses[c.kind]}{c.path}"
        asked = wc.NewCamera(
            name=c.name, machine=c.machine, site=c.site, place=c.place, tender="tender", address=address, login=login,
            password=password,
        )  # fmt: skip
        client.do(requests.add_camera(asked))


def add_plugs(client: Client, addresses: dict[str, str]) -> None:
    """Hang machines on the shop's plugs; `addresses` are the beginnings of their addresses, by their kind."""
    kinds = {profile.name: profile.kind for profile in SOCKETS}
    for profile in SOCKETS:
        client.do(requests.set_plug_profile(profile))
    for machine, make in PLUGS.items():
        rules = GO_OFF if machine in GOES_OFF else PowerRules()
        address = f"{addresses[kinds[make]]}/{machine}"
        client.do(requests.add_plug(wp.NewPlug(machine=machine, address=address, profile=make, rules=rules)))


def past_until(files: dict[str, File], end: datetime) -> MadeUpPast:
    """The three weeks before `end`, from the midnight they begin with."""
    begin = (end - timedelta(days=DAYS)).replace(hour=0, minute=0, second=0, microsecond=0)
    past_files = [
        PastFile(
            file_name(p),
            files[p.name].reading.planned_s,
            JobNeed(Requirement(material=MATERIAL.get(p.name, "PLA"))),
        )
        for p in PARTS
        if p.name in PAST
    ]
    return make_past(past_files, begin, end)


def add_past(database: str, files: dict[str, File], now: datetime) -> None:
    """Write the shop's past into the records, up to where each machine's ledger begins."""
    asyncio.run(_add_past(database, files, now))


async def _add_past(database: str, files: dict[str, File], now: datetime) -> None:
    by_name = {f.name: f for f in files.values()}
    engine = make_engine(database)
    async with make_sessions(engine)() as db:
        machines = {m.name: m for m in (await db.execute(select(t.Machine))).scalars()}
        past = past_until(files, min(m.since for m in machines.values()))
        begin = min(i.begin for entries in past.ledgers.values() for i in entries)
        await db.execute(update(t.File).values(added_at=begin, added_by=BY))
        await db.execute(update(t.Revision).values(added_at=begin, added_by=BY))
        jobs = []
        for file, copies, created in past.jobs:
            needs = {"material": file.need.requirement.material}
            job = t.Job(
                file_id=by_name[file.name].id, copies=copies, requirement=needs, created_at=created, created_by=BY
            )
            db.add(job)
            jobs.append(job)
        await db.flush()
        rows = []
        for b in past.builds:
            f = by_name[b.file.name]
            row = t.Build(
                job_id=jobs[b.job - 1].id,
                copy_number=b.copy,
                machine_id=machines[b.machine].id,
                file_id=f.id,
                revision=1,
                sha256=f.sha256,
                state=BuildState.ENDED,
                outcome=b.outcome,
                reason=b.reason,
                claimed_at=b.claimed,
                started_at=b.started,
                ended_at=b.ended,
                cleared_at=b.cleared,
                verdict=b.verdict,
                scrap_reason=b.scrap_reason,
                judged_by=BY,
                commands=f.reading.commands,
                acknowledged=round(f.reading.commands * b.share),
                planned_s=f.reading.planned_s,
                grams=grams(b.file.need.requirement.material, sum(f.reading.filament_mm.values()) * b.share),
            )
            db.add(row)
            rows.append(row)
        await db.flush()
        await _add_details(db, past, rows, machines)
        good = {(b.job, b.copy) for b in past.builds if b.verdict == "good"}
        for number, (_, copies, _) in enumerate(past.jobs, 1):
            made = sum((number, copy) in good for copy in range(1, copies + 1))
            jobs[number - 1].withdrawn = made < copies
        for name, entries in past.ledgers.items():
            machine = machines[name]
            await db.execute(
                insert(t.Ledger),
                [
                    {
                        "machine_id": machine.id,
                        "state": i.state,
                        "begin_at": i.begin,
                        "end_at": machine.since if i.end == OPEN_END else i.end,
                        "build_id": None if i.build is None else rows[i.build].id,
                        "reason": i.reason,
                    }
                    for i in entries
                ],
            )
        for name in PLUGS:
            for i in past.ledgers[name]:
                end = machines[name].since if i.end == OPEN_END else i.end
                build = None if i.build is None else rows[i.build].id
                wh = USUAL_W.get(i.state, IDLE_W) * (end - i.begin) / timedelta(hours=1)
                await energy.add(db, machines[name].id, i.begin, end, i.state, build, wh)
        await db.commit()
        for machine in machines.values():
            await rebuild_days(db, machine.id)
        await keep_all_stops(db)
        await db.commit()
        await add_upkeep(db, begin, now)
    await engine.dispose()


async def _add_details(
    db: AsyncSession, past: MadeUpPast, rows: Sequence[t.Build], machines: Mapping[str, t.Machine]
) -> None:
    """Say with what builds were made, how long their layers took, and what Maud wrote beside some."""
    random = Random(1911)
    found = await db.execute(
        select(t.ContentReading.sha256, t.Model.id, t.ContentReading.plan).join(
            t.Model, t.Model.name == t.ContentReading.model
        )
    )
    plans = {(sha256, model): WirePlan.model_validate(plan).core() for sha256, model, plan in found}
    for b, row in zip(past.builds, rows, strict=True):
        machine = machines[b.machine]
        for tool in machine.tools:
            use = {"material": tool["material"], "colour": tool["colour"], "nozzle_mm": tool["nozzle_mm"]}
            db.add(t.BuildUse(build_id=row.id, tool=tool["number"], grams=row.grams, **use))
        plan = plans[row.sha256, machine.model_id]
        laid = round(len(plan.layers) * b.share)
        pace = next(m.pace for m in MACHINES if m.name == b.machine)
        took = [plan.layer_s(n + 1) * pace * random.gauss(1.0, 0.015) for n in range(laid)]
        if took and b.reason:
            took[random.randrange(len(took))] *= 2.5
        db.add(t.BuildLayers(build_id=row.id, seconds=packed(took)))
        for word, said in NOTES.items():
            if word in b.scrap_reason and random.random() < 0.5:
                row.note = said
                db.add(t.BuildTag(build_id=row.id, tag="look at it"))


def set_up(client: Client) -> None:
    """Set the hours, how the shop plans, and its spools."""
    client.do(requests.set_hours(HOURS))
    client.do(requests.change_planning(PLANNING))
    client.do(requests.change_watching(WATCHING))
    client.do(requests.set_watch_rule(WatchScope.SHOP, "0", WATCH))
    for price in PRICES:
        client.do(requests.set_cost_rate(price))
    for model in {m.model for m in MACHINES}:
        client.do(requests.want_firmware(FirmwareWish(model=model, firmware=FIRMWARE)))
    for m in MACHINES:
        wish = ws.NewSpool(material=m.material, colour=m.colour, grams_left=LEFT[m.name])
        client.do(requests.load_spool(client.do(requests.add_spool(wish)).id, m.name))
    for material, colour, grams_left in SPARES:
        wish = ws.NewSpool(material=material, colour=colour, grams_left=grams_left, place="rack by the door")
        client.do(requests.add_spool(wish))


def tell_people(client: Client, login: str, address: str, smtp_port: int, standins_port: int) -> None:
    """Have notices reach somebody by mail, and the office's programs by a webhook: both stand in."""
    server = wn.MailServer(host="127.0.0.1", port=smtp_port, security="none", sender=MAIL_FROM)
    change = wn.NoticeSettingsUpdate(address=address, local_webhooks=True, mail=server)
    client.do(requests.change_notice_settings(change))
    mail = client.do(
        requests.add_channel(wn.NewChannel(person=login, kind=wn.ChannelKind.MAIL, name="work mail", address=MAIL_TO))
    )
    for rule in client.do(requests.notice_rules()):
        if mail.id in rule.rule.channels:
            client.do(requests.change_notice_rule(rule.id, replace(AT_ONCE, channels=(mail.id,))))
    client.do(requests.add_notice_rule(replace(IN_THE_MORNING, channels=(mail.id,)), login))
    office = f"http://127.0.0.1:{standins_port}/hooks/office"
    client.do(
        requests.add_channel(wn.NewChannel(person="", kind=wn.ChannelKind.WEBHOOK, name="office", address=office))
    )
    week = client.do(requests.add_report_plan(THE_WEEK.model_copy(update={"to": [login]})))
    client.do(requests.add_report_plan(HANDOVER.model_copy(update={"to": [login]})))
    now = client.do(requests.shop()).now
    for weeks in (2, 1, 0):
        client.do(requests.send_report(week.id, now - timedelta(weeks=weeks)))


def lift_heads(client: Client) -> bool:
    """Home all machines and lift their heads, so that their cameras see the whole bed, and it is known where the heads
    are. Returns whether all are lifted; those that cannot be moved yet are for the next time."""

    def lift(m: w.Machine) -> bool:
        if m.hands.position_mm is None:
            with suppress(RefusedByService):
                client.do(requests.act(m.name, hands.Home()))
                client.do(requests.act(m.name, hands.Move(z=LIFTED_MM)))
            return False
        return True

    machines = client.do(requests.machines())
    with ThreadPoolExecutor(len(MACHINES)) as pool:
        return all(pool.map(lift, machines))


def mark_beds(client: Client) -> bool:
    """Mark the bed's corners in the picture of each machine's first camera. Returns whether all are marked; those that
    have given no picture yet, or whose head has just moved, are for the next time."""
    volume = {m.name: m.volume_mm for m in MODELS}
    waiting = [m for m in client.do(requests.watch_standing()).machines if not m.watching]
    for one in waiting:
        x, y, _ = volume[next(m.model for m in MACHINES if m.name == one.machine)]
        with suppress(RefusedByService):
            client.do(requests.mark_corners(one.camera, lens_of((x, y), "front").corners((x, y))))
    return not waiting


def open_intake(client: Client) -> None:
    """Have all machines take work by themselves: what each begins with follows from one plan for all of them."""
    for m in MACHINES:
        client.do(requests.change_machine(m.name, intake=Intake.OPEN))


def take_orders(client: Client) -> None:
    """Add the orders in work, and the shop's own jobs."""
    for order in ORDERS:
        client.do(requests.make_order(order))
    for job in QUEUE:
        client.do(requests.submit(job))


def remember_storage(client: Client, database: str) -> None:
    """What took the disk on the days before, as if it had been measured: a little less each day."""
    shown = client.do(requests.storage())
    today = client.do(requests.shop()).now.date()

    async def go() -> None:
        engine = make_engine(database)
        async with make_sessions(engine)() as db:
            for back in range(1, DAYS_MEASURED):
                parts = {one.part.value: round(one.size * (1 - back / (2 * DAYS_MEASURED))) for one in shown.parts}
                await keep_day(db, today - timedelta(days=back), parts, today - timedelta(days=DAYS_MEASURED))
            await db.commit()
        await engine.dispose()

    asyncio.run(go())
