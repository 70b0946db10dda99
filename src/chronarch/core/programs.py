"""The tender's own short programs: heaters off, parking, heating again, returning, ending."""

from __future__ import annotations

from chronarch.core.fleet import MachineModel
from chronarch.core.gcode.modal import ModalState
from chronarch.core.line_link import Steps

HEATERS_OFF = (b"M104 S0", b"M140 S0", b"M107")
RETRACT_MM = 2


def report(every_s: int) -> bytes:
    """Have the machine report its heat by itself."""
    return b"M155 S%d" % every_s


def quiet(report_every_s: int) -> Steps:
    """After a fresh contact: heaters off, since nobody is known to want them, and reports by itself."""
    return Steps((*HEATERS_OFF, report(report_every_s)))


def _away(model: MachineModel) -> tuple[bytes, ...]:
    """Lift, then park; from relative positioning, which it leaves."""
    x, y = model.park_mm
    return b"G1 Z%g F600" % model.lift_mm, b"G90", b"G1 X%g Y%g F6000" % (x, y)


def park(model: MachineModel, *, lift: bool, heaters_off: bool) -> Steps:
    """Wait for the moves under way; with `lift`, retract, lift and park; the fan stays as it is."""
    away = (b"G1 E-%d F2400" % RETRACT_MM, *_away(model)) if lift else ()
    return Steps((b"M400", b"G91", b"M83", *away, b"M400", *(HEATERS_OFF[:2] if heaters_off else ())))


def heat_again(modal: ModalState) -> Steps:
    """Ask for what the file last asked for, and wait for it."""
    bed, nozzle = modal.bed_asked_c, modal.nozzle_asked_c
    waits = (*((b"M190 S%g" % bed,) if bed else ()), *((b"M109 S%g" % nozzle,) if nozzle else ()))
    return Steps((b"M140 S%g" % bed, b"M104 S%g" % nozzle, *waits))


def go_back(modal: ModalState, *, lifted: bool) -> Steps:
    """Undo `park`: position, filament, modes, extruder count, feed rate and fan as the file left them."""
    m = modal
    back: list[bytes] = []
    if lifted:
        back += [b"G90", b"G1 X%.3f Y%.3f F6000" % (m.x, m.y), b"G1 Z%.3f F600" % m.z]
        back += [b"M83", b"G1 E%d F2400" % RETRACT_MM]
    back += [b"G90" if m.absolute else b"G91", b"M82" if m.absolute_e else b"M83", b"G92 E%.5f" % m.e]
    if m.feed_mm_min:
        back.append(b"G1 F%g" % m.feed_mm_min)
    back.append(b"M106 S%g" % m.fan if m.fan else b"M107")
    return Steps(tuple(back))


def end(model: MachineModel, *, lift: bool, report_every_s: int) -> Steps:
    """The build is over: heaters off at once, then, where the file itself did not, lift and park."""
    away = (b"G91", *_away(model)) if lift else ()
    return Steps((b"M400", *HEATERS_OFF, *away, b"M400", report(report_every_s)))
