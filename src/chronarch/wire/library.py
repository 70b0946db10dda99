"""The library: files and their revisions, arrivals, parts."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import AfterValidator, Field, model_validator

from chronarch.core.bounds import Counted, Number, Word
from chronarch.core.library.names import check_folder, check_name
from chronarch.core.library.part_grouping import PartSuggestion
from chronarch.wire.common import Label, Time, Wire, as_is
from chronarch.wire.gcode import FileReading

as_is(PartSuggestion)
Name = Annotated[str, Field(max_length=1000), AfterValidator(check_name)]
FolderPath = Annotated[str, AfterValidator(check_folder), Field(max_length=300, examples=["bobbins/2026"])]
Tag = Annotated[str, Field(min_length=1, max_length=40, pattern=r"^[^\x00-\x1f\x7f,]+$")]


class LibraryFacets(Wire):
    """What the library holds: how many files, and what they can be searched by."""

    files: int
    materials: list[str]
    nozzles_mm: list[float]
    tags: list[str]


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
    """Planned seconds by model, as the file says."""
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


class FileBatch(Wire):
    """One action on many files. Each is done or refused by itself."""

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
    """What is to be queued once a file that was added has been read."""

    copies: int = Field(default=1, ge=1, le=10_000)
    material: Label = ""
    colour: Label = ""
    machine: Label = ""
    model: Label = ""
    held: bool = False
    now: bool = False
    """Begin at once, on `machine`, which is idle; if it no longer is by then, the job is first in line for it."""

    @model_validator(mode="after")
    def _where(self) -> QueueWish:
        if self.now and not self.machine:
            raise ValueError("say on which machine it is to begin now")
        if self.now and self.held:
            raise ValueError("what is held does not begin now")
        return self


class DropWish(QueueWish):
    """Where a file that is added goes, and whether copies of it are queued."""

    folder: Word = ""
    queue: bool = False

    def queued(self) -> QueueWish | None:
        wish = self.model_dump(include=set(QueueWish.model_fields))
        return QueueWish.model_validate(wish) if self.queue or self.now else None


class Arrival(Wire):
    """A file on its way into the library."""

    id: int
    name: str
    size: int
    state: Literal["reading", "done", "refused"]
    progress: float = 0
    """Progress of its reading, 0 to 1."""
    problem: str = ""
    file: int | None = None
    job: int | None = None
    added_at: Time
    added_by: str


class Dropped(Wire):
    """What became of a file that was added."""

    file: File
    job: int | None = None
    """The job it was queued as, if that was asked."""
    begun: bool = False
    """Whether a build of that job has begun."""
    new: bool
    """False when the library had the same content under this name already."""
    alike: list[str] = Field(default_factory=list)
    """Other names in this folder that differ from this one in upper and lower case only."""


class AddressWish(DropWish):
    """A file that the service is to fetch. `name` is what it is called here; as it is there without one."""

    address: Annotated[str, Field(min_length=1, max_length=2000, examples=["https://files.shop.example/clip.gcode"])]
    name: Word = ""


class DriveWish(DropWish):
    """Files and folders of the service's computer that are to be taken; folders with all that is in them."""

    paths: Annotated[list[Annotated[str, Field(min_length=1, max_length=2000)]], Field(min_length=1, max_length=100)]


class Drive(Wire):
    """A folder of the service's computer from which files may be taken. Bytes."""

    path: str
    free: int
    size: int


class DriveEntry(Wire):
    """A folder, or a file that ends as sliced ones do."""

    name: str
    path: str
    folder: bool
    size: int
    """Bytes."""
    changed_at: Time


class DriveFolder(Wire):
    """What is in a folder: folders first, by name."""

    path: str
    above: str
    """The folder that it is in; empty at a drive's root."""
    entries: list[DriveEntry]
    more: int
    """How many further entries are not listed."""


class TakenFromDrive(Wire):
    """What came of files that were to be taken: arrivals that are read now, and why others were refused, by path."""

    arrivals: list[Arrival]
    refused: dict[str, str]


class HotFolderRule(Wire):
    """A folder of the service's computer whose files are taken in by themselves: into which folder of the library, and
    what is queued of each; nothing without `queue`."""

    path: Annotated[str, Field(min_length=1, max_length=700)]
    folder: FolderPath = ""
    queue: QueueWish | None = None
    on: bool = True


class HotFolderShown(HotFolderRule):
    """One of them as it is now. `trouble` says why it cannot be looked into; empty where it can."""

    id: int
    trouble: str = ""
    added_at: Time
    added_by: str


class Overruling(Wire):
    """Let a file's content run on a model although a rule refuses it."""

    model: Word
    rule: str = Field(max_length=40)
    reason: str = Field(min_length=3, max_length=300, examples=["the clip at the front left is off, there is room"])


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


class NewPart(Wire):
    name: Name
    notes: str = Field(default="", max_length=4000)
    files: list[Number] = Field(default_factory=list, max_length=200)


class PartChange(Wire):
    name: Name | None = None
    notes: str | None = Field(default=None, max_length=4000)
    files: list[Number] | None = Field(default=None, max_length=200)
