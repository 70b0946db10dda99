"""Whether a machine can make a job, and if not, why: one rule a blocker, all in one table."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from chronarch.core.fleet import AXES, Capability, Requirement, Tool
from chronarch.core.states import Intake, MachineState

NOZZLE_TOLERANCE_MM = 0.01


@dataclass(frozen=True)
class Need:
    """What a job asks of a machine: its requirement and what its file's reading says (mm, °C)."""

    requirement: Requirement
    extents_mm: tuple[tuple[float, float, float], tuple[float, float, float]] | None = None
    nozzle_c: float = 0.0
    bed_c: float = 0.0
    tools: tuple[int, ...] = (0,)


@dataclass(frozen=True)
class Standing:
    """A machine as the dispatcher sees it now."""

    capability: Capability
    state: MachineState
    intake: Intake
    reachable: bool = True
    busy: bool = False
    """Whether a build of its own is open."""
    reason: str = ""


Rule = Callable[[Need, Standing], str | None]


def _other_machine(need: Need, at: Standing) -> str | None:
    wanted = need.requirement.machine
    return f"the job is for {wanted} only" if wanted and wanted != at.capability.machine else None


def _other_model(need: Need, at: Standing) -> str | None:
    wanted = need.requirement.model
    has = at.capability.model.name
    return f"is a {has}; the job needs a {wanted}" if wanted and wanted != has else None


def _volume(need: Need, at: Standing) -> str | None:
    if need.extents_mm is None:
        return None
    low, high = need.extents_mm
    for axis, least, greatest, size in zip(AXES, low, high, at.capability.model.volume_mm, strict=True):
        if least < -0.01 or greatest > size + 0.01:
            return (
                f"the file reaches from {least:.1f} to {greatest:.1f} mm along {axis}; the machine has 0 to {size:g} mm"
            )
    return None


def _heaters(need: Need, at: Standing) -> str | None:
    model = at.capability.model
    for name, asked, ceiling in (
        ("nozzle", need.nozzle_c, model.nozzle_ceiling_c),
        ("bed", need.bed_c, model.bed_ceiling_c),
    ):
        if asked > ceiling:
            return f"the file asks {asked:.0f} °C of the {name}; the machine's ceiling is {ceiling:.0f} °C"
    return None


def _tools(need: Need, at: Standing) -> str | None:
    have = {tool.number for tool in at.capability.tools}
    missing = [number for number in need.tools if number not in have]
    return f"has no tool {missing[0]}; the file uses it" if missing else None


def _nozzle(need: Need, at: Standing) -> str | None:
    r = need.requirement
    for tool in _used(need, at):
        if r.nozzle_mm is not None and abs(tool.nozzle_mm - r.nozzle_mm) > NOZZLE_TOLERANCE_MM:
            return f"has a {tool.nozzle_mm:g} mm nozzle; the job needs {r.nozzle_mm:g} mm"
        if r.hardened and not tool.hardened:
            return "has no hardened nozzle; the job needs one"
    return None


def _material(need: Need, at: Standing) -> str | None:
    r = need.requirement
    for tool in _used(need, at):
        loaded = f"{tool.colour} {tool.material}".strip() or "nothing"
        if r.material and tool.material.lower() != r.material.lower():
            return f"has {loaded} loaded; the job needs {f'{r.colour} {r.material}'.strip()}"
        if r.colour and tool.colour.lower() != r.colour.lower():
            return f"has {loaded} loaded; the job needs {r.colour}"
    return None


def _used(need: Need, at: Standing) -> list[Tool]:
    return [tool for tool in at.capability.tools if tool.number in need.tools]


def _intake(need: Need, at: Standing) -> str | None:
    words = {Intake.MANUAL: "a person starts each build there", Intake.CLOSED: "takes no work now"}
    return words.get(at.intake)


def _state(need: Need, at: Standing) -> str | None:
    words = {
        MachineState.WARMING: "is warming for another build",
        MachineState.BUILDING: "is building",
        MachineState.PAUSED: "has a paused build",
        MachineState.COOLING: "is cooling after a build",
        MachineState.UNCLEARED: "waits for its bed to be cleared",
        MachineState.DOWN: "is down",
        MachineState.SERVICE: "is in service",
        MachineState.OFFLINE: "is offline",
    }
    text = words.get(at.state)
    return f"{text}: {at.reason}" if text and at.reason and at.state is MachineState.DOWN else text


def _claimed(need: Need, at: Standing) -> str | None:
    return "has another build" if at.busy and at.state is MachineState.IDLE else None


def _reachable(need: Need, at: Standing) -> str | None:
    return None if at.reachable else "its tender is not connected"


LASTING: tuple[Rule, ...] = (_other_machine, _other_model, _volume, _heaters, _tools, _nozzle, _material)
"""Rules that hold until somebody changes the machine or the job."""

PASSING: tuple[Rule, ...] = (_intake, _state, _claimed, _reachable)
"""Rules that time or a person's hands lift."""


def blocker(need: Need, at: Standing, rules: tuple[Rule, ...] = (*LASTING, *PASSING)) -> str | None:
    """The first reason why this machine cannot take the job now, in words that follow the machine's name; None when
    it can."""
    for rule in rules:
        reason = rule(need, at)
        if reason:
            return reason
    return None


def why_waiting(need: Need, fleet: list[Standing]) -> str:
    """One sentence that says why a job waits: the nearest machine's blocker, and how many could make it at all."""
    if not fleet:
        return "There are no machines yet; add one."
    able = [at for at in fleet if blocker(need, at, LASTING) is None]
    if able:
        reasons = [f"{at.capability.machine} {blocker(need, at, PASSING) or 'is about to take it'}" for at in able]
        more = f" (and {len(able) - 2} more)" if len(able) > 2 else ""
        return "; ".join(reasons[:2]) + more + "."
    reasons = [f"{at.capability.machine} {_as_clause(blocker(need, at, LASTING) or '')}" for at in fleet]
    wanted = need.requirement.machine
    if wanted:
        reasons = [r for at, r in zip(fleet, reasons, strict=True) if at.capability.machine == wanted] or [
            f"there is no machine named {wanted}"
        ]
    more = f" (and {len(reasons) - 2} more)" if len(reasons) > 2 else ""
    return "No machine fits: " + "; ".join(reasons[:2]) + more + "."


def _as_clause(reason: str) -> str:
    return f"cannot: {reason}" if reason.startswith(("the ", "a ", "its ")) else reason
