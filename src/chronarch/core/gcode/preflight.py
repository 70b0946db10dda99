"""What is wrong with a file for a model and for a machine: one rule a finding, each one sentence."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum

from chronarch.core.gcode import rules as s
from chronarch.core.gcode.vocabulary import LASTING_SETTINGS, OUTLASTS_POWER
from chronarch.core.machines.model import AXES, MachineModel
from chronarch.core.machines.tools import Tool

NOZZLE_TOLERANCE_MM = 0.01
SLOW_FEED_MM_S = 5.0


class Severity(StrEnum):
    """`refuse` keeps the file off the machine until a person with the right overrules it."""

    REFUSE = "refuse"
    WARNING = "warning"
    NOTE = "note"


@dataclass(frozen=True)
class Finding:
    """One thing a preflight found: which rule, how bad, the first line it shows at (0: the whole file), in words."""

    rule: str
    severity: Severity
    line: int
    text: str


@dataclass(frozen=True)
class ReadingFault:
    """What the kernel noted of one rule: first line, how many lines, the worst value."""

    line: int
    count: int
    value: float


@dataclass(frozen=True)
class Faults:
    """All that a preflight needs of a reading."""

    rules: dict[int, ReadingFault]
    lasting: dict[str, tuple[int, int]]
    """Words that outlast the build: first line, count."""
    laid: bool
    pauses: tuple[int, ...]
    top_feed_mm_s: float
    ends_hot: bool
    tools: tuple[int, ...]
    layers: int
    named: tuple[int, str] = (0, "")
    """The first command with a name of its own, and its line: what it does, only the machine knows."""

    def perhaps_done(self, line: int) -> str:
        """The named command that may have homed or heated before a line; empty when there is none."""
        return self.named[1] if 0 < self.named[0] < line else ""


def preflight(faults: Faults, model: MachineModel) -> tuple[Finding, ...]:
    """What is wrong with a file on every machine of a model, worst first, then by line."""
    found = [*_outside(faults, model), *_heat(faults, model), *_habits(faults)]
    for word, (line, count) in faults.lasting.items():
        severity = Severity.REFUSE if word in OUTLASTS_POWER else Severity.WARNING
        more = f" ({count} times)" if count > 1 else ""
        found.append(
            Finding("lasting-word", severity, line, f"{word} {LASTING_SETTINGS[word]}, which outlasts the build{more}.")
        )
    order = list(Severity)
    return tuple(sorted(found, key=lambda x: (order.index(x.severity), x.line)))


def _outside(faults: Faults, model: MachineModel) -> list[Finding]:
    found = []
    for base, what, severity in ((s.R_LAID, "lays material", Severity.REFUSE), (s.R_WENT, "moves", Severity.REFUSE)):
        for side in range(6):
            fault = faults.rules.get(base + side)
            if fault is None or (base == s.R_WENT and s.R_LAID + side in faults.rules):
                continue
            axis = AXES[side % 3]
            where = f"below 0 along {axis}" if side < 3 else f"beyond {model.volume_mm[side % 3]:g} mm along {axis}"
            found.append(
                Finding(
                    "outside-volume",
                    severity,
                    fault.line,
                    f"The file {what} {fault.value:.1f} mm {where}, outside the machine's volume.",
                )
            )
    return found


def _heat(faults: Faults, model: MachineModel) -> list[Finding]:
    found = []
    for rule, name, ceiling in (
        (s.R_NOZZLE, "nozzle", model.nozzle_ceiling_c),
        (s.R_BED, "bed", model.bed_ceiling_c),
        (s.R_CHAMBER, "chamber", model.chamber_ceiling_c),
    ):
        fault = faults.rules.get(rule)
        if fault:
            has = f"its ceiling is {ceiling:.0f} °C" if ceiling else f"the machine heats no {name}"
            found.append(
                Finding(
                    "over-ceiling", Severity.REFUSE, fault.line, f"The {name} is asked for {fault.value:.0f} °C; {has}."
                )
            )
    cold = faults.rules.get(s.R_COLD)
    if cold:
        text = f"Filament is pushed through a nozzle that is asked for less than {model.cold_extrusion_c:.0f} °C"
        text += f" ({cold.count} lines)"
        found.append(_unless_done("cold-extrusion", cold.line, text, "heat", faults))
    return found


def _unless_done(rule: str, line: int, text: str, deed: str, faults: Faults) -> Finding:
    """A refusal; a warning where a command that only the machine knows may have done it before."""
    named = faults.perhaps_done(line)
    if named:
        return Finding(rule, Severity.WARNING, line, f"{text}, unless {named} before it does {deed}.")
    return Finding(rule, Severity.REFUSE, line, f"{text}.")


def _habits(faults: Faults) -> list[Finding]:
    found = []
    unhomed = faults.rules.get(s.R_UNHOMED)
    if unhomed:
        text = "The head moves along an axis that has not been homed (G28)"
        found.append(_unless_done("not-homed", unhomed.line, text, "home", faults))
    inches = faults.rules.get(s.R_INCHES)
    if inches:
        text = "The file switches to inches (G20); sliced files are in millimetres."
        found.append(Finding("inches", Severity.WARNING, inches.line, text))
    if faults.laid and 0 < faults.top_feed_mm_s < SLOW_FEED_MM_S:
        text = (
            f"Nothing moves faster than {faults.top_feed_mm_s:.1f} mm/s; were speeds written in mm/s instead of mm/min?"
        )
        found.append(Finding("slow-feed", Severity.WARNING, 0, text))
    if not faults.laid:
        found.append(
            Finding("nothing-laid", Severity.WARNING, 0, "The file lays no material: nothing will be on the bed.")
        )
    if faults.ends_hot:
        found.append(
            Finding("ends-hot", Severity.NOTE, 0, "The file ends without turning all heaters off; Chronarch will.")
        )
    if faults.pauses:
        n = len(faults.pauses)
        times = "once" if n == 1 else f"{n} times"
        text = f"The file pauses {times} for a person's hands, and waits until they come."
        found.append(Finding("asks-for-hands", Severity.NOTE, faults.pauses[0], text))
    return found


def machine_findings(
    tools_used: Sequence[int],
    said_nozzle_mm: float | None,
    said_material: str,
    tools: Sequence[Tool],
    said_model: str = "",
    model: str = "",
) -> tuple[Finding, ...]:
    """What is wrong with a file on one machine as it stands: its model, its tools, nozzles and what is loaded.
    `said_model` counts only where it names a model of the shop."""
    have = {tool.number: tool for tool in tools}
    found = []
    if said_model and said_model.lower() != model.lower():
        text = f"The file was sliced for a {said_model}; this is a {model}."
        found.append(Finding("other-model", Severity.REFUSE, 0, text))
    for number in tools_used:
        tool = have.get(number)
        if tool is None:
            found.append(
                Finding("no-tool", Severity.REFUSE, 0, f"The file uses tool {number}, which the machine has not.")
            )
            continue
        if said_nozzle_mm and abs(tool.nozzle_mm - said_nozzle_mm) > NOZZLE_TOLERANCE_MM:
            text = f"The file was sliced for a {said_nozzle_mm:g} mm nozzle; tool {number} has {tool.nozzle_mm:g} mm."
            found.append(Finding("other-nozzle", Severity.REFUSE, 0, text))
        if said_material and tool.material.lower() != said_material.lower():
            loaded = tool.material or "nothing"
            text = f"The file was sliced for {said_material}; tool {number} has {loaded} loaded."
            found.append(Finding("other-material", Severity.REFUSE, 0, text))
    return tuple(found)
