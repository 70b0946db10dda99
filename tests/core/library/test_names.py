"""Names."""

from __future__ import annotations

import unittest

from chronarch.core.errors import BadName
from chronarch.core.library.names import check_name


class Names(unittest.TestCase):
    def test_hostile_names_are_refused(self) -> None:
        for name in ("", "  ", "../x", "a/b", "a\\b", ".hidden", "a\0b", "a\nb", "x" * 300, "gcod‮e.exe", "a..b", "C:x"):
            with self.subTest(name=name), self.assertRaises(BadName):
                check_name(name)

    def test_ordinary_names_are_kept_composed(self) -> None:
        self.assertEqual(check_name("  Schiffchen spitz é.gcode "), "Schiffchen spitz é.gcode")


if __name__ == "__main__":
    unittest.main()
