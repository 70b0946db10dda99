"""Figures: any measure by what one likes, each equal to what the records say, and open down to its builds."""

from __future__ import annotations

import csv
import io
import itertools
import json
from datetime import UTC, datetime, timedelta

from chronarch.client import RefusedByService, requests
from chronarch.core.machines.states import MachineState
from chronarch.core.orders.states import Verdict
from chronarch.wire.ledger.figures import Figure, FigureRow, FiguresAsked, FiguresReport
from chronarch.wire.ledger.history import BuildSearch
from chronarch.wire.planning.settings import SiteHours
from tests.support.gcode import squares
from tests.support.past import put_build
from tests.support.processes import run
from tests.support.world import World, WorldCase

MONDAY = datetime(2026, 10, 5, tzinfo=UTC)
"""A fortnight before the shop's today: weeks in which builds are put as a test wants them."""


def put_two_weeks(w: World, numbers: dict[str, int]) -> None:
    """On each day of two weeks each machine ends a build at 10:30 and 22:30 in Berlin; of Bezel's every third is
    scrap."""
    copies = itertools.count(11)
    for day, hour, (machine, number) in itertools.product(range(14), (8.5, 20.5), numbers.items()):
        copy = next(copies)
        scrap = machine == "Bezel" and copy % 3 == 0
        put_build(w, number, MONDAY + timedelta(days=day, hours=hour), "stringing" if scrap else "")


class Figures(WorldCase):
    machines = ("Anchor", "Bezel")

    @classmethod
    def prepare(cls) -> None:
        super().prepare()
        w = cls.world
        w.add_file("little.gcode", squares(layers=2))
        w.add_file("more.gcode", squares(layers=4, rounds=2))
        numbers = {
            "Anchor": w.made("little.gcode", "Anchor", Verdict.GOOD),
            "Bezel": w.made("more.gcode", "Bezel", Verdict.SCRAP, "warped corner"),
        }
        week = [[{"begin": "08:00", "end": "17:00"}]] * 5 + [[], []]
        hours = {"site": "", "zone": "Europe/Berlin", "week": week}
        w.client.do(requests.set_hours(SiteHours.model_validate(hours)))
        w.client.do(requests.change_machine("Bezel", tags=["old", "loud"]))
        put_two_weeks(w, numbers)

    def ask(self, measure: str, by: str = "", **more: object) -> FiguresReport:
        span = {"from": MONDAY, "to": MONDAY + timedelta(days=14)}
        asked = FiguresAsked.model_validate({"measure": measure, "by": by, **span, **more})
        return self.world.client.do(requests.figures(asked))

    def values(self, measure: str, by: str, **more: object) -> dict[str, float | None]:
        found = self.ask(measure, by, **more)
        return {" ".join(row.key): (one := row.figures[measure]) and one.value for row in found.rows}

    def test_builds_are_counted_by_machine_calendar_and_what_was_made(self) -> None:
        self.assertEqual(self.values("builds", "machine"), {"Anchor": 28, "Bezel": 28})
        self.assertEqual(self.values("builds", "shift"), {"staffed": 20, "away": 36})
        self.assertEqual(self.values("builds", "hour"), {"10": 28, "22": 28})
        self.assertEqual(self.values("builds", "weekday"), {str(n): 8 for n in range(1, 8)})
        self.assertEqual(self.values("builds", "week"), {"2026-W41": 28, "2026-W42": 28})
        self.assertEqual(self.values("builds", "group"), {"": 28, "loud": 28, "old": 28})
        self.assertEqual(self.values("builds", "file"), {"little.gcode": 28, "more.gcode": 28})
        self.assertEqual(self.values("builds", "model,material"), {"Lantern 220 PLA": 56})
        self.assertEqual(self.values("scrap", "scrap_reason"), {"": 0, "stringing": 10})
        self.assertEqual(self.values("builds", "machine", file="LITTLE.gcode"), {"Anchor": 28})
        self.assertEqual(self.values("builds", "machine", group="loud"), {"Bezel": 28})

    def test_a_share_says_how_sure_it_is_and_from_what_it_is_worked_out(self) -> None:
        found = self.ask("scrap_share,quality", "machine")
        anchor, bezel = (row.figures["scrap_share"] for row in found.rows)
        assert anchor and bezel and bezel.low is not None and bezel.high is not None
        self.assertEqual((anchor.value, bezel.value), (0, 10 / 28))
        self.assertAlmostEqual(bezel.low, 0.2071, 4)
        self.assertAlmostEqual(bezel.high, 0.5417, 4)
        self.assertEqual(bezel.counted, {"scrap": 10, "judged": 28})
        total = found.total.figures["scrap_share"]
        assert total is not None
        self.assertEqual(total.counted, {"scrap": 10, "judged": 56})
        self.assertEqual(found.measures[1].formula, "GQ ÷ PQ: good pieces ÷ pieces that were judged")

    def test_each_row_opens_down_to_the_builds_behind_it(self) -> None:
        asked = "machine", "weekday", "hour,shift", "week", "day", "group", "material", "weekday,machine", "outcome"
        for by in asked:
            found = self.ask("builds", by)
            for row in [*found.rows, found.total]:
                one = row.figures["builds"]
                if row.builds is None:
                    self.assertIn("", row.key)
                    continue
                builds = self.world.client.all(requests.history(BuildSearch.model_validate(row.builds)))
                self.assertEqual(len(builds), one and one.value, (by, row.key))

    def test_time_adds_up_to_what_the_ledger_says(self) -> None:
        w = self.world
        now = w.client.do(requests.shop()).now
        begin, end = now - timedelta(days=2), now
        report = w.client.do(requests.utilisation(begin, end))
        warming, recorded = report.fleet.seconds[MachineState.WARMING], report.fleet.recorded_s

        def counted(figure: Figure | None, name: str) -> float:
            return 0.0 if figure is None else figure.counted[name]

        for by in ("machine", "hour", "shift", "day,machine"):
            found = self.ask(
                "productive,idle_share,availability,oee,between_failures", by, **{"from": begin, "to": end}
            )
            for name, expected in (("warming", warming), ("recorded", recorded)):
                rows = sum(counted(row.figures["productive"], name) for row in found.rows)
                self.assertAlmostEqual(rows, expected, 3, (by, name))
                self.assertAlmostEqual(counted(found.total.figures["productive"], name), expected, 3)
            whole = found.total.figures["productive"]
            self.assertAlmostEqual(whole.value if whole else -1, report.fleet.utilisation, 6)
        oee = found.total.figures["oee"]
        assert oee is not None
        c = oee.counted
        planned_busy_s = c["recorded"] - c["service"]
        self.assertAlmostEqual(oee.value, c["made_s"] / planned_busy_s * c["good_pieces"] / c["pieces"])

    def test_another_time_stands_beside(self) -> None:
        def before(row: FigureRow) -> float | None:
            figure = row.against and row.against["builds"]
            return figure.value if figure else None

        week = {"from": MONDAY + timedelta(days=7), "to": MONDAY + timedelta(days=14)}
        found = self.ask("builds", "machine", **week, against="before")
        self.assertEqual((found.against_begin, found.against_end), (MONDAY, MONDAY + timedelta(days=7)))
        self.assertEqual([before(row) for row in found.rows], [14, 14])
        early = {"against_from": MONDAY, "against_to": MONDAY + timedelta(days=1)}
        self.assertEqual(before(self.ask("builds", "day", **week, **early).total), 4)
        self.assertEqual(self.values("turnaround", "machine"), {"Anchor": 600, "Bezel": 600})

    def test_stops_are_counted_by_why_and_open_down_to_their_builds(self) -> None:
        w = self.world
        begin = MONDAY + timedelta(days=1)
        build = w.rows("select max(id) from build where machine_id = (select id from machine where name = 'Bezel')")
        stops = ("paused", "the watch: it comes loose", 30), ("paused", "the watch: spaghetti", 15), ("down", "", 45)
        for n, (state, why, minutes) in enumerate(stops):
            w.sql(
                "insert into ledger (machine_id, state, begin_at, end_at, build_id, reason) select id, :state, :begin,"
                " :end, :build, :why from machine where name = 'Bezel'",
                state=state, begin=begin.replace(tzinfo=None) + timedelta(hours=n), why=why,
                end=begin.replace(tzinfo=None) + timedelta(hours=n, minutes=minutes),
                build=build[0][0] if why else None,
            )  # fmt: skip
        w.sql("insert into build_stop (build_id, why) values (:build, 'the watch')", build=build[0][0])
        self.assertEqual(self.values("stops", "stop_reason"), {"down": 1, "the watch": 2})
        self.assertEqual(self.values("stopped", "stop_reason"), {"down": 0.75, "the watch": 0.75})
        self.assertEqual(self.values("stops", "machine,day"), {"Bezel 2026-10-06": 3})
        found = self.ask("stops,stopped", "stop_reason")
        self.assertEqual(found.total.figures["stops"] and found.total.figures["stops"].value, 3)
        behind = BuildSearch.model_validate({"stop_reason": "the watch"})
        self.assertEqual([one.id for one in w.client.do(requests.history(behind))], [build[0][0]])
        with self.assertRaisesRegex(RefusedByService, "Builds has no stop reason"):
            self.ask("stops,builds", "stop_reason")

    def test_what_builds_drew_counts_for_them(self) -> None:
        w = self.world
        newest = "select max(id) from build where machine_id = (select id from machine where name = :name)"
        for name, wh in (("Anchor", 40.5), ("Bezel", 12.0)):
            ((build,),) = w.rows(newest, name=name)
            w.sql(
                "insert into energy (machine_id, day, state, build_id, wh, last_at)"
                " select id, :day, 'building', :build, :wh, :day from machine where name = :name",
                name=name, day=MONDAY.date(), build=build, wh=wh,
            )  # fmt: skip
        self.assertEqual(self.values("wh", "machine"), {"Anchor": 40.5, "Bezel": 12})
        self.assertEqual(self.values("wh", "material"), {"PLA": 52.5})

    def test_what_cannot_be_asked_is_said(self) -> None:
        for said, asked in (
            ("There is no measure 'luck'; there are productive,", {"measure": "luck"}),
            ("Productive share is of machines' time, which has no material. Ask for it by machine,",
             {"measure": "productive", "by": "material"}),
            ("which has no file", {"measure": "oee", "file": "a.gcode"}),
            ("machine is asked by twice", {"measure": "builds", "by": "machine,machine"}),
            ("say both against_from and against_to", {"measure": "builds", "against_from": MONDAY}),
            ("at most 732 days", {"measure": "builds", "by": "hour", "from": MONDAY - timedelta(days=800)}),
            ("There is no machine", {"measure": "builds", "machine": "Nobody"}),
        ):  # fmt: skip
            with self.assertRaisesRegex(RefusedByService, said):
                self.ask(**asked)  # type: ignore[arg-type]
        with self.assertRaisesRegex(RefusedByService, "say ended_from as well"):
            self.world.client.do(requests.history(BuildSearch(weekday=1)))

    def test_the_shell_shows_them_and_hands_them_over(self) -> None:
        span = "--from", "2026-10-05", "--to", "2026-10-19"
        said = self.shell("--measure", "builds,scrap_share", "--by", "weekday", *span)
        self.assertRegex(said, r"Weekday +Builds +Scrap share")
        self.assertRegex(said, r"Tuesday +8 +\d+\.\d% \(\d+\.\d% to \d+\.\d%\)")
        self.assertRegex(said, r"All +56 +17\.9% ")
        rows = list(csv.DictReader(io.StringIO(self.shell("--measure", "grams,builds", "--by", "machine", "--csv"))))
        self.assertEqual([row["machine"] for row in rows], ["Anchor", "Bezel", "all"])
        self.assertEqual(json.loads(self.shell("--measure", "builds", "--json"))["by"], [])
        self.assertIn("PRI × PQ ÷ APT", self.shell(command="measures"))
        self.assertIn("luck", self.shell("--measure", "luck", code=1))

    def shell(self, *more: str, command: str = "figures", code: int = 0) -> str:
        done = run("report", command, *more, env=self.world.environment)
        self.assertEqual(done.returncode, code, done.stderr)
        return done.stdout or done.stderr
