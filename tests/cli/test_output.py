"""How the command line writes times, sizes and tables."""

from __future__ import annotations

import contextlib
import csv
import io
import json
import os
import time
import unittest
from datetime import UTC, datetime, timedelta

from chronarch.cli import output
from chronarch.core.machines.states import MachineState
from chronarch.wire.control.actions import BuildChange
from chronarch.wire.machines.bed_mesh import BedLevel

NINE = datetime(2026, 10, 19, 9, tzinfo=UTC)


class Output(unittest.TestCase):
    def printed(self, show: object, *arguments: object) -> str:
        out = io.TextIOWrapper(io.BytesIO(), encoding="utf-8", newline="")
        with contextlib.redirect_stdout(out):
            show(*arguments)  # type: ignore[operator]
        out.seek(0)
        return out.read()

    def test_durations_read_as_people_say_them(self) -> None:
        said = {None: "", 0: "0 s", 42.4: "42 s", 59.6: "1 min", 60: "1 min", 3540: "59 min", 3599: "1 h 00 min",
                5430: "1 h 30 min", 90_000: "25 h 00 min"}  # fmt: skip
        for seconds, words in said.items():
            with self.subTest(seconds=seconds):
                self.assertEqual(output.duration(seconds), words)

    def test_times_of_today_are_an_hour_and_others_have_their_day(self) -> None:
        zone = os.environ.get("TZ")
        self.addCleanup(time.tzset)
        self.addCleanup(
            os.environ.pop if zone is None else os.environ.__setitem__, "TZ", *(() if zone is None else (zone,))
        )
        os.environ["TZ"] = "Europe/Berlin"
        time.tzset()
        self.assertEqual(output.clock_time(NINE, NINE + timedelta(hours=3)), "11:00")
        self.assertEqual(output.clock_time(NINE, NINE + timedelta(hours=14)), "Mon 19 Oct 11:00", "it is past midnight")
        self.assertEqual((output.clock_time(NINE), output.clock_time(None)), ("Mon 19 Oct 11:00", ""))

    def test_figures_carry_their_units(self) -> None:
        self.assertEqual((output.size_text(1500), output.size_text(2_500_000)), ("1.5 kB", "2.5 MB"))
        self.assertEqual(
            [output.degrees(*pair) for pair in ((None, 200.0), (21.4, None), (21.4, 0.0), (199.6, 205.0))],
            ["", "21 °C", "21 °C", "200 / 205 °C"],
        )

    def test_figures_stand_right_and_words_left(self) -> None:
        table = self.printed(output.show_table, ["Machine", "Progress"], [["Anchor", "7 %"], ["Bo", "100 %"]], "none")
        rows = [line.rstrip() for line in table.splitlines() if "%" in line]
        self.assertEqual(rows[0].index("Anchor"), rows[1].index("Bo"))
        self.assertEqual(len(rows[0]), len(rows[1]), "both end at the same place")
        self.assertEqual(self.printed(output.show_table, ["Machine"], [], "No machine yet."), "No machine yet.\n")

    def test_every_state_has_a_look(self) -> None:
        self.assertEqual(set(output.STYLES), set(MachineState))
        for state in MachineState:
            self.assertEqual(str(output.state_text(state)), state)

    def test_records_come_as_json_and_as_csv_that_programs_can_read(self) -> None:
        changes = [BuildChange(at=NINE, text='fan 60 %, "slow"', by="Maud"), BuildChange(at=NINE, text="a\nb", by="")]
        self.assertEqual(json.loads(self.printed(output.show_json, changes))[0]["text"], 'fan 60 %, "slow"')
        rows = list(csv.DictReader(io.StringIO(self.printed(output.show_csv, changes), newline="")))
        self.assertEqual([row["text"] for row in rows], ['fan 60 %, "slow"', "a\nb"])
        level = [BedLevel(at=NINE, rows=[[0.0, 0.1]], range_mm=0.1, mean_mm=0.05, deviation_mm=0.05)]
        row = next(csv.DictReader(io.StringIO(self.printed(output.show_csv, level), newline="")))
        self.assertEqual(json.loads(row["rows"]), [[0.0, 0.1]])
        self.assertEqual(self.printed(output.show_csv, []), "")

    def test_facts_without_a_value_are_left_out(self) -> None:
        said = self.printed(output.show_facts, [("State", "idle"), ("Reason", ""), ("Bed", "60 °C")])
        self.assertEqual([line.split()[0] for line in said.splitlines()], ["State", "Bed"])


if __name__ == "__main__":
    unittest.main()
