"""The library: files and their revisions, what a reading says of them, parts, edits and history."""

from __future__ import annotations

from dataclasses import asdict
from typing import TYPE_CHECKING, Annotated, ClassVar, Literal

from pydantic import AfterValidator, Field, TypeAdapter

from chronarch.core.bounds import Counted, Number, Word
from chronarch.core.gcode import edits as core_edits
from chronarch.core.gcode.preflight import Severity
from chronarch.core.names import check_folder, check_name
from chronarch.wire.common import Label, Time, Wire

if TYPE_CHECKING:
    from chronarch.core.gcode.analysis import Analysis

Name = Annotated[str, Field(max_length=1000), AfterValidator(check_name)]
FolderPath = Annotated[str, AfterValidator(check_folder), Field(max_length=300, examples=["bobbins/2026"])]
Tag = Annotated[str, Field(min_length=1, max_length=40, pattern=r"^[^\x00-\x1f\x7f,]+$")]
Box = tuple[tuple[float, float, float], tuple[float, float, float]]


class Finding(Wire):
    """One thing a preflight found; `line` 0 means the whole file."""

    rule: str
    severity: Severity
    line: int
    text: str
    overruled: str = ""
    """Why, and by whom, it was overruled; empty when it stands."""


class LaidObject(Wire):
    """One thing the file lays: its outline on the bed (mm); filament (mm) and seconds where the slicer marked it."""

    name: str
    outline: list[tuple[float, float]]
    filament_mm: float | None = None
    seconds: float | None = None
    marked: bool = False


class Declared(Wire):
    """What the slicer's comments say; shown beside the reading's own figures, never instead."""

    seconds: float | None = None
    material: str = ""
    layer_height_mm: float | None = None
    nozzle_mm: float | None = None
    filament_mm: float | None = None
    filament_g: float | None = None
    model: str = ""
    slicer: str = ""


class FilePause(Wire):
    """The file itself asks for hands."""

    line: int
    layer: int
    command: int
    word: str
    meaning: str


class Picture(Wire):
    """A thumbnail the slicer left, in pixels."""

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
    objects: list[LaidObject] = Field(default_factory=list)
    declared: Declared = Declared()
    pictures: list[Picture] = Field(default_factory=list)
    findings: list[Finding] = Field(default_factory=list)
    unknown: dict[str, int] = Field(default_factory=dict)

    _SAME: ClassVar[tuple[str, ...]] = (
        "lines", "commands", "planned_s", "before_s", "heating_s", "dwell_s", "other_s", "extents_mm", "travel_mm",
        "filament_mm", "tools", "nozzle_c", "bed_c", "chamber_c", "spiral", "by_object",
    )  # fmt: skip
    _NESTED: ClassVar[tuple[str, ...]] = ("pauses", "objects", "findings")

    @classmethod
    def of(cls, a: Analysis, model: str) -> FileReading:
        heights = [round(layer.height_mm, 3) for layer in a.layers]
        common = max(set(heights), key=heights.count) if heights else None
        return cls.model_validate(
            {
                **{name: getattr(a, name) for name in cls._SAME},
                **{name: [asdict(x) for x in getattr(a, name)] for name in cls._NESTED},
                "declared": asdict(a.declared),
                "unknown": a.unknown,
                "model": model,
                "layers": len(a.layers),
                "layer_height_mm": common,
                "pictures": [Picture(width=t.width, height=t.height, kind=t.kind) for t in a.thumbnails],
            }
        )


class LayerRow(Wire):
    """One layer in a file's table: z and height mm, s, mm of filament, its first line."""

    z_mm: float
    height_mm: float
    first_line: int
    first_command: int
    offset: int
    seconds: float
    filament_mm: float


class Lines(Wire):
    """Lines of a file from `first` on, and how many it has."""

    first: int
    lines: list[str]
    total: int


class Pace(Wire):
    """How long builds on a model really take, as a factor on the planned time, learned from so many builds."""

    model: str
    pace: float
    builds: int


class Revision(Wire):
    """One content of a file. `how` says how it came about."""

    number: int
    sha256: str
    size: int
    how: str
    added_at: Time
    added_by: str


class File(Wire):
    """A sliced file in the library: its newest revision."""

    id: int
    name: str
    folder: str = ""
    notes: str = ""
    tags: list[str] = Field(default_factory=list)
    part: str | None = None
    part_id: int | None = None
    pieces: int = 1
    """How many parts one build of it yields."""
    revision: int = 1
    sha256: str
    size: int
    added_at: Time
    """When the newest revision came."""
    added_by: str
    binned_at: Time | None = None
    reading: FileReading
    times: dict[str, float] = Field(default_factory=dict)
    """Planned seconds by model, as the file says them."""
    expected: dict[str, float] = Field(default_factory=dict)
    """The same with each model's learned pace."""


class FileChange(Wire):
    """What may be changed of a file; what is left out stays."""

    name: Name | None = None
    folder: FolderPath | None = None
    notes: str | None = Field(default=None, max_length=4000)
    tags: list[Tag] | None = Field(default=None, max_length=30)
    part: Counted | None = None
    """The part it makes; 0 for none."""
    pieces: int | None = Field(default=None, ge=1, le=10_000)
    """How many parts one build of it yields."""


class Folder(Wire):
    path: FolderPath
    files: Counted = 0


class FolderMove(Wire):
    path: FolderPath
    to: FolderPath


class Batch(Wire):
    """One deed on many files. Each is done or refused by itself."""

    files: list[Number] = Field(min_length=1, max_length=2000)
    deed: Literal["move", "tag", "untag", "queue", "bin", "restore"]
    folder: FolderPath = ""
    tags: list[Tag] = Field(default_factory=list, max_length=30)
    copies: int = Field(default=1, ge=1, le=10_000)


class BatchResult(Wire):
    done: list[int]
    refused: dict[int, str]
    """Why, by the file's number."""


class QueueWish(Wire):
    """What is to be queued as soon as a file that was dropped off has been read."""

    copies: int = Field(default=1, ge=1, le=10_000)
    material: Label = ""
    colour: Label = ""
    machine: Label = ""
    model: Label = ""
    held: bool = False


class DropWish(QueueWish):
    """Where a file that is dropped off goes, and whether copies of it are queued."""

    folder: Word = ""
    queue: bool = False

    def queued(self) -> QueueWish | None:
        wish = self.model_dump(include=set(QueueWish.model_fields))
        return QueueWish.model_validate(wish) if self.queue else None


class Arrival(Wire):
    """A file on its way into the library."""

    id: int
    name: str
    size: int
    state: Literal["reading", "done", "refused"]
    progress: float = 0
    """0 to 1, of its reading."""
    problem: str = ""
    file: int | None = None
    job: int | None = None
    added_at: Time
    added_by: str


class Dropped(Wire):
    """What came of a file that was dropped off."""

    file: File
    job: int | None = None
    """The job it was queued as, if that was asked."""
    new: bool
    """False when the library had the same content under this name already."""
    alike: list[str] = Field(default_factory=list)
    """Other names in this folder that differ from this one in upper and lower case only."""


class Overruling(Wire):
    """Let a file's content run on a model although a rule refuses it."""

    model: Word
    rule: str = Field(max_length=40)
    reason: str = Field(min_length=3, max_length=300, examples=["the clip at the front left is off, there is room"])


# edits -------------------------------------------------------------------------------------------------------------

Edit = Annotated[core_edits.Edit, Field(discriminator="kind")]
edit_adapter: TypeAdapter[core_edits.Edit] = TypeAdapter(Edit)


class EditOrder(Wire):
    """An edit of a revision (the newest without one), worked out with a model's figures."""

    edit: Edit
    model: Word = ""
    """The first model without one."""
    revision: Number | None = None


class LineChange(Wire):
    line: int
    before: str
    after: str


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


# parts -------------------------------------------------------------------------------------------------------------


class PartShape(Wire):
    """A part's reference model: its size (mm) and how many triangles it has."""

    name: str
    kind: Literal["stl", "3mf"]
    size_mm: tuple[float, float, float]
    triangles: int


class Part(Wire):
    """A thing the shop makes, and the files that make it."""

    id: int
    name: str
    notes: str = ""
    shape: PartShape | None = None
    files: list[File] = Field(default_factory=list)
    added_at: Time
    added_by: str
    alike: list[str] = Field(default_factory=list)
    """As it is made: other parts' names that differ from this one in upper and lower case only."""


class PartOrder(Wire):
    name: Name
    notes: str = Field(default="", max_length=4000)
    files: list[Number] = Field(default_factory=list, max_length=200)


class PartChange(Wire):
    name: Name | None = None
    notes: str | None = Field(default=None, max_length=4000)
    files: list[Number] | None = Field(default=None, max_length=200)


class PartSuggestion(Wire):
    """Files that seem to make the same thing, and why it seems so."""

    name: str
    files: list[int]
    why: str
    part: int | None = None
    """The part they would join; None for a new one."""


# history -----------------------------------------------------------------------------------------------------------


class ModelHistory(Wire):
    """What became of a file's or part's builds on one model. `real_s` and `planned_s` are of completed builds."""

    model: str
    builds: int
    good: int
    scrap: int
    completed: int
    planned_s: float
    real_s: float


class History(Wire):
    builds: int
    good: int
    scrap: int
    unjudged: int
    machines: dict[str, int]
    models: list[ModelHistory]


class ReadingWith(Wire):
    """A reading with every layer: what `inspect --json` prints."""

    reading: FileReading
    layer_table: list[LayerRow]
