"""Whether a machine can make a job, and if not, why: one rule a blocker, all in one table."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from chronarch.core.fleet import Capability, Requirement, Tool
from chronarch.core.gcode.preflight import machine_findings
from chronarch.core.states import Intake, MachineState

NOZZLE_TOLERANCE_MM = 0.01


@dataclass(frozen=True)
class Need:
    """What a job asks of a machine: its requirement, and what its file says of itself, read by the machine's model.

    `refusals` are the preflight's findings that keep the file off the model, `overruled` the rules that a person has
    set aside for it; `said_...` is what the slicer declared, which holds where the requirement leaves it open.
    """

    requirement: Requirement
    tools: tuple[int, ...] = (0,)
    refusals: tuple[str, ...] = ()
    overruled: frozenset[str] = frozenset()
    said_nozzle_mm: float | None = None
    said_material: str = ""
    said_model: str = ""
    """One of the shop's models; empty when the file names none of them."""


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


def _preflight(need: Need, at: Standing) -> str | None:
    if need.refusals:
        more = f" (and {len(need.refusals) - 1} more)" if len(need.refusals) > 1 else ""
        return f"is kept from it by the preflight: {need.refusals[0]}{more}"
    asked = need.requirement
    wrong = machine_findings(
        need.tools,
        None if asked.nozzle_mm is not None else need.said_nozzle_mm,
        "" if asked.material else need.said_material,
        at.capability.tools,
        "" if asked.model else need.said_model,
        at.capability.model.name,
    )
    return next((f"is kept from it: {f.text}" for f in wrong if f.rule not in need.overruled), None)


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


LASTING: tuple[Rule, ...] = (_other_machine, _other_model, _nozzle, _material, _preflight)
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


Options = Callable[[Standing], Sequence[Need]]
"""What a job may be made from on a machine: one need for a file, one each for the files of a part."""


def first_blocker(needs: Sequence[Need], at: Standing, rules: tuple[Rule, ...] = (*LASTING, *PASSING)) -> str | None:
    """None when one of the needs can be met by the machine; else why the first cannot."""
    reasons = []
    for need in needs:
        reason = blocker(need, at, rules)
        if reason is None:
            return None
        reasons.append(reason)
    return reasons[0] if reasons else "has no file that makes this part"


def why_waiting(options: Options, wanted: str, fleet: list[Standing]) -> str:
    """One sentence that says why a job waits: the nearest machine's blocker, and how many could make it at all.
    `wanted` is the machine it is for, empty for any."""
    if not fleet:
        return "There are no machines yet; add one."
    able = [at for at in fleet if first_blocker(options(at), at, LASTING) is None]
    if able:
        passing = [(at, first_blocker(options(at), at, PASSING)) for at in able]
        reasons = [f"{at.capability.machine} {reason or 'is about to take it'}" for at, reason in passing]
        more = f" (and {len(able) - 2} more)" if len(able) > 2 else ""
        return "; ".join(reasons[:2]) + more + "."
    asked = [at for at in fleet if not wanted or at.capability.machine == wanted]
    if not asked:
        return f"No machine fits: there is no machine named {wanted}."
    reasons = [
        f"{at.capability.machine} {_as_clause(first_blocker(options(at), at, LASTING) or '')}".rstrip(".")
        for at in asked
    ]
    more = f" (and {len(reasons) - 2} more)" if len(reasons) > 2 else ""
    return "No machine fits: " + "; ".join(reasons[:2]) + more + "."


def _as_clause(reason: str) -> str:
    return f"cannot: {reason}" if reason.startswith(("the ", "a ", "its ")) else reason
