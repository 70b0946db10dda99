"""How level a bed is, as machines print it."""

from __future__ import annotations

import unittest

from hypothesis import given, settings
from hypothesis import strategies as st

from chronarch.core.machines.bed_mesh import LARGEST, BedMesh, read_level_map

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
        found = BedMesh(((0.1, 0.1), (0.1, 0.1)))
        self.assertEqual((found.range_mm, found.deviation_mm), (0, 0))
        self.assertAlmostEqual(BedMesh(((0.0, 0.2), (0.0, 0.2))).deviation_mm, 0.1)


if __name__ == "__main__":
    unittest.main()
