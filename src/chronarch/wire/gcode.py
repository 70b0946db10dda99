"""What files say, and edits of them."""

from __future__ import annotations

from dataclasses import asdict
from typing import TYPE_CHECKING, Annotated, ClassVar

from pydantic import Field, TypeAdapter

from chronarch.core.bounds import Number, Word
from chronarch.core.gcode import edits as core_edits
from chronarch.core.gcode.comments import SlicerSettings
from chronarch.core.gcode.contents import FilePause, Layer, PrintedObject
from chronarch.core.gcode.plan import Mark, TimePlan
from chronarch.core.gcode.preflight import Severity
from chronarch.core.gcode.splice import LineChange
from chronarch.wire.common import Wire, as_is

if TYPE_CHECKING:
    from chronarch.core.gcode.analysis import Analysis

as_is(Layer, LineChange, FilePause, PrintedObject, SlicerSettings)


class WirePlan(Wire):
    """A file's time plan: marks of (commands, planned seconds, mm of filament), and where layers begin."""

    marks: list[tuple[int, float, float]]
    layers: list[int]

    @classmethod
    def of(cls, plan: TimePlan) -> WirePlan:
        return cls(marks=[(m.command, m.planned_s, m.filament_mm) for m in plan.marks], layers=list(plan.layers))

    def core(self) -> TimePlan:
        return TimePlan(tuple(Mark(*m) for m in self.marks), tuple(self.layers))


Box = tuple[tuple[float, float, float], tuple[float, float, float]]


class Finding(Wire):
    """One thing a preflight found; `line` 0 means the whole file."""

    rule: str
    severity: Severity
    line: int
    text: str
    overruled: str = ""
    """Why, and by whom, it was overruled; empty when it stands."""


class FilePicture(Wire):
    """A thumbnail from the slicer, in pixels."""

    width: int
    height: int
    kind: str


class FileReading(Wire):
    """What a file says for one model: counts, shop seconds, mm, mm of filament by tool, highest °C asked."""

    model: str = ""
    """Whose figures these are; empty for the reference's, while the shop has no model."""
    lines: int
    commands: int
    planned_s: float
    before_s: float = 0
    heating_s: float = 0
    dwell_s: float = 0
    other_s: float = 0
    layers: int
    extents_mm: Box | None
    travel_mm: Box | None = None
    filament_mm: dict[int, float]
    tools: list[int] = Field(default_factory=lambda: [0])
    nozzle_c: float
    bed_c: float
    chamber_c: float = 0
    spiral: bool = False
    by_object: bool = False
    layer_height_mm: float | None = None
    """The most common height of a layer."""
    pauses: list[FilePause] = Field(default_factory=list)
    objects: list[PrintedObject] = Field(default_factory=list)
    declared: SlicerSettings = SlicerSettings()
    pictures: list[FilePicture] = Field(default_factory=list)
    findings: list[Finding] = Field(default_factory=list)
    unknown: dict[str, int] = Field(default_factory=dict)

    _SAME: ClassVar[tuple[str, ...]] = (
        "lines", "commands", "planned_s", "before_s", "heating_s", "dwell_s", "other_s", "extents_mm", "travel_mm",
        "filament_mm", "tools", "nozzle_c", "bed_c", "chamber_c", "spiral", "by_object", "pauses", "objects",
        "declared", "unknown",
    )  # fmt: skip

    @classmethod
    def of(cls, a: Analysis, model: str) -> FileReading:
        heights = [round(layer.height_mm, 3) for layer in a.layers]
        common = max(set(heights), key=heights.count) if heights else None
        return cls.model_validate(
            {
                **{name: getattr(a, name) for name in cls._SAME},
                "findings": [asdict(f) for f in a.findings],
                "model": model,
                "layers": len(a.layers),
                "layer_height_mm": common,
                "pictures": [FilePicture(width=t.width, height=t.height, kind=t.kind) for t in a.thumbnails],
            }
        )


class FileLines(Wire):
    """Lines of a file from `first` on, and how many it has."""

    first: int
    lines: list[str]
    total: int


# edits -------------------------------------------------------------------------------------------------------------

Edit = Annotated[core_edits.Edit, Field(discriminator="kind")]
edit_adapter: TypeAdapter[core_edits.Edit] = TypeAdapter(Edit)


class EditRequest(Wire):
    """An edit of a revision (the newest without one), worked out with a model's figures."""

    edit: Edit
    model: Word = ""
    """The first model without one."""
    revision: Number | None = None


class EditPreview(Wire):
    """What an edit would do: in words, in lines, and to time and material."""

    text: str
    care: str
    """What a person must see to; empty when nothing."""
    changes: list[LineChange]
    """The first of them."""
    count: int
    """How many stretches change."""
    size: int
    planned_before_s: float
    planned_after_s: float
    filament_before_mm: float
    filament_after_mm: float
    layers_after: int
    findings: list[Finding]


class Difference(Wire):
    """How one revision differs from another: lines that changed (the first), and the figures of both."""

    earlier: int
    later: int
    changes: list[LineChange]
    more: bool
    earlier_reading: FileReading
    later_reading: FileReading
    layers: list[int]
    """The later one's layers that hold a change."""


class ReadingWith(Wire):
    """A reading with every layer: what `inspect --json` prints."""

    reading: FileReading
    layer_table: list[Layer]
