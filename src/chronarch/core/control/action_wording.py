"""What people changed, in words, for the record of a build."""

from __future__ import annotations

from chronarch.core.control import actions as h

_ADJUST = (
    ("nozzle_c", "nozzle {:g} °C"),
    ("bed_c", "bed {:g} °C"),
    ("chamber_c", "chamber {:g} °C"),
    ("speed_pct", "speed {:g} %"),
    ("flow_pct", "flow {:g} %"),
    ("fan_pct", "fan {:g} %"),
    ("z_offset_mm", "z offset {:+.3f} mm"),
)


def adjustment(action: h.Action) -> str:
    """An action in a few words, as `nozzle 210 °C, fan 60 %`."""
    match action:
        case h.Adjust():
            given = ((getattr(action, name), text) for name, text in _ADJUST)
            return ", ".join(text.format(value) for value, text in given if value is not None)
        case h.Filament(step):
            return f"filament: {step}"
        case h.Feed(mm):
            return f"filament {mm:+g} mm"
        case h.Switch(name, on):
            return f"{name} {'on' if on else 'off'}"
        case h.SendLine(text):
            return f"sent {text}"
        case h.RunSequence(sequence, _):
            return f"ran {sequence}"
        case h.Preset(material):
            return f"heat for {material}" if material else "heaters off"
        case h.Home(axes):
            return f"homed {' and '.join(axes.lower()) or 'all axes'}"
        case h.Move():
            by = ((axis, getattr(action, axis)) for axis in "xyz")
            return "moved " + ", ".join(f"{axis} {mm:+g} mm" for axis, mm in by if mm)
        case h.MotorsOff():
            return "motors off"
        case h.AnswerPrompt(choice):
            return f"answered the machine: choice {choice + 1}"
        case h.MeasureBed(measure):
            return "bed measured" if measure else "level map read"
        case h.ReadSettings():
            return "settings read"
