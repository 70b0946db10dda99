"""Why a job waits, in one sentence, from what the plan found."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from chronarch.core.machines.states import Intake, MachineState
from chronarch.core.orders.requirement import Requirement
from chronarch.core.planning.eligibility import (
    RULES_FOR_NOW,
    RULES_FOR_SETUP,
    JobNeed,
    MachineStatus,
    Options,
    blocker,
    first_blocker,
)

OUT = frozenset({MachineState.DOWN, MachineState.SERVICE, MachineState.OFFLINE})
NUMBERS = ("no", "one", "two", "three", "four", "five", "six", "seven", "eight", "nine", "ten", "eleven", "twelve")
ANYTHING = JobNeed(Requirement())
NAMED = 2
"""How many machines are named with their reasons."""


@dataclass(frozen=True)
class PlannedStart:
    """When the plan begins a job, in words (`10:20`), and on which machine; `now` if that is at once."""

    machine: str
    words: str
    now: bool = False


def why_waiting(
    options: Options,
    wanted: str,
    fleet: Mapping[str, MachineStatus],
    able: Sequence[str],
    nearest: Sequence[str],
    start: PlannedStart | None = None,
    first: Mapping[str, int] | None = None,
) -> str:
    """One sentence that says why a job waits. `able` are the machines that can make it as they are set up, `nearest`
    those that could with another spool or nozzle. `wanted` is the machine it is for, empty for any. `first` says which
    job the plan gives a machine first."""
    if not fleet:
        return "There are no machines yet; add one."
    here = [fleet[name] for name in able if name in fleet]
    if not here:
        return _no_machine_fits(options, wanted, fleet, nearest)
    if start is not None and start.now:
        return f"{start.machine} is about to take it."
    until = f" until {start.words}" if start is not None else ""
    if len(here) == 1:
        return _only_one(here[0], until, (first or {}).get(here[0].capability.machine), len(fleet) > 1)
    working = [
        at for at in here
        if at.reachable and at.state not in OUT and at.intake is not Intake.CLOSED and not at.upkeep
    ]  # fmt: skip
    if not working:
        return f"{_all(len(here)).capitalize()} that fit are out of work: {_named(here)}."
    if all(at.intake is Intake.MANUAL for at in working):
        return f"A person starts each build on {_names(working)}."
    to_clear = all(at.state is MachineState.UNCLEARED for at in working)
    if len(working) == len(here):
        doing = "wait for their beds to be cleared" if to_clear else f"are taken{until}"
        return f"{_all(len(here)).capitalize()} that fit {doing}."
    if len(working) == 1:
        doing = "waits for its bed to be cleared" if to_clear else f"is taken{until}"
        return f"Of the {_number(len(here))} machines that fit, only {_names(working)} works, and {doing}."
    doing = "wait for their beds to be cleared" if to_clear else f"are taken{until}"
    some, all_here = _number(len(working)).capitalize(), _number(len(here))
    return f"{some} of the {all_here} machines that fit {doing}; the rest do no work."


def _only_one(at: MachineStatus, until: str, other: int | None, of_several: bool) -> str:
    reason = blocker(ANYTHING, at, RULES_FOR_NOW)
    if reason is None:
        reason = f"takes job {other} first" if other is not None else "is about to take it"
    text = f"{_clause(at.capability.machine, reason)}{until if at.reachable and at.state not in OUT else ''}"
    return f"{text}; no other machine fits." if of_several else f"{text}."


def _named(here: Sequence[MachineStatus]) -> str:
    reasons = [(at.capability.machine, blocker(ANYTHING, at, RULES_FOR_NOW) or "") for at in here[:NAMED]]
    return "; ".join(_clause(name, reason) for name, reason in reasons) + _more(len(here))


def _no_machine_fits(options: Options, wanted: str, fleet: Mapping[str, MachineStatus], nearest: Sequence[str]) -> str:
    """The reasons of the machines that come nearest."""
    asked = [wanted] if wanted else list(dict.fromkeys([*nearest, *fleet]))
    if wanted and wanted not in fleet:
        return f"No machine fits: there is no machine named {wanted}."
    reasons = [
        (name, first_blocker(options(fleet[name]), fleet[name], RULES_FOR_SETUP) or "") for name in asked[:NAMED]
    ]
    told = "; ".join(_clause(name, reason).rstrip(".") for name, reason in reasons)
    return f"No machine fits: {told}{_more(len(asked))}."


def _clause(name: str, reason: str) -> str:
    """A machine with a reason; a colon between them where the reason is a sentence of its own."""
    return f"{name}: {reason}" if reason.startswith(("the ", "a ", "its ")) else f"{name} {reason}"


def _more(many: int) -> str:
    return f" (and {many - NAMED} more)" if many > NAMED else ""


def _all(many: int) -> str:
    return "both machines" if many == 2 else f"all {_number(many)} machines"


def _number(many: int) -> str:
    return NUMBERS[many] if many < len(NUMBERS) else str(many)


def _names(here: Sequence[MachineStatus]) -> str:
    names = [at.capability.machine for at in here]
    return " and ".join(names) if len(names) <= NAMED else f"all {_number(len(names))} machines that fit"
