"""Contents by their hash, and what they say for a model."""

from __future__ import annotations

import re

from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.machines.model import MachineModel
from chronarch.records import tables as t
from chronarch.records.library import files as library
from chronarch.service.context import ServiceContext
from chronarch.service.library.content_store import ContentStore
from chronarch.service.library.intake import core_models
from chronarch.service.problems import ApiProblem
from chronarch.wire import gcode as w


async def model_for(context: ServiceContext, name: str) -> tuple[str, MachineModel]:
    """A model by name. Without a name the first one, or the reference if there is none. Raises ApiProblem (404)."""
    async with context.sessions() as db:
        models = core_models(await library.models_of(db))
    if not name:
        return next(iter(models.items()))
    if name not in models:
        raise ApiProblem(404, f"There is no model named {name!r}; there are: {', '.join(models)}.")
    return name, models[name]


async def reading_of(db: AsyncSession, sha256: str, model: str) -> w.FileReading:
    """Raises ApiProblem (404)."""
    row = await db.get(t.ContentReading, (sha256, model)) if re.fullmatch(r"[0-9a-f]{64}", sha256) else None
    if row is None:
        raise ApiProblem(404, f"There is no reading of {sha256[:64]!r} for {model or 'the reference'}.")
    return w.FileReading.model_validate(row.figures)


def known_content(store: ContentStore, sha256: str) -> str:
    if not re.fullmatch(r"[0-9a-f]{64}", sha256) or not store.path(sha256).exists():
        raise ApiProblem(404, f"There is nothing kept under {sha256[:64]!r}.")
    return sha256
