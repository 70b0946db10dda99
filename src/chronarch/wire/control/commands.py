"""What the service has a tender's machines do: one model for each command."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from chronarch.core.machines.model import WIDEST_DISPLAY
from chronarch.wire.common import Wire
from chronarch.wire.control.actions import Action
from chronarch.wire.gcode import WirePlan


class OfBuild(Wire):
    """A command about a build; it is refused when the machine has another one."""

    build: int | None = None


class Pause(OfBuild):
    kind: Literal["pause"] = "pause"
    reason: str = ""


class Resume(OfBuild):
    kind: Literal["resume"] = "resume"


class Stop(OfBuild):
    kind: Literal["stop"] = "stop"
    reason: str = ""


class PauseBefore(OfBuild):
    """Pause before a layer; 0 for the one after the present layer."""

    kind: Literal["pause_before"] = "pause_before"
    layer: int = 0


class NoPauseBefore(OfBuild):
    kind: Literal["no_pause_before"] = "no_pause_before"
    layer: int = 0


class ChangeFilament(OfBuild):
    kind: Literal["change_filament"] = "change_filament"
    reason: str = ""


class Skip(OfBuild):
    """A build continues with an edited file that equals the present one up to command `from_command`."""

    kind: Literal["skip"] = "skip"
    sha256: str
    plan: WirePlan
    from_command: int
    text: str


class Clear(OfBuild):
    """A person has cleared the bed."""

    kind: Literal["clear"] = "clear"


class TakeOut(Wire):
    kind: Literal["take_out"] = "take_out"
    reason: str = ""


class PutBack(Wire):
    kind: Literal["put_back"] = "put_back"


class EmergencyStop(Wire):
    kind: Literal["emergency_stop"] = "emergency_stop"


class Act(Wire):
    """An action by hand."""

    kind: Literal["act"] = "act"
    action: Action


class AskHands(Wire):
    """Have the machine's own display and light ask for hands; an empty text puts back what was there before."""

    kind: Literal["ask_hands"] = "ask_hands"
    text: str = Field(max_length=WIDEST_DISPLAY, pattern=r"^[ -~]*$")


class TurnPower(Wire):
    """Turn the machine's plug on or off. Off is refused while it must not be, unless it is forced."""

    kind: Literal["turn_power"] = "turn_power"
    on: bool
    force: bool = False


class ReadLog(Wire):
    """Lines of a machine's log: the newest `limit` after number `after` that contain `search`."""

    kind: Literal["read_log"] = "read_log"
    after: int = 0
    limit: int = 500
    search: str = ""


BuildCommand = Pause | Resume | Stop | PauseBefore | NoPauseBefore | ChangeFilament | Skip | Clear
MachineCommand = Annotated[
    BuildCommand | TakeOut | PutBack | EmergencyStop | Act | AskHands | TurnPower | ReadLog, Field(discriminator="kind")
]
