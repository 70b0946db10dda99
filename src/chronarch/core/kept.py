"""What a tender keeps on its disk of a build under way, so that one started anew can go on with it.

It is written before anything that it speaks of goes to the machine. While the file is being fed, `at` is a count the
machine has certainly passed or reached; while a program of the tender's own is carried it is exact.
"""

from __future__ import annotations

from dataclasses import dataclass, field

from chronarch.core.gcode.modal import ModalState
from chronarch.core.mind import Pausing, Settings


@dataclass
class Own:
    """A program of the tender's own that is being carried: its commands and the number before its first."""

    commands: tuple[str, ...]
    base: int


@dataclass
class Kept:
    """One build as far as this tender has brought it; `phase` by the name it has in the steward."""

    build: int
    phase: str
    state: str
    sha256: str
    at: int = 0
    own: Own | None = None
    reason: str = ""
    modal: ModalState = field(default_factory=ModalState)
    settings: Settings = field(default_factory=Settings)
    pausing: Pausing | None = None
    pauses_before: tuple[int, ...] = ()
    passed_wait: int = -1
    parked: bool = False
    retracted: bool = False
    change: str = ""
    ending: tuple[str, str] = ("completed", "")
    laying_s: float = 0.0
    warming_s: float = 0.0
    laid_from_s: float | None = None
    unsure: bool = False
    waits: str = ""
