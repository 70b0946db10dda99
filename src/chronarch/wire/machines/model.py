"""Models cross the wire as they are in the core."""

from __future__ import annotations

from pydantic import TypeAdapter

from chronarch.core.machines import model as core
from chronarch.core.machines.reference_models import ReferenceModel
from chronarch.wire.common import as_is

as_is(core.HeaterFigures, core.SwitchLines, core.Parameter, core.OwnSequence, core.MachineModel, ReferenceModel)
machine_model: TypeAdapter[core.MachineModel] = TypeAdapter(core.MachineModel)
