"""Plugs: switched, metered sockets that machines hang on. A profile describes any plug that answers with JSON, over
HTTP or MQTT 5, by where its reports are, what turns it, and where in a report each figure is."""

from __future__ import annotations

import json
from dataclasses import dataclass
from typing import Annotated, Any, Literal

from annotated_types import Interval, Len

from chronarch.core.machines.states import WORKING, MachineState

Path = Annotated[str, Len(0, 200)]
Factor = Annotated[float, Interval(gt=0, le=1e9)]
DEVICE = "{device}"
MOST_REPORT = 64_000
"""Bytes. No plug has so much to say."""


class PlugFault(Exception):
    """A plug does not answer, or not with what its profile says; its text says what was wrong."""


@dataclass(frozen=True)
class PlugProfile:
    """How plugs of one make are read and turned. In paths, topics and payloads `{device}` stands for what the plug's
    address has after its host.

    http: `report` is the path that is asked (GET); `turn` the path that turns it, with `method`, and `on` or `off` as
    its body; without bodies `{state}` in the path stands for `on` or `off`. mqtt: `report` is the topic of its
    reports, `ask` the topic that asks for one (with an empty message; none without it), `turn` the topic that turns
    it, with `on` or `off` as the message.

    `is_on`, `watts` and `wh` are JSON Pointers (RFC 6901) into a report; empty for what it does not say. Its figures
    times `watts_factor` and `wh_factor` are W and Wh."""

    name: Annotated[str, Len(1, 60)]
    kind: Literal["http", "mqtt"]
    report: Annotated[str, Len(1, 200)]
    turn: Annotated[str, Len(1, 200)]
    on: Path = "on"
    off: Path = "off"
    is_on: Path = "/on"
    watts: Path = ""
    wh: Path = ""
    method: Literal["GET", "POST", "PUT"] = "POST"
    ask: Path = ""
    on_values: Annotated[tuple[Annotated[str, Len(1, 40)], ...], Len(1, 8)] = ("true", "on", "1")
    """What `is_on` says of a plug that is on; upper and lower case are the same."""
    watts_factor: Factor = 1.0
    wh_factor: Factor = 1.0

    def __post_init__(self) -> None:
        for field in ("is_on", "watts", "wh"):
            pointer = getattr(self, field)
            if pointer and not pointer.startswith("/"):
                raise ValueError(f"{field} is a JSON Pointer, which begins with /; {pointer!r} does not")
        if self.kind == "http":
            for field in ("report", "turn"):
                path = getattr(self, field)
                if not path.startswith("/") or not path.isascii():
                    raise ValueError(f"{field} is a path, which begins with / and is plain ASCII; {path!r} is not")
        if not self.is_on:
            raise ValueError("is_on says where a report has whether the plug is on; it cannot be empty")


@dataclass(frozen=True)
class PlugReport:
    """What a plug says of itself: whether it is on, W, and the Wh that it has counted. None: it does not say."""

    on: bool | None
    watts: float | None = None
    wh: float | None = None


def read_report(profile: PlugProfile, payload: bytes) -> PlugReport:
    """What a report says. Raises PlugFault."""
    if len(payload) > MOST_REPORT:
        raise PlugFault(f"its report has {len(payload)} bytes; a plug's has a few hundred")
    try:
        report = json.loads(payload)
    except ValueError:
        raise PlugFault(f"its report is no JSON; it begins {payload[:40]!r}") from None
    said = _at(report, profile.is_on, "is_on")
    on = str(said).lower() in {value.lower() for value in profile.on_values}
    return PlugReport(
        on, _figure(report, profile.watts, "watts", profile.watts_factor),
        _figure(report, profile.wh, "wh", profile.wh_factor),
    )  # fmt: skip


def _figure(report: Any, pointer: str, name: str, factor: float) -> float | None:
    if not pointer:
        return None
    said = _at(report, pointer, name)
    try:
        value = float(said) * factor
    except (TypeError, ValueError):
        raise PlugFault(f"{name}, at {pointer}, is {said!r} and no number") from None
    if not -1e6 < value < 1e12:
        raise PlugFault(f"{name}, at {pointer}, is {value:g}, which no plug measures")
    return value


def _at(report: Any, pointer: str, name: str) -> Any:
    """What a JSON Pointer (RFC 6901) leads to. Raises PlugFault."""
    here = report
    for part in pointer.split("/")[1:]:
        part = part.replace("~1", "/").replace("~0", "~")
        try:
            here = here[int(part)] if isinstance(here, list) else here[part]
        except (KeyError, IndexError, ValueError, TypeError):
            raise PlugFault(f"its report has nothing at {pointer}, where the profile has {name}") from None
    return here


@dataclass(frozen=True)
class PowerRules:
    """When a machine's plug may be turned. `cool_c`: never off while a heater measures more, °C. `run_on_s`: before it
    is turned off the part fan runs for so long, s. `off_after_min`: off by itself so long after the last work; 0 never.
    `ahead`: on by itself before the plan's next build. `start_up_s`: from on until it can take work, s."""

    cool_c: Annotated[float, Interval(ge=25, le=200)] = 50.0
    run_on_s: Annotated[float, Interval(ge=0, le=1800)] = 0.0
    off_after_min: Annotated[float, Interval(ge=0, le=1440)] = 0.0
    ahead: bool = True
    start_up_s: Annotated[float, Interval(ge=0, le=1800)] = 60.0


NEVER_OFF = {
    **dict.fromkeys(WORKING, "it builds"),
    MachineState.WARMING: "it warms up for a build",
    MachineState.PAUSED: "its build is paused, and would be lost",
}
"""States in which a machine is not turned off, with why."""


def why_not_off(state: MachineState, hottest_c: float | None, rules: PowerRules) -> str:
    """Why a machine must not be turned off now; empty when it may."""
    if state in NEVER_OFF:
        return NEVER_OFF[state]
    if hottest_c is not None and hottest_c > rules.cool_c:
        return f"a heater is at {hottest_c:.0f} °C; it may be turned off below {rules.cool_c:.0f} °C"
    return ""
