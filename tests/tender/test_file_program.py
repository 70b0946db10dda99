"""A file on disk as a program."""

from __future__ import annotations

import unittest

from hypothesis import given
from hypothesis import strategies as st

from chronarch.core.errors import NotGcode
from chronarch.core.gcode.analysis import analyse
from chronarch.core.machines.model import MachineModel
from chronarch.tender.file_program import FileProgram
from tests.support.gcode import commands, squares
from tests.tender.test_journal import InFolder


class Programs(InFolder):
    def program(self, data: bytes) -> FileProgram:
        path = self.folder / "file"
        path.write_bytes(data)
        program = FileProgram(path)
        return program

    def test_a_files_commands_are_those_that_its_reading_counts(self) -> None:
        text = squares(layers=3, rounds=3)
        program = self.program(text.encode())
        self.assertEqual([program.command(n).decode() for n in range(len(program))], commands(text))
        self.assertEqual(len(program), analyse(text.encode(), MachineModel("m")).commands)

    def test_line_ends_of_either_kind_and_a_missing_last_one_are_read(self) -> None:
        program = self.program(b"G28\r\n;x\r\n\r\nG1 X1\r\nM84")
        self.assertEqual([program.command(n) for n in range(len(program))], [b"G28", b"G1 X1", b"M84"])

    @given(st.lists(st.sampled_from((b"G1 X1", b"; x", b"", b"  ", b"N3 G28*1", b"(a) M84", b"not gcode")), min_size=1))
    def test_feeding_and_reading_agree_on_what_is_a_command(self, lines: list[bytes]) -> None:
        data = b"\n".join([b"G1 X0", *lines]) + b"\n"
        path = self.folder / "file"
        path.write_bytes(data)
        program = FileProgram(path)
        count = len(program)
        try:
            self.assertEqual(count, analyse(data, MachineModel("m")).commands)
        except NotGcode:
            self.assertIn(b"not gcode", lines)


if __name__ == "__main__":
    unittest.main()
