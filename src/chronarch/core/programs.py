"""The tender's own short programs: heaters off, parking, heating again, returning, ending."""

from __future__ import annotations

from chronarch.core.fleet import MachineModel
from chronarch.core.gcode.modal import ModalState
from chronarch.core.hands import offset_step
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
    """Ask for what the file or hands last asked for, and wait for it."""
    bed, nozzle = modal.bed_asked_c, modal.nozzle_asked_c
    waits = (*((b"M190 S%g" % bed,) if bed else ()), *((b"M109 S%g" % nozzle,) if nozzle else ()))
    return Steps((b"M140 S%g" % bed, b"M104 S%g" % nozzle, *waits))


def go_back(modal: ModalState, *, lifted: bool, retracted: bool) -> Steps:
    """Undo `park`: position, filament, modes, extruder count, feed rate and fan as the file left them."""
    m = modal
    back: list[bytes] = []
    if lifted:
        back += [b"G90", b"G1 X%.3f Y%.3f F6000" % (m.x, m.y), b"G1 Z%.3f F600" % m.z]
    if retracted:
        back += [b"M83", b"G1 E%d F2400" % RETRACT_MM]
    back += [b"G90" if m.absolute else b"G91", b"M82" if m.absolute_e else b"M83", b"G92 E%.5f" % m.e]
    if m.feed_mm_min:
        back.append(b"G1 F%g" % m.feed_mm_min)
    back.append(b"M106 S%g" % m.fan if m.fan else b"M107")
    return Steps(tuple(back))


def undo(speed_pct: float, flow_pct: float, z_offset_mm: float) -> tuple[bytes, ...]:
    """Take back what hands had set of a build, so that the next begins as its file says."""
    speed = (b"M220 S100",) if speed_pct != 100 else ()
    flow = (b"M221 S100",) if flow_pct != 100 else ()
    offset = (offset_step(-z_offset_mm),) if z_offset_mm else ()
    return speed + flow + offset


def end(model: MachineModel, *, lift: bool, report_every_s: int, undo: tuple[bytes, ...] = ()) -> Steps:
    """The build is over: heaters off at once, then, where the file itself did not, lift and park; `undo` takes back
    what hands had set."""
    away = (b"G91", *_away(model)) if lift else ()
    return Steps((b"M400", *HEATERS_OFF, *away, b"M400", *undo, report(report_every_s)))
