"""A shop's set-up as a file: written from what is set, and applied by changing what differs. Applying one twice changes
nothing the second time."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Awaitable, Callable
from dataclasses import asdict, dataclass, field, replace
from functools import partial
from typing import Annotated, Any

import tomlkit
from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.machines.address import parse_address, without_secrets
from chronarch.core.machines.tools import Tool
from chronarch.records import tables as t
from chronarch.records.machines.materials import load_materials, own_materials
from chronarch.service.context import ServiceContext, part
from chronarch.service.ledger.costs import keep_cost_settings, load_cost_settings
from chronarch.service.ledger.prices import asked_price, set_price
from chronarch.service.machines import setting_up
from chronarch.service.machines.fleet import Fleet, FleetMachine
from chronarch.service.machines.materials import set_material
from chronarch.service.planning.settings import change_planning, keep_hours, load_settings
from chronarch.service.problems import ApiProblem
from chronarch.service.system.backup.keeper import BackupKeeper
from chronarch.service.system.setup_cameras import SetupCameras
from chronarch.service.system.setup_changes import HIDDEN, PlannedChange, as_toml, difference, written
from chronarch.service.system.setup_formats import catalogue_json, machines_csv, read_setup
from chronarch.service.system.setup_notices import SetupNotices
from chronarch.service.system.shop_facts import change_shop, load_shop
from chronarch.wire.common import fill
from chronarch.wire.ledger.costs import NewRate
from chronarch.wire.machines.machine import MachineChange
from chronarch.wire.machines.model import machine_model
from chronarch.wire.planning.settings import PlanningUpdate
from chronarch.wire.system import setup_file as w
from chronarch.wire.system.backups import BackupSettings, BackupSettingsChange
from chronarch.wire.system.shop import ShopChange, ShopFacts

NOZZLE = tuple(w.NozzlePart.model_fields)
HEAD = """\
# The set-up of {shop}: `chronarch setup apply FILE` has a shop be like this. What is left out stays as it is, and
# nothing is removed. Spools, people and passwords are not in it.

"""


@dataclass
class SetupFile:
    """Writes and applies it."""

    context: ServiceContext
    fleet: Fleet
    backups: BackupKeeper
    cameras: SetupCameras
    notices: SetupNotices
    _steps: tuple[Callable[[w.SetupDocument, str], AsyncIterator[PlannedChange]], ...] = field(init=False)

    def __post_init__(self) -> None:
        self._steps = (
            self._shop, self._planning, self._hours, self._materials, self._models, self._machines, self._cameras,
            self._notices, self._prices, self._backups,
        )  # fmt: skip

    # Writing it ---------------------------------------------------------------------------------------------------

    async def text(self, form: w.SetupFormat) -> str:
        """What is set, as a format has it."""
        match form:
            case w.SetupFormat.CSV:
                return machines_csv([_machine(known) for known in self.fleet.all()])
            case w.SetupFormat.JSON:
                async with self.context.sessions() as db:
                    return catalogue_json(await setting_up.all_models(db), await own_materials(db))
        return await self._toml()

    async def _toml(self) -> str:
        """All of it."""
        async with self.context.sessions() as db:
            costs, settings = await load_cost_settings(db), await load_settings(db)
            models, prices = await setting_up.all_models(db), await self._prices_now(db)
            materials = await own_materials(db)
            reach, channels = await self.notices.kept(db)
        kept = _rule(await self.backups.shown_settings())
        facts = self.context.shop.facts
        document = {
            "shop": {**facts.model_dump(), **costs.model_dump()},
            "planning": settings.planning.model_dump(),
            "hours": [written(w.HoursPart.of(one)) for _, one in sorted(settings.hours.items())],
            "materials": [asdict(one) for one in materials],
            "models": [machine_model.dump_python(one, exclude_defaults=True) for one in models],
            "machines": [written(_machine(known)) for known in self.fleet.all()],
            "cameras": [written(one) for one in self.cameras.kept()],
            "notices": written(reach),
            "channels": [written(one) for one in channels],
            "prices": [written(one) for one in prices.values()],
            "backups": kept,
        }
        filled = {name: value for name, value in document.items() if value}
        return HEAD.format(shop=facts.name) + tomlkit.dumps(as_toml(filled))

    # Applying it --------------------------------------------------------------------------------------------------

    async def apply(self, asked: w.SetupText, who: str) -> w.SetupDone:
        """Change what differs, or only say it. Raises ApiProblem (409, 422): what was changed before is changed, and
        applying the file again goes on from there."""
        kept = {known.row.name.casefold(): _machine(known) for known in self.fleet.all()}
        document = await asyncio.to_thread(read_setup, asked, kept)
        steps = [step for part in self._steps async for step in part(document, who)]
        for done, step in enumerate(() if asked.dry_run else steps):
            try:
                await step.do()
            except (ApiProblem, ValueError) as error:
                status = error.status if isinstance(error, ApiProblem) else 422
                raise ApiProblem(status, f"{step.about}: {error} ({done} of {len(steps)} changes are made.)") from None
        changes = [w.SetupChange(about=step.about, what=step.what) for step in steps]
        return w.SetupDone(dry_run=asked.dry_run, changes=changes)

    async def _shop(self, document: w.SetupDocument, who: str) -> AsyncIterator[PlannedChange]:
        asked, facts = document.shop, self.context.shop.facts
        wanted = facts.model_copy(update=asked.model_dump(exclude_none=True, include=set(ShopFacts.model_fields)))
        if wanted != facts:
            yield PlannedChange("the shop", difference(facts, wanted), partial(self._keep_shop, wanted))
        async with self.context.sessions() as db:
            costs = await load_cost_settings(db)
        money = asked.costs(costs)
        if money != costs:
            yield PlannedChange("money", difference(costs, money), partial(self._in_one, keep_cost_settings, money))

    async def _keep_shop(self, wanted: ShopFacts) -> None:
        async with self.context.sessions() as db:
            await change_shop(db, self.context, ShopChange(**wanted.model_dump()))
            await db.commit()
            await load_shop(db, self.context)

    async def _planning(self, document: w.SetupDocument, who: str) -> AsyncIterator[PlannedChange]:
        async with self.context.sessions() as db:
            now = (await load_settings(db)).planning
        wanted = now.model_validate({**now.model_dump(), **document.planning.model_dump(exclude_none=True)})
        if wanted != now:
            change = PlanningUpdate(**wanted.model_dump())
            yield PlannedChange("planning", difference(now, wanted), partial(self._in_one, change_planning, change))

    async def _hours(self, document: w.SetupDocument, who: str) -> AsyncIterator[PlannedChange]:
        async with self.context.sessions() as db:
            now = (await load_settings(db)).hours
        for one in document.hours:
            about, wanted, kept = f"hours of {one.site or 'the shop'}", one.hours(), now.get(one.site)
            if wanted != kept:
                what = difference(w.HoursPart.of(kept), one) if kept else "are set"
                yield PlannedChange(about, what, partial(self._in_one, keep_hours, wanted))

    async def _materials(self, document: w.SetupDocument, who: str) -> AsyncIterator[PlannedChange]:
        async with self.context.sessions() as db:
            now, own = await load_materials(db), {one.name.casefold() for one in await own_materials(db)}
        for one in document.materials:
            kept = now.get(one.name)
            one = replace(one, name=kept.name) if kept else one
            if kept != one or one.name.casefold() not in own:
                what = difference(kept, one) or "its usual figures are kept as the shop's own" if kept else "is added"
                do = partial(set_material, self.context, self.fleet, one)
                yield PlannedChange(f"material {one.name}", what, do)

    async def _models(self, document: w.SetupDocument, who: str) -> AsyncIterator[PlannedChange]:
        async with self.context.sessions() as db:
            now = {one.name: one for one in await setting_up.all_models(db)}
        for one in document.models:
            about, kept = f"model {one.name}", now.get(one.name)
            if kept is None:
                yield PlannedChange(about, "is added", partial(setting_up.add_model, self.context, one))
            elif kept != one:
                do = partial(setting_up.change_model, self.context, self.fleet, one.name, one)
                yield PlannedChange(about, difference(kept, one), do)

    async def _machines(self, document: w.SetupDocument, who: str) -> AsyncIterator[PlannedChange]:
        async with self.context.sessions() as db:
            models = {one.name for one in [*await setting_up.all_models(db), *document.models]}
        now = {known.row.name.casefold(): known for known in self.fleet.all()}
        holders = {known.row.device: known.row.name for known in self.fleet.all()}
        for one in document.machines:
            known = now.get(one.name.casefold())
            about = f"machine {known.row.name if known else one.name}"
            if one.model not in models:
                raise ApiProblem(422, f"{about}: there is no model named {one.model!r}; add it to the file.")
            if known is None:
                _check_link(about, one, holders)
                do = partial(setting_up.add_machine, self.context, self.fleet, one.new(), one.tender)
                yield PlannedChange(about, f"is added, at {one.link}", do)
                continue
            kept = _machine(known)
            told = one.model_copy(update={"name": kept.name, "link": without_secrets(one.link)})
            if told.tender != kept.tender:
                raise ApiProblem(
                    422, f"{about}: its tender is {kept.tender!r} and stays so; the file has {told.tender!r}."
                )
            if told.link != kept.link:
                _check_link(about, one, holders)
            if told != kept:
                yield PlannedChange(about, difference(kept, told), partial(self._change_machine, known, one))

    async def _change_machine(self, known: FleetMachine, one: w.MachinePart) -> None:
        loaded = {tool.number: tool for tool in (Tool(**kept) for kept in known.row.tools)}
        tools = [
            replace(loaded.get(tool.number, Tool(tool.number)), nozzle_mm=tool.nozzle_mm, hardened=tool.hardened)
            for tool in one.tools
        ]
        moved = without_secrets(one.link) != without_secrets(known.row.link)
        change = MachineChange(
            site=one.site, place=one.place, pools=one.pools, tags=one.tags, tools=tools,
            link=one.link if moved else None, model=one.model if one.model != known.model.name else None,
        )  # fmt: skip
        await setting_up.change_machine(self.context, self.fleet, known.row.name, change)

    async def _cameras(self, document: w.SetupDocument, who: str) -> AsyncIterator[PlannedChange]:
        machines = [*(_machine(known) for known in self.fleet.all()), *document.machines]
        async for change in self.cameras.changes(document, {one.name.casefold(): one for one in machines}):
            yield change

    async def _notices(self, document: w.SetupDocument, who: str) -> AsyncIterator[PlannedChange]:
        for changes in (self.notices.settings, self.notices.channels):
            async for change in changes(document, self._in_one):
                yield change

    async def _prices(self, document: w.SetupDocument, who: str) -> AsyncIterator[PlannedChange]:
        async with self.context.sessions() as db:
            now = await self._prices_now(db)
        for one in document.prices:
            kept = now.get((one.kind, one.subject.casefold()))
            if kept != one:
                what = difference(kept, one) if kept else f"is set: {one.price or one.machine}"
                do = partial(self._in_one, set_price, one, who, self.context.clock.now())
                yield PlannedChange(f"price of {one.subject or one.kind}", what, do)

    async def _prices_now(self, db: AsyncSession) -> dict[tuple[str, str], NewRate]:
        """What holds now, by kind and subject."""
        query = select(t.CostRate).where(t.CostRate.since <= self.context.clock.now())
        rows = (await db.execute(query.order_by(t.CostRate.kind, t.CostRate.subject, t.CostRate.since))).scalars()
        return {(row.kind, row.subject.casefold()): asked_price(row) for row in rows}

    async def _backups(self, document: w.SetupDocument, who: str) -> AsyncIterator[PlannedChange]:
        kept = await self.backups.shown_settings()
        said = document.backups.model_dump(exclude_none=True, exclude={"place"})
        rule = kept.model_copy(update=said)
        place = document.backups.place
        moved = place is not None and place.address != kept.address
        if rule != kept or moved:
            what = [difference(kept, rule)] if rule != kept else []
            what += [f"go to {place.address}"] if place is not None and moved else []
            change = document.backups if moved else document.backups.model_copy(update={"place": None})
            yield PlannedChange("backups", "; ".join(what), partial(self.backups.change, change))

    async def _in_one(self, do: Callable[..., Awaitable[object]], *asked: object) -> None:
        """Change something in a transaction of its own."""
        async with self.context.sessions() as db:
            await do(db, *asked)
            await db.commit()


def _check_link(about: str, one: w.MachinePart, holders: dict[str, str]) -> None:
    """Whether a machine can have its link; `holders` are the machines by device, and it becomes one of them."""
    if HIDDEN in one.link:
        raise ApiProblem(422, f"{about}: passwords are not written; put its own for {HIDDEN} in {one.link}.")
    holder = holders.setdefault(setting_up.device_of(parse_address(one.link), one.tender), one.name)
    if holder.casefold() != one.name.casefold():
        raise ApiProblem(409, f"{about}: {without_secrets(one.link)} is {holder}'s; one device has one link.")


def _machine(known: FleetMachine) -> w.MachinePart:
    tools = [w.NozzlePart.model_validate({k: tool[k] for k in NOZZLE if k in tool}) for tool in known.row.tools]
    link = without_secrets(known.row.link)
    return fill(w.MachinePart, known.row, model=known.model.name, link=link, tender=known.tender, tools=tools)


def _rule(kept: BackupSettings) -> dict[str, Any]:
    """Without the place, which has secrets."""
    rule = set(BackupSettingsChange.model_fields) - {"place"}
    return kept.model_dump(include=rule) if kept.address else {}


TheSetupFile = Annotated[SetupFile, part(SetupFile)]
