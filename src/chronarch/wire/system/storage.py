"""What takes the disk, when it will be full, and what can go. Bytes."""

from __future__ import annotations

from datetime import date
from enum import StrEnum
from typing import Annotated

from pydantic import Field

from chronarch.wire.common import Time, Wire


class StoragePart(StrEnum):
    """What takes room, by what it is for."""

    FILES = "files"
    """The newest revisions of the library's files."""
    REVISIONS = "revisions"
    """Earlier ones."""
    BIN = "bin"
    BUILDS = "builds"
    """What was built and is not in the library any more, edited contents, reference models, photos."""
    LOGS = "logs"
    """Line logs of builds."""
    DERIVED = "derived"
    """Drawings of layers and the like: made from files, and made again when they are wanted."""
    FRAMES = "frames"
    FILMS = "films"
    READINGS = "readings"
    """Heat and power over time."""
    RECORDS = "records"
    """The rest of the database."""
    BACKUPS = "backups"
    """Where they lie on this disk."""


class StorageShare(Wire):
    """What one part takes."""

    part: StoragePart
    size: int
    budget: int | None = None
    """What it may take at most; None where nothing limits it."""
    a_day: float | None = None
    """By how much it grows in a day of shop time, as the last month shows; None while that is not known."""
    can_go: bool = False
    """Whether some of it can be given up; what has a budget is kept within that by itself."""


class StorageShown(Wire):
    """The disk that files lie on."""

    size: int
    free: int
    other: int
    """What is on the disk besides, and what its file system keeps for itself."""
    measured_at: Time | None
    """None until it was measured for the first time."""
    since: date | None
    """The first day of which is known what took how much."""
    a_day: float | None = None
    full_at: Time | None = None
    """When it will be full if it goes on like this; None where it never will, or it is not known yet."""
    parts: list[StorageShare]


class GiveUp(Wire):
    """What is to go, older than so many days: files that lie in the bin, earlier revisions that nothing was built from,
    or line logs of builds."""

    what: Annotated[StoragePart, Field(examples=["revisions"])]
    older_than_days: Annotated[int, Field(ge=0, le=36500)] = 90


class GivenUp(Wire):
    """What went."""

    items: int
    more: bool
    """Whether there is more of it; ask again."""
    text: str
