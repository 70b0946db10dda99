"""Machines by what they are, to begin a model from: usual figures of the trade, on the careful side. Where filament is
pushed from far away, `filament_path_mm` is long; where the bed is what moves, y is reversed for who stands in front."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Annotated

from annotated_types import Len

from chronarch.core.machines.model import MachineModel


@dataclass(frozen=True)
class ReferenceModel:
    """What kind of machine it is, in words, and its figures."""

    what: Annotated[str, Len(1, 200)]
    model: MachineModel


_BED_MOVES = MachineModel(
    name="Bed mover 220", volume_mm=(220, 220, 250), acceleration_mm_s2=1500,
    axis_acceleration_mm_s2=(3000, 1500, 200), reversed_axes="y", park_mm=(5, 210), filament_path_mm=90,
)  # fmt: skip
_HEAD_MOVES = MachineModel(
    name="Head mover 250", volume_mm=(250, 250, 250), max_speed_mm_s=(400, 400, 15), acceleration_mm_s2=5000,
    axis_acceleration_mm_s2=(8000, 8000, 300), park_mm=(5, 240), filament_path_mm=90,
)  # fmt: skip
_DELTA = MachineModel(
    name="Delta 200", volume_mm=(200, 200, 300), max_speed_mm_s=(350, 350, 200), acceleration_mm_s2=3000,
    axis_acceleration_mm_s2=(4000, 4000, 4000), park_mm=(0, 90), filament_path_mm=500, homing_s=12,
)  # fmt: skip
REFERENCE_MODELS = (
    ReferenceModel("The bed moves to and fro; filament is driven at the head", _BED_MOVES),
    ReferenceModel(
        "The bed moves to and fro; filament is driven through a long tube",
        replace(_BED_MOVES, name="Bed mover 220, long tube", filament_path_mm=450),
    ),
    ReferenceModel(
        "The bed moves to and fro; large",
        replace(_BED_MOVES, name="Bed mover 300", volume_mm=(300, 300, 400), acceleration_mm_s2=1000, park_mm=(5, 290)),
    ),
    ReferenceModel("The head moves, the bed only sinks; filament is driven at the head", _HEAD_MOVES),
    ReferenceModel(
        "The head moves, the bed only sinks; closed, with a heated chamber",
        replace(
            _HEAD_MOVES,
            name="Chamber 300",
            volume_mm=(300, 300, 300),
            nozzle_ceiling_c=320,
            bed_ceiling_c=120,
            chamber_ceiling_c=65,
            park_mm=(5, 290),
        ),
    ),
    ReferenceModel(
        "The head moves; two tools", replace(_HEAD_MOVES, name="Two tools 300", volume_mm=(300, 300, 300), tools=2)
    ),
    ReferenceModel("A delta: three arms, a round bed", _DELTA),
    ReferenceModel("None of these: usual figures, to be changed", MachineModel(name="A model of our own")),
)
