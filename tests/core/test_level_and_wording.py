"""Reading what machines print of their beds and themselves, and putting what hands did into words."""

from __future__ import annotations

import unittest

from hypothesis import given, settings
from hypothesis import strategies as st

from chronarch.core import hands as h
from chronarch.core.asides import Aside
from chronarch.core.contact import Contact, Finding, remarks
from chronarch.core.level_map import LARGEST, LevelMap, read_level_map
from chronarch.core.wording import adjustment

heights = st.integers(-2000, 2000).map(lambda n: n / 1000)


@st.composite
def grids(draw: st.DrawFn) -> list[list[float]]:
    columns = draw(st.integers(2, 9))
    return draw(st.lists(st.lists(heights, min_size=columns, max_size=columns), min_size=2, max_size=9))


class Level(unittest.TestCase):
    @given(grid=grids(), numbered=st.booleans(), upside_down=st.booleans(), echo=st.booleans())
    @settings(max_examples=120)
    def test_a_grid_is_read_however_it_is_printed(
        self, grid: list[list[float]], numbered: bool, upside_down: bool, echo: bool
    ) -> None:
        lines = [" ".join(f"{z:+.3f}" for z in row) for row in grid]
        if numbered:
            lines = [f" {n} {line}" for n, line in enumerate(lines)]
            if upside_down:
                lines.reverse()
        lines = ["Bed level:", "      0      1      2", *lines, "ok"]
        if echo:
            lines = [f"echo:{line}" for line in lines]
        found = read_level_map(lines)
        assert found is not None
        self.assertEqual([list(row) for row in found.rows], grid)
        flat = sorted(z for row in grid for z in row)
        self.assertAlmostEqual(found.range_mm, flat[-1] - flat[0])
        self.assertAlmostEqual(found.mean_mm, sum(flat) / len(flat))

    def test_what_is_no_grid_is_none(self) -> None:
        for lines in (
            [],
            ["ok"],
            ["+0.010 -0.020"],
            ["+0.010 -0.020", "+0.010 -0.020 +0.030"],
            ["X:10.0 Y:20.0", "X:10.0 Y:20.0"],
            ["+0.010 -0.020"] * (LARGEST + 1),
        ):
            with self.subTest(lines=lines[:3]):
                self.assertIsNone(read_level_map(lines))

    def test_a_level_bed_has_no_range_and_no_deviation(self) -> None:
        found = LevelMap(((0.1, 0.1), (0.1, 0.1)))
        self.assertEqual((found.range_mm, found.deviation_mm), (0, 0))
        self.assertAlmostEqual(LevelMap(((0.0, 0.2), (0.0, 0.2))).deviation_mm, 0.1)


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
            "sent M115": h.Line("M115"),
            "ran wipe": h.Run("wipe", {"reach": 20}),
            "heat for PETG": h.Preset("PETG"),
            "heaters off": h.Preset(""),
            "homed all axes": h.Home(),
            "homed x and y": h.Home("XY"),
            "moved x -10 mm, z +0.5 mm": h.Move(x=-10, z=0.5),
            "motors off": h.MotorsOff(),
            "bed measured": h.LevelMap(measure=True),
            "level map read": h.LevelMap(),
            "answered the machine: choice 2": h.Answer(1),
        }
        for words, action in said.items():
            with self.subTest(action=action):
                self.assertEqual(adjustment(action), words)
        self.assertEqual({type(action) for action in said.values()}, set(h.ALLOWED), "none is left out")

    def test_an_aside_is_over_once_done_or_given_up(self) -> None:
        aside = Aside((b"M105",))
        self.assertFalse(aside.over)
        aside.said += ["T:20.0", 'echo:Unknown command: "M290"']
        self.assertEqual(aside.unknown, 'echo:Unknown command: "M290"')
        aside.failed = "the build ended"
        self.assertTrue(aside.over)

    def test_a_probe_remarks_on_what_will_cost_hands_later(self) -> None:
        good = Contact("Brass", {}, {"AUTOREPORT_TEMP": True, "EMERGENCY_PARSER": True})
        self.assertEqual(remarks(Finding(contact=good, wants_line=1)), [])
        poor = Contact("", {}, {"AUTOREPORT_TEMP": False, "EMERGENCY_PARSER": False})
        said = " ".join(remarks(Finding(contact=poor)))
        for words in (
            "asked between lines",
            "emergency stop waits",
            "a build waits for hands",
            "does not say what it is",
        ):
            self.assertIn(words, said)


if __name__ == "__main__":
    unittest.main()
