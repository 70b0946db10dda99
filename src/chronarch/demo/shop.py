"""Marrow Lane Fabrication: models, machines, parts and what is queued."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from decimal import Decimal

from chronarch.core.ledger.costs import RateKind
from chronarch.core.ledger.report_periods import ReportEvery
from chronarch.core.machines.model import MachineModel, OwnSequence, Parameter, SwitchLines
from chronarch.core.machines.plugs import PlugProfile, PowerRules
from chronarch.core.notices.kinds import Gravity, NoticeKind
from chronarch.core.notices.notice_rules import NoticeRule, Pace, Quiet
from chronarch.core.orders.requirement import Requirement
from chronarch.core.planning.snapshot import Strategy
from chronarch.core.watching.suspicion import FailureMode
from chronarch.core.watching.watch_rules import Follow, WatchRule
from chronarch.demo.shapes import Ellipse, Point, RoundedBox, Slice
from chronarch.demo.slicer import DemoPart
from chronarch.wire.ledger.costs import HoursPrice, MachineHour, NewRate
from chronarch.wire.ledger.reporting import NewReportPlan
from chronarch.wire.orders.jobs import NewJob, read_requirement
from chronarch.wire.orders.orders import NewOrder, NewOrderLine
from chronarch.wire.planning.settings import PlanningUpdate, SiteHours, SpareNozzle, StaffedMinutes
from chronarch.wire.watching.settings import WatchingUpdate

NAME = "Marrow Lane Fabrication"
OPENING = datetime(2026, 10, 19, 9, 12, tzinfo=UTC)

_LIGHT = SwitchLines(name="light", on="M355 S1", off="M355 S0")
_BEACON = SwitchLines(name="beacon", on="M42 P6 S255", off="M42 P6 S0")
"""A lamp on top of a machine."""
_WIPE = OwnSequence(
    name="wipe nozzle",
    lines="G28\nG1 Z5 F600\nG1 X{reach} Y4 F6000\nG1 X4 F6000\nG1 X{reach} F6000\nM400",
    parameters=(Parameter(name="reach", least=10, most=60, usual=40, unit="mm"),),
)
_TUNE = OwnSequence(
    name="tune heater",
    lines="M303 E0 S{nozzle} C{rounds}",
    parameters=(
        Parameter(name="nozzle", least=150, most=260, usual=205, unit="°C"),
        Parameter(name="rounds", least=3, most=10, usual=5),
    ),
    guarded=True,
    clear_bed=False,
)
_SWEEP = OwnSequence(
    name="sweep bed",
    lines="G28 X Y\nG1 Z2 F600\nG1 X125 Y240 F6000\nG1 Y2 F1500\nG1 X60 Y240 F6000\nG1 Y2 F1500\n"
    "G1 X190 Y240 F6000\nG1 Y2 F1500\nG1 Z30 F600\nG1 X5 Y240 F6000\nM400",
    clear_bed=False,
)

MODELS = (
    MachineModel(
        name="Lantern 220", volume_mm=(220, 220, 250), park_mm=(5, 210), switches=(_LIGHT,), sequences=(_WIPE, _TUNE)
    ),
    MachineModel(
        name="Lantern 300", volume_mm=(300, 300, 320), park_mm=(5, 290), acceleration_mm_s2=1200, window_bytes=96,
        switches=(_LIGHT,), sequences=(_WIPE,), reversed_axes="y",
    ),
    MachineModel(
        name="Kiln 250", volume_mm=(250, 250, 260), park_mm=(5, 240), nozzle_ceiling_c=300, bed_ceiling_c=120,
        switches=(_LIGHT, _BEACON, SwitchLines(name="extraction", on="M42 P4 S255", off="M42 P4 S0")),
        hands_light="beacon",
        sequences=(_SWEEP,), releases=3, release_sequence="sweep bed", release_s=60,
    ),
)  # fmt: skip


SOCKETS = (
    PlugProfile(
        "bench socket", "http", "/sockets/{device}/status", "/sockets/{device}/lit", '{"lit": true}', '{"lit": false}',
        "/socket/lit", "/meter/now_mw", "/meter/count_kwh", method="PUT", watts_factor=1e-3, wh_factor=1e3,
    ),
    PlugProfile(
        "wall socket", "mqtt", "sockets/{device}/says", "sockets/{device}/turn", "close", "open", "/state", "/w", "/wh",
        on_values=("closed",),
    ),
)  # fmt: skip
"""How the shop's two makes of metered socket are asked."""
PLUGS = {
    "Arbor": "bench socket", "Bezel": "bench socket", "Detent": "bench socket", "Gnomon": "wall socket",
    "Pallet": "wall socket", "Verge": "wall socket",
}  # fmt: skip
"""Which machines hang on which; Bezel and Gnomon go off by themselves."""
GO_OFF = PowerRules(off_after_min=45, start_up_s=180)
GOES_OFF = frozenset({"Bezel", "Gnomon"})


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
    site: str = "Bench room"
    place: str = ""
    pools: tuple[str, ...] = ("everyday",)
    tags: tuple[str, ...] = ()


YARD = "Yard shed"

MACHINES = (
    DemoMachine("Anchor", "Lantern 220", "PLA", "teal", pace=1.02, place="A1", tags=("food safe",)),
    DemoMachine("Arbor", "Lantern 220", "PLA", "teal", pace=1.01, place="A2"),
    DemoMachine("Bezel", "Lantern 220", "PLA", "ochre", pace=1.06, place="A3", tags=("food safe",)),
    DemoMachine("Crown", "Lantern 220", "PLA", "teal", pace=0.98, link="serial", place="A4"),
    DemoMachine("Detent", "Kiln 250", "PLA", "ochre", pace=1.03, place="B1", pools=("everyday", "tough")),
    DemoMachine("Fusee", "Lantern 300", "PLA", "slate", pace=1.10, place="B2", pools=("everyday", "wide")),
    DemoMachine("Gnomon", "Lantern 300", "PLA", "slate", pace=1.04, place="B3", pools=("everyday", "wide")),
    DemoMachine("Pallet", "Kiln 250", "PETG", "blue", hardened=True, pace=1.04, link="mqtt", site=YARD, place="1",
                pools=("tough",)),
    DemoMachine("Pinion", "Kiln 250", "PLA", "white", pace=1.0, place="B4"),
    DemoMachine("Ratchet", "Lantern 220", "PETG", "blue", pace=1.05, site=YARD, place="2", pools=("tough",)),
    DemoMachine("Stem", "Lantern 220", "PLA", "ochre", pace=0.99, site=YARD, place="3"),
    DemoMachine("Verge", "Lantern 300", "PLA", "white", nozzle_mm=0.6, pace=1.0, site=YARD, place="4",
                pools=("wide",), tags=("draughty",)),
)  # fmt: skip


NEWCOMER = "Tourbillon"
"""A machine that has just been unpacked: it says on the network that it is there, and has not joined."""
NEWCOMER_MODEL = "Lantern 220"


@dataclass(frozen=True)
class DemoCamera:
    """A camera of the shop; `kind` is how it is reached, `path` where at the stand-ins, `login` LOGIN:PASSWORD."""

    name: str
    machine: str = ""
    kind: str = "http"
    path: str = ""
    login: str = ""
    site: str = ""
    place: str = ""


def _cameras() -> tuple[DemoCamera, ...]:
    odd = {
        "Crown": DemoCamera("Crown", "Crown", path="/machines/Crown/stream.mjpg?fps=12", login="shop:marrow lane"),
        "Detent": DemoCamera("Detent", "Detent", "rtsp", "/machines/Detent"),
        "Stem": DemoCamera("Stem", "Stem", "device", "/usb-lantern_cam_0042-video-index0"),
    }
    mine = [odd.get(m.name, DemoCamera(m.name, m.name, path=f"/machines/{m.name}/frame.jpg")) for m in MACHINES]
    mine += [DemoCamera(f"{name} side", name, path=f"/machines/{name}/side.jpg") for name in TWO_CAMERAS]
    room = DemoCamera("Bench room", path="/rooms/Bench%20room/frame.jpg", site="Bench room", place="from the door")
    return (*mine, room)


WATCHING = WatchingUpdate(keep_every_s=120, false_alarms_a_week=5)
"""Two minutes are four seconds here."""
WATCH = WatchRule(
    follow={
        FailureMode.LOOSE: Follow.LEAVE_OUT, FailureMode.TANGLE: Follow.PAUSE, FailureMode.FALLEN: Follow.LEAVE_OUT,
        FailureMode.SHIFTED: Follow.PAUSE, FailureMode.NOT_GROWING: Follow.PAUSE, FailureMode.BLOB: Follow.PAUSE,
    }
)  # fmt: skip
TWO_CAMERAS = ("Anchor", "Fusee", "Gnomon")
FIRMWARE = "stand-in 4.2"
OLD_FIRMWARE = {"Ratchet": "stand-in 4.1"}
"""What the shop wants on all machines, and what one still has."""
OTHER_STORED = {"Arbor": {"M92 E": 97.5}, "Crown": {"M92 E": 92.4, "M851 Z": -1.2}, "Verge": {"M204 P": 1200.0}}
"""Stored values that somebody has changed."""
TWO_HOT_ENDS = ("Anchor", "Gnomon")
"""Machines that also report a second hot end, which stays cold, and how warm their board is."""
CAMERAS = _cameras()


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
    DemoPart("ring-gauge-24", 6, lambda z: Slice(Ellipse(19, 19), [((0, 0), Ellipse(12, 12))]), _grid(2, 2, 48)),
    DemoPart("feeder-hopper", 24, _hopper, ((110.0, 110.0),), sparse=4),
    DemoPart("nest-box-plate", 3, lambda z: Slice(RoundedBox(86, 70, 8), [((0, 6), Ellipse(14, 14)), ((-34, -26), Ellipse(2.5, 2.5)), ((34, -26), Ellipse(2.5, 2.5))]), ((110.0, 110.0),)),  # noqa: E501
    DemoPart("bobbin-32", 18, _bobbin, _grid(2, 1, 42)),
    DemoPart("heddle-clip", 5, lambda z: Slice(RoundedBox(30, 11, 3), [((-4, 0), RoundedBox(16, 4.2, 1.5)), ((10, 0), Ellipse(2, 2))]), _grid(2, 4, 36)),  # noqa: E501
    DemoPart("shuttle-tip", 14, lambda z: Slice(Ellipse(15 - 0.55 * z, 9 - 0.32 * z)), _grid(3, 2, 38)),
    DemoPart("oarlock-spacer", 9, lambda z: Slice(Ellipse(22, 22), [((0, 0), Ellipse(15, 15))]), _grid(2, 1, 52), nozzle_c=238, bed_c=75),  # noqa: E501
    DemoPart("rigger-shim", 2.4, lambda z: Slice(RoundedBox(46, 20, 4), [((-13, 0), Ellipse(3.2, 3.2)), ((13, 0), Ellipse(3.2, 3.2))]), _grid(2, 4, 52)),  # noqa: E501
)  # fmt: skip

MATERIAL = {"oarlock-spacer": "PETG"}
FOLDERS = {
    "ring-gauge-24": "Tern Island", "feeder-hopper": "Tern Island", "nest-box-plate": "Tern Island",
    "bobbin-32": "Loomfield", "heddle-clip": "Loomfield", "shuttle-tip": "Loomfield",
    "oarlock-spacer": "Brackwater", "rigger-shim": "Brackwater",
}  # fmt: skip


def file_name(part: DemoPart) -> str:
    return f"{part.name}.gcode"


PIECES = {part.name: len(part.spots) for part in PARTS}
"""How many parts one build of each file yields."""


def _line(part: str, quantity: int, **needs: object) -> NewOrderLine:
    requirement = read_requirement.validate_python({"material": MATERIAL.get(part, "PLA"), **needs})
    return NewOrderLine(part=part.replace("-", " "), quantity=quantity, requirement=requirement)


def _by(days: int, hour: int) -> datetime:
    return OPENING.replace(hour=hour, minute=0) + timedelta(days=days)


TERN, LOOM, ROW = "Tern Island Observatory", "Loomfield Weaving School", "Brackwater Rowing Club"
MILL = "Weir Lane Flour Mill"

ORDERS = (
    NewOrder(
        customer=LOOM, due=_by(1, 12), note="Looms are strung on Wednesday.",
        tags=["standing order"],
        lines=[_line("bobbin-32", 72, colour="teal"), _line("heddle-clip", 168, colour="slate"),
               _line("shuttle-tip", 60, colour="teal")],
    ),
    NewOrder(
        customer=ROW, due=_by(0, 16) + timedelta(minutes=5), priority=1,
        note="Collected at the gate on Monday afternoon.",
        lines=[_line("oarlock-spacer", 38, colour="blue"), _line("rigger-shim", 40, material="PLA", colour="ochre")],
    ),
    NewOrder(
        customer=TERN, due=_by(3, 17), note="Ring gauges checked one by one with the plug.",
        lines=[_line("ring-gauge-24", 120, colour="ochre", nozzle_mm=0.4),
               _line("feeder-hopper", 18, tags='"food safe"'), _line("nest-box-plate", 36, pool="wide")],
    ),
    NewOrder(
        customer=MILL, due=_by(9, 12), held=True, note="Wants a quote first.",
        lines=[_line("feeder-hopper", 24, colour="white"), _line("ring-gauge-24", 50, colour="ochre")],
    ),
)  # fmt: skip

QUEUE = (
    NewJob(file="rigger-shim.gcode", copies=8, note="trial in black",
             requirement=Requirement(material="PETG", colour="black")),
    NewJob(part="shuttle tip", copies=6, note="for the shelf", requirement=Requirement(material="PLA")),
)  # fmt: skip
"""Jobs of the shop's own; the first waits for a spool that nobody has."""

SPARES = (("PLA", "teal", 820), ("PLA", "ochre", 1000), ("PLA", "slate", 640), ("PLA", "white", 310),
          ("PETG", "blue", 950))  # fmt: skip
LEFT = {"Anchor": 410, "Arbor": 700, "Bezel": 180, "Crown": 560, "Detent": 930, "Fusee": 350, "Gnomon": 270,
        "Pallet": 600, "Pinion": 480, "Ratchet": 390, "Stem": 760, "Verge": 520}  # fmt: skip
"""Grams on what is loaded."""

_IN_SUMMER, _LATELY = _by(-90, 0), _by(-6, 0)
PRICES = (
    NewRate(kind=RateKind.MATERIAL, price=Decimal(26), since=_IN_SUMMER),
    NewRate(kind=RateKind.MATERIAL, subject="PLA", price=Decimal("19.50"), since=_IN_SUMMER),
    NewRate(kind=RateKind.MATERIAL, subject="PLA", price=Decimal("21.80"), since=_LATELY),
    NewRate(kind=RateKind.ENERGY, price=Decimal("0.31"), hours=[HoursPrice(begin=22, end=6, price=Decimal("0.22"))],
            since=_IN_SUMMER),
    NewRate(kind=RateKind.MACHINE, machine=MachineHour(purchase=Decimal(950), life_h=Decimal(6000),
            upkeep_h=Decimal("0.07")), since=_IN_SUMMER),
    NewRate(kind=RateKind.MACHINE, subject="Kiln 250", machine=MachineHour(purchase=Decimal(3400),
            life_h=Decimal(9000), upkeep_h=Decimal("0.12")), since=_IN_SUMMER),
    NewRate(kind=RateKind.HANDS, price=Decimal("0.42"), since=_IN_SUMMER),
    NewRate(kind=RateKind.OVERHEAD, price=Decimal("0.12"), since=_IN_SUMMER),
)  # fmt: skip
"""PLA has become dearer lately."""

HOURS = SiteHours(
    week=[[StaffedMinutes(begin="08:00", end="17:00")] for _ in range(5)] + [[], []], zone="UTC", people=1
)
PLANNING = PlanningUpdate(strategy=Strategy.HANDS_AWARE, spare_nozzles=[SpareNozzle(nozzle_mm=0.4)])

PAST = ("bobbin-32", "ring-gauge-24", "heddle-clip", "oarlock-spacer", "nest-box-plate", "shuttle-tip", "feeder-hopper")

MAIL_FROM, MAIL_TO = "prints@marrowlane.example", "maud@marrowlane.example"
THE_WEEK = NewReportPlan(name="The week", every=ReportEvery.WEEK, hour=6, to=[])
HANDOVER = NewReportPlan(name="Handover of the shed", every=ReportEvery.SHIFT, site=YARD, to=[])
AT_ONCE = NoticeRule(name="Hands are needed", least=Gravity.ACT, quiet=Quiet("21:00", "06:30"))
"""What Maud is mailed at once; at night only what is urgent."""
IN_THE_MORNING = NoticeRule(
    name="What happened", pace=Pace.DAILY, daily_at="08:00",
    kinds=(NoticeKind.BUILD_ENDED, NoticeKind.BUILD_FAILED, NoticeKind.BUILD_PAUSED, NoticeKind.SUSPICION,
           NoticeKind.ORDER_COMPLETE, NoticeKind.ORDER_LATE),
)  # fmt: skip
