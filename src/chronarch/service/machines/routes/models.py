"""Models."""

from __future__ import annotations

from fastapi import APIRouter
from pydantic_core import to_jsonable_python
from sqlalchemy import select
from sqlalchemy.exc import IntegrityError

from chronarch.core.bounds import Named
from chronarch.core.control.actions import check_model
from chronarch.core.ledger.learning import ModelPace
from chronarch.core.machines.model import MachineModel
from chronarch.records import tables as t
from chronarch.service.context import Context
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.machines.fleet import TheFleet
from chronarch.service.machines.learned_paces import TheLearnedPaces
from chronarch.service.problems import ApiProblem
from chronarch.wire.machines.model import machine_model

router = APIRouter(tags=["machines"], route_class=RetryingRoute)


@router.get("/models")
async def models(context: Context) -> list[MachineModel]:
    async with context.sessions() as db:
        rows = (await db.execute(select(t.Model).order_by(t.Model.name))).scalars()
        return [machine_model.validate_python(row.spec) for row in rows]


@router.get("/models/paces")
async def paces(context: Context, paces: TheLearnedPaces) -> list[ModelPace]:
    """How long builds on each model really take, learned from the newest completed ones."""
    async with context.sessions() as db:
        return list((await paces.all(db)).values())


@router.post("/models", status_code=201)
async def add_model(asked: MachineModel, context: Context) -> MachineModel:
    check_model(asked)
    async with context.sessions() as db:
        db.add(t.Model(name=asked.name, spec=to_jsonable_python(asked)))
        try:
            await db.commit()
        except IntegrityError:
            raise ApiProblem(409, f"There is a model named {asked.name!r} already; choose another name.") from None
    return asked


@router.put("/models/{name}")
async def change_model(name: Named, asked: MachineModel, context: Context, fleet: TheFleet) -> MachineModel:
    """Change the figures of a model. Its files are read again with them; builds that run keep their plan."""
    check_model(asked)
    async with context.sessions() as db:
        row = (await db.execute(select(t.Model).where(t.Model.name == name).with_for_update())).scalar_one_or_none()
        if row is None:
            raise ApiProblem(404, f"There is no model named {name!r}; `chronarch models list` shows all.")
        if asked.name != name:
            raise ApiProblem(422, f"The model's name stays {name!r}; add another model for another name.")
        row.spec = to_jsonable_python(asked)
        await db.commit()
        await fleet.load(db)
        for known in fleet.all():
            if known.model.name == name:
                await fleet.assign(db, known)
    return asked
