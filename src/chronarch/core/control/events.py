"""What happens at a machine and must never be lost. Each kind of event has the facts that belong to it."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Literal

from chronarch.core.machines.states import MachineState, Outcome


@dataclass(frozen=True)
class StateChanged:
    """The machine is in a new state."""

    state: MachineState
    reason: str = ""
    build: int | None = None
    kind: Literal["state"] = "state"


@dataclass(frozen=True)
class BuildBegan:
    """The first line of a build is on its way."""

    build: int
    kind: Literal["began"] = "began"


@dataclass(frozen=True)
class BuildPaused:
    """A build has been paused; `by_itself` when no person asked for it."""

    build: int
    reason: str
    by_itself: bool
    kind: Literal["paused"] = "paused"


@dataclass(frozen=True)
class BuildResumed:
    build: int
    kind: Literal["resumed"] = "resumed"


@dataclass(frozen=True)
class BuildEnded:
    """A build is over: how, why, and how far it came (commands taken, planned seconds, mm of filament)."""

    build: int
    outcome: Outcome
    reason: str
    acknowledged: int
    planned_done_s: float
    filament_mm: float
    kind: Literal["ended"] = "ended"


@dataclass(frozen=True)
class Noticed:
    """Something people should know that changes no state."""

    text: str
    build: int | None = None
    note: bool = False
    """True for what is only worth knowing; False for what a person should look at."""
    about: Literal["machine", "heaters", "power", "file", "readings"] = "machine"
    kind: Literal["noticed"] = "noticed"


@dataclass(frozen=True)
class Adjusted:
    """A person changed something of a running build: what, in words, and who."""

    build: int
    text: str
    by: str = ""
    kind: Literal["adjusted"] = "adjusted"


@dataclass(frozen=True)
class LayersLaid:
    """Layers of a build that were laid from beginning to end: number, and shop seconds spent laying each."""

    build: int
    layers: tuple[tuple[int, float], ...]
    kind: Literal["layers"] = "layers"


@dataclass(frozen=True)
class Levelled:
    """The machine said how level its bed is: heights in mm, rows from front to back."""

    rows: tuple[tuple[float, ...], ...]
    kind: Literal["levelled"] = "levelled"


@dataclass(frozen=True)
class SettingsTold:
    """The machine said what it has stored: values by name, like `M92 X`."""

    values: dict[str, float]
    kind: Literal["settings"] = "settings"


@dataclass(frozen=True)
class EnergyUsed:
    """Wh that the machine drew between two times, in one state and for one build (None: for none)."""

    begin: datetime
    state: MachineState
    wh: float
    build: int | None = None
    kind: Literal["energy"] = "energy"


@dataclass(frozen=True)
class BuildOnBed:
    """The build that a tender has on a machine: when it began (None: its file is only being fetched), why it is paused
    (None: it is not), and how it ended, with the time (None: it has not)."""

    build: int
    begun_at: datetime | None = None
    paused: str | None = None
    ended: BuildEnded | None = None
    ended_at: datetime | None = None


@dataclass(frozen=True)
class MachineStands:
    """The answer to a roll call, of this number: how the machine stands, and which build is on it (None: no build).
    Without a state this tender knows nothing of the machine."""

    number: int
    state: MachineState | None = None
    reason: str = ""
    bed: BuildOnBed | None = None
    kind: Literal["stands"] = "stands"


ControlEvent = (
    StateChanged
    | BuildBegan
    | BuildPaused
    | BuildResumed
    | BuildEnded
    | Noticed
    | Adjusted
    | LayersLaid
    | Levelled
    | SettingsTold
    | EnergyUsed
    | MachineStands
)
