"""Models."""

from __future__ import annotations

from fastapi import APIRouter

from chronarch.core.bounds import Named
from chronarch.core.ledger.learning import ModelPace
from chronarch.core.machines.model import MachineModel
from chronarch.core.machines.reference_models import REFERENCE_MODELS, ReferenceModel
from chronarch.service.context import Context
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.machines import setting_up
from chronarch.service.machines.fleet import TheFleet
from chronarch.service.machines.learned_paces import TheLearnedPaces

router = APIRouter(tags=["machines"], route_class=RetryingRoute)


@router.get("/models")
async def models(context: Context) -> list[MachineModel]:
    async with context.sessions() as db:
        return await setting_up.all_models(db)


@router.get("/models/paces")
async def paces(context: Context, paces: TheLearnedPaces) -> list[ModelPace]:
    """How long builds on each model really take, learned from the newest completed ones."""
    async with context.sessions() as db:
        return list((await paces.all(db)).values())


@router.get("/models/reference")
async def reference_models() -> list[ReferenceModel]:
    """Machines by what they are, to begin a model from."""
    return list(REFERENCE_MODELS)


@router.post("/models", status_code=201)
async def add_model(asked: MachineModel, context: Context) -> MachineModel:
    await setting_up.add_model(context, asked)
    return asked


@router.put("/models/{name}")
async def change_model(name: Named, asked: MachineModel, context: Context, fleet: TheFleet) -> MachineModel:
    """Change the figures of a model. Its files are read again with them; builds that run keep their plan."""
    await setting_up.change_model(context, fleet, name, asked)
    return asked
