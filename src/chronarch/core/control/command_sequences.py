"""The tender's own short command sequences: heaters off, park, heat again, go back, end."""

from __future__ import annotations

from collections.abc import Sequence

from chronarch.core.control.actions import offset_step
from chronarch.core.control.line_protocol import CommandSequence
from chronarch.core.gcode.modal import ModalState
from chronarch.core.machines.model import MachineModel

RETRACT_MM = 2


def heaters_off(model: MachineModel) -> tuple[bytes, ...]:
    """Turn off every tool's nozzle, the bed, the chamber where there is one, and the part fan."""
    chamber = (b"M141 S0",) if model.chamber_ceiling_c else ()
    return (*nozzles_off(model), b"M140 S0", *chamber, b"M107")


def nozzles_off(model: MachineModel) -> tuple[bytes, ...]:
    if model.tools < 2:
        return (b"M104 S0",)
    return tuple(b"M104 T%d S0" % tool for tool in range(model.tools))


def report(every_s: int) -> bytes:
    """Have the machine report its heat by itself."""
    return b"M155 S%d" % every_s


def quiet(model: MachineModel, report_every_s: int) -> CommandSequence:
    """After a fresh contact: heaters off, since nobody is known to want them, and heat reports on."""
    return CommandSequence((*heaters_off(model), report(report_every_s)))


def in_mm(modal: ModalState, commands: Sequence[bytes]) -> tuple[bytes, ...]:
    """The commands with lengths in mm, inside a file that may count in inches."""
    return (b"G21", *commands, b"G20") if modal.inches else tuple(commands)


def _away(model: MachineModel, modal: ModalState) -> tuple[bytes, ...]:
    """Lift as far as the machine's height allows, then park at the machine's own place. Needs relative positioning and
    ends in absolute."""
    x, y = (at - shift for at, shift in zip(model.park_mm, modal.shift_mm, strict=False))
    lift_mm = min(model.lift_mm, model.volume_mm[2] - modal.z - modal.shift_mm[2])
    lift = (b"G1 Z%g F600" % round(lift_mm, 3),) if lift_mm >= 0.001 else ()
    return *lift, b"G90", b"G1 X%g Y%g F6000" % (x, y)


def park(
    model: MachineModel, modal: ModalState, *, lift: bool, heaters_off: bool, retract_mm: float = RETRACT_MM
) -> CommandSequence:
    """Wait for the moves under way. With `lift`, retract, lift and park; the fan stays as it is. Afterwards the machine
    is in millimetres and relative extrusion; `go_back` undoes that."""
    away = (b"G1 E-%g F2400" % retract_mm, *_away(model, modal)) if lift else ()
    off = (*nozzles_off(model), b"M140 S0") if heaters_off else ()
    return CommandSequence((b"M400", *((b"G21",) if modal.inches else ()), b"G91", b"M83", *away, b"M400", *off))


def heat_again(modal: ModalState) -> CommandSequence:
    """Set every heater to what the file or a person last asked for, and wait for it."""
    bed, chamber = modal.bed_asked_c, modal.chamber_asked_c
    nozzles = modal.nozzles_c or {modal.tool: 0.0}
    plain = set(nozzles) == {modal.tool}

    def nozzle(word: bytes, tool: int, c: float) -> bytes:
        return b"%s S%g" % (word, c) if plain else b"%s T%d S%g" % (word, tool, c)

    asked = [b"M140 S%g" % bed, *(nozzle(b"M104", tool, c) for tool, c in nozzles.items())]
    waits = [b"M190 S%g" % bed] if bed else []
    waits += [nozzle(b"M109", tool, c) for tool, c in nozzles.items() if c]
    return CommandSequence((*((b"M141 S%g" % chamber,) if chamber else ()), *asked, *waits))


def go_back(modal: ModalState, *, lifted: bool, retracted: bool, prime_mm: float = RETRACT_MM) -> CommandSequence:
    """Undo `park`: position, filament, modes, extruder count, feed rate and fans as the file left them."""
    m = modal
    back: list[bytes] = [b"G21"] if m.inches else []
    if lifted:
        back += [b"G90", b"G1 X%.3f Y%.3f F6000" % (m.x, m.y), b"G1 Z%.3f F600" % m.z]
    if retracted:
        back += [b"M83", b"G1 E%g F2400" % prime_mm]
    back += [b"G90" if m.absolute else b"G91", b"M82" if m.absolute_e else b"M83", b"G92 E%.5f" % m.e]
    if m.feed_mm_min:
        back.append(b"G1 F%g" % m.feed_mm_min)
    for fan, speed in (m.fans or {0: 0.0}).items():
        which = b" P%d" % fan if fan else b""
        back.append(b"M106%s S%g" % (which, speed) if speed else b"M107%s" % which)
    if m.inches:
        back.append(b"G20")
    return CommandSequence(tuple(back))


def undo(speed_pct: float, flow_pct: float, z_offset_mm: float) -> tuple[bytes, ...]:
    """Take back what people set during a build, so that the next build starts as its file says."""
    speed = (b"M220 S100",) if speed_pct != 100 else ()
    flow = (b"M221 S100",) if flow_pct != 100 else ()
    offset = (offset_step(-z_offset_mm),) if z_offset_mm else ()
    return speed + flow + offset


def end(
    model: MachineModel, modal: ModalState, *, lift: bool, report_every_s: int, undo: tuple[bytes, ...] = ()
) -> CommandSequence:
    """End the build: heaters off at once; then, unless the file did it, lift and park. `undo` takes back what people
    set."""
    away = (b"G91", *_away(model, modal)) if lift else ()
    mm = (b"G21",) if modal.inches else ()
    return CommandSequence((b"M400", *heaters_off(model), *mm, *away, b"M400", *undo, report(report_every_s)))
