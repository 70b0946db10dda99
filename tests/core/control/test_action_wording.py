"""What hands did, in words."""

from __future__ import annotations

import unittest

from chronarch.core.control import actions as h
from chronarch.core.control.action_wording import adjustment
from chronarch.core.control.firmware_info import FirmwareInfo, ProbeResult, remarks
from chronarch.core.control.injected_commands import InjectedCommands


class Words(unittest.TestCase):
    def test_every_action_has_its_words(self) -> None:
        said = {
            "nozzle 210 °C, fan 60 %": h.Adjust(nozzle_c=210, fan_pct=60),
            "z offset -0.025 mm": h.Adjust(z_offset_mm=-0.025),
            "speed 80 %, flow 97.5 %": h.Adjust(speed_pct=80, flow_pct=97.5),
            "filament: purge": h.Filament("purge"),
            "filament -5 mm": h.Feed(-5),
            "light on": h.Switch("light", True),
            "light off": h.Switch("light", False),
            "sent M115": h.SendLine("M115"),
            "ran wipe": h.RunSequence("wipe", {"reach": 20}),
            "heat for PETG": h.Preset("PETG"),
            "heaters off": h.Preset(""),
            "homed all axes": h.Home(),
            "homed x and y": h.Home("XY"),
            "moved x -10 mm, z +0.5 mm": h.Move(x=-10, z=0.5),
            "motors off": h.MotorsOff(),
            "bed measured": h.MeasureBed(measure=True),
            "level map read": h.MeasureBed(),
            "settings read": h.ReadSettings(),
            "answered the machine: choice 2": h.AnswerPrompt(1),
        }
        for words, action in said.items():
            with self.subTest(action=action):
                self.assertEqual(adjustment(action), words)
        self.assertEqual({type(action) for action in said.values()}, set(h.ALLOWED), "none is left out")

    def test_an_aside_is_over_once_done_or_given_up(self) -> None:
        injected = InjectedCommands((b"M105",))
        self.assertFalse(injected.over)
        injected.said += ["T:20.0", 'echo:Unknown command: "M290"']
        self.assertEqual(injected.unknown, 'echo:Unknown command: "M290"')
        injected.failed = "the build ended"
        self.assertTrue(injected.over)

    def test_a_probe_remarks_on_what_will_cost_hands_later(self) -> None:
        good = FirmwareInfo("Brass", {}, {"AUTOREPORT_TEMP": True, "EMERGENCY_PARSER": True})
        self.assertEqual(remarks(ProbeResult(contact=good, wants_line=1)), [])
        poor = FirmwareInfo("", {}, {"AUTOREPORT_TEMP": False, "EMERGENCY_PARSER": False})
        said = " ".join(remarks(ProbeResult(contact=poor)))
        for words in (
            "asked between lines",
            "emergency stop waits",
            "a build waits for hands",
            "does not say what it is",
        ):
            self.assertIn(words, said)


if __name__ == "__main__":
    unittest.main()
