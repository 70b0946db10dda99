"""Expressions of tags."""

from __future__ import annotations

import unittest

from chronarch.core.machines.tag_expression import BadTags, parse_tags


class Tags(unittest.TestCase):
    def test_and_or_not_and_brackets(self) -> None:
        tags = ("food safe", "wide")
        for text, met in (
            ("wide", True), ("WIDE", True), ('"food safe" and wide', True), ("not wide", False),
            ("not (dry or draughty)", True), ("dry or wide and not draughty", True), ("dry", False),
        ):  # fmt: skip
            with self.subTest(text=text):
                tree = parse_tags(text)
                assert tree is not None
                self.assertIs(tree.met_by(tags), met)
        self.assertIsNone(parse_tags("  "))

    def test_what_cannot_be_read_says_where(self) -> None:
        for text in ("and wide", "wide and", "(wide", "wide )", "wide dry", '"open', "not"):
            with self.subTest(text=text), self.assertRaises(BadTags):
                parse_tags(text)


if __name__ == "__main__":
    unittest.main()
