"""Marrow Lane Fabrication: models, machines, parts and what is queued."""

from __future__ import annotations

from dataclasses import dataclass

from chronarch.demo.shapes import Ellipse, Point, RoundedBox, Slice
from chronarch.demo.slicer import Part
from chronarch.wire import machines as w
from chronarch.wire.work import JobOrder, Requirement

NAME = "Marrow Lane Fabrication"

_LIGHT = w.SwitchLines(name="light", on="M355 S1", off="M355 S0")
_WIPE = w.OwnSequence(
    name="wipe nozzle",
    lines="G28\nG1 Z5 F600\nG1 X{reach} Y4 F6000\nG1 X4 F6000\nG1 X{reach} F6000\nM400",
    parameters=(w.Parameter(name="reach", least=10, most=60, usual=40, unit="mm"),),
)
_TUNE = w.OwnSequence(
    name="tune heater",
    lines="M303 E0 S{nozzle} C{rounds}",
    parameters=(
        w.Parameter(name="nozzle", least=150, most=260, usual=205, unit="°C"),
        w.Parameter(name="rounds", least=3, most=10, usual=5),
    ),
    guarded=True,
    clear_bed=False,
)

MODELS = (
    w.Model(
        name="Lantern 220", volume_mm=(220, 220, 250), park_mm=(5, 210), switches=(_LIGHT,), sequences=(_WIPE, _TUNE)
    ),
    w.Model(
        name="Lantern 300", volume_mm=(300, 300, 320), park_mm=(5, 290), acceleration_mm_s2=1200, window_bytes=96,
        switches=(_LIGHT,), sequences=(_WIPE,), reversed_axes="y",
    ),
    w.Model(
        name="Kiln 250", volume_mm=(250, 250, 260), park_mm=(5, 240), nozzle_ceiling_c=300, bed_ceiling_c=120,
        switches=(_LIGHT, w.SwitchLines(name="extraction", on="M42 P4 S255", off="M42 P4 S0")),
    ),
)  # fmt: skip


@dataclass(frozen=True)
class DemoMachine:
    """A machine of the shop; `pace` is how its stand-in keeps to its figures."""

    name: str
    model: str
    material: str
    colour: str
    nozzle_mm: float = 0.4
    hardened: bool = False
    pace: float = 1.0
    link: str = "tcp"
    """How it is reached: over tcp, a serial port, or mqtt for one that runs files itself."""


MACHINES = (
    DemoMachine("Anchor", "Lantern 220", "PLA", "teal", pace=1.02),
    DemoMachine("Bezel", "Lantern 220", "PLA", "ochre", pace=1.06),
    DemoMachine("Crown", "Lantern 220", "PLA", "teal", pace=0.98, link="serial"),
    DemoMachine("Fusee", "Lantern 300", "PLA", "slate", pace=1.10),
    DemoMachine("Pallet", "Kiln 250", "PETG", "blue", hardened=True, pace=1.04, link="mqtt"),
    DemoMachine("Verge", "Lantern 300", "PLA", "white", nozzle_mm=0.6, pace=1.0),
)


def _grid(columns: int, rows: int, pitch: float, middle: Point = (110.0, 110.0)) -> tuple[Point, ...]:
    left, front = middle[0] - pitch * (columns - 1) / 2, middle[1] - pitch * (rows - 1) / 2
    return tuple((left + pitch * c, front + pitch * r) for r in range(rows) for c in range(columns))


def _bobbin(z: float) -> Slice:
    flange = z < 1.4 or z > 16.6
    return Slice(Ellipse(16, 16) if flange else Ellipse(8, 8), [((0, 0), Ellipse(4, 4))])


def _hopper(z: float) -> Slice:
    grow = z * 0.45
    outer = RoundedBox(34 + grow, 26 + grow, 5)
    return Slice(outer) if z < 1.2 else Slice(outer, [((0, 0), RoundedBox(30.4 + grow, 22.4 + grow, 3.5))])


PARTS = (
    Part("ring-gauge-24", 6, lambda z: Slice(Ellipse(19, 19), [((0, 0), Ellipse(12, 12))]), _grid(2, 2, 48)),
    Part("feeder-hopper", 24, _hopper, ((110.0, 110.0),), sparse=4),
    Part("nest-box-plate", 3, lambda z: Slice(RoundedBox(86, 70, 8), [((0, 6), Ellipse(14, 14)), ((-34, -26), Ellipse(2.5, 2.5)), ((34, -26), Ellipse(2.5, 2.5))]), ((110.0, 110.0),)),  # noqa: E501
    Part("bobbin-32", 18, _bobbin, _grid(2, 1, 42)),
    Part("heddle-clip", 5, lambda z: Slice(RoundedBox(30, 11, 3), [((-4, 0), RoundedBox(16, 4.2, 1.5)), ((10, 0), Ellipse(2, 2))]), _grid(2, 4, 36)),  # noqa: E501
    Part("shuttle-tip", 14, lambda z: Slice(Ellipse(15 - 0.55 * z, 9 - 0.32 * z)), _grid(3, 2, 38)),
    Part("oarlock-spacer", 9, lambda z: Slice(Ellipse(22, 22), [((0, 0), Ellipse(15, 15))]), _grid(2, 1, 52), nozzle_c=238, bed_c=75),  # noqa: E501
    Part("rigger-shim", 2.4, lambda z: Slice(RoundedBox(46, 20, 4), [((-13, 0), Ellipse(3.2, 3.2)), ((13, 0), Ellipse(3.2, 3.2))]), _grid(2, 4, 52)),  # noqa: E501
)  # fmt: skip

MATERIAL = {"oarlock-spacer": "PETG"}
FOLDERS = {
    "ring-gauge-24": "Tern Island", "feeder-hopper": "Tern Island", "nest-box-plate": "Tern Island",
    "bobbin-32": "Loomfield", "heddle-clip": "Loomfield", "shuttle-tip": "Loomfield",
    "oarlock-spacer": "Brackwater", "rigger-shim": "Brackwater",
}  # fmt: skip


def file_name(part: Part) -> str:
    return f"{part.name}.gcode"


def _order(part: str, copies: int, **needs: object) -> JobOrder:
    requirement = Requirement.model_validate({"material": MATERIAL.get(part, "PLA"), **needs})
    return JobOrder(file=f"{part}.gcode", copies=copies, requirement=requirement)


QUEUE = (
    _order("bobbin-32", 3, colour="teal", nozzle_mm=0.4),
    _order("ring-gauge-24", 2, colour="ochre"),
    _order("heddle-clip", 4, colour="slate"),
    _order("oarlock-spacer", 3, colour="blue"),
    JobOrder(part="nest box plate", copies=2, requirement=Requirement(material="PLA", machine="Verge")),
    _order("shuttle-tip", 2, colour="teal"),
    _order("feeder-hopper", 2),
    _order("rigger-shim", 2, material="PETG", colour="black"),
)
"""What is queued when the demo first opens; the last one waits for a spool that nobody has loaded."""

PAST = ("bobbin-32", "ring-gauge-24", "heddle-clip", "oarlock-spacer", "nest-box-plate", "shuttle-tip", "feeder-hopper")
