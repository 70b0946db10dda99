"""Which files make the same part."""

from __future__ import annotations

import unittest

from chronarch.core.library.part_grouping import GroupableFile, families, stem


class Kinship(unittest.TestCase):
    def test_a_stem_is_the_name_without_what_tells_variants_apart(self) -> None:
        table = {
            "nest-box-plate.gcode": "nest-box-plate",
            "nest-box-plate-0.6mm.gcode": "nest-box-plate",
            "Nest box plate (x4) PETG lantern_300.gcode": "nest-box-plate",
            "nest-box-plate_v2_0.2mm_1h20m.gcode": "nest-box-plate-1h20m",
            "bobbin-32.gcode": "bobbin",
            "32.gcode": "32",
            "plain": "plain",
        }
        for name, expected in table.items():
            with self.subTest(name=name):
                self.assertEqual(stem(name, ["Lantern 300"]), expected)

    def kin(self, file: int, name: str, height: float = 10.0, part: int | None = None) -> GroupableFile:
        return GroupableFile(file, name, height, (30.0, 20.0), part)

    def test_files_of_one_stem_and_height_are_a_family(self) -> None:
        (found,) = families(
            [self.kin(1, "cup-0.4.gcode"), self.kin(2, "cup-0.6.gcode", 10.2), self.kin(3, "lid.gcode")]
        )
        self.assertEqual((found.name, found.files, found.part), ("cup", (1, 2), None))
        self.assertIn("all are 10.2 mm high, 30 x 20 mm", found.why)

    def test_a_name_alone_does_not_make_kin_of_different_heights(self) -> None:
        self.assertEqual(families([self.kin(1, "cup-0.4.gcode"), self.kin(2, "cup-0.6.gcode", 25.0)]), [])

    def test_a_new_variant_is_drawn_to_the_part_its_kin_make(self) -> None:
        files = [
            self.kin(1, "cup-0.4.gcode", part=7),
            self.kin(2, "cup-0.6.gcode", part=7),
            self.kin(3, "cup-petg.gcode"),
        ]
        (found,) = families(files)
        self.assertEqual((found.files, found.part), ((3,), 7))
        self.assertEqual(families(files[:2]), [], "what is confirmed is not suggested again")


if __name__ == "__main__":
    unittest.main()
