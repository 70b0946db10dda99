"""Heat over time: as measured, by the minute, by the hour; what is drawn of a day, a month, a year; CSV."""

from __future__ import annotations

import csv
import io
import itertools
import math
import unittest
from datetime import UTC, datetime, timedelta

from chronarch.client import RefusedByService, requests
from chronarch.records.machines.heat import HOUR_S, MINUTE_S, MOST_POINTS, pieces, step_for
from chronarch.wire.machines.machine import Reading
from tests.support.world import WorldCase, eventually

NOW = datetime(2026, 10, 19, 12, tzinfo=UTC)


class FromWhere(unittest.TestCase):
    def told(self, begin: timedelta, span: timedelta) -> list[tuple[int, float]]:
        """Which readings a curve is made of, with the hours of each, if means are made until ten minutes ago."""
        rolled = {MINUTE_S: NOW - timedelta(minutes=10), HOUR_S: NOW - timedelta(hours=1)}
        start = NOW - begin
        return [
            (p.span_s, round((p.end - p.begin).total_seconds() / 3600, 2))
            for p in pieces(start, start + span, NOW, rolled)
        ]

    def test_a_curve_is_read_from_what_is_fine_enough_and_still_kept(self) -> None:
        hour, day = timedelta(hours=1), timedelta(days=1)
        self.assertEqual(self.told(hour, hour), [(0, 1.0)])
        self.assertEqual(self.told(day * 2, day * 2), [(MINUTE_S, 47.83), (0, 0.17)])
        self.assertEqual(self.told(day * 8, hour), [(MINUTE_S, 1.0)])
        self.assertEqual(self.told(day * 100, hour), [(HOUR_S, 1.0)])
        year = self.told(day * 365, day * 365)
        self.assertEqual([span for span, _ in year], [HOUR_S, MINUTE_S, 0])

    def test_pieces_cover_the_span_once(self) -> None:
        rolled = {MINUTE_S: NOW - timedelta(minutes=3), HOUR_S: NOW - timedelta(hours=2)}
        for days in (0.01, 0.5, 1, 3, 20, 89, 91, 400):
            begin = NOW - timedelta(days=days)
            found = pieces(begin, NOW, NOW, rolled)
            self.assertEqual((found[0].begin, found[-1].end), (begin, NOW))
            for before, after in itertools.pairwise(found):
                self.assertEqual(before.end, after.begin)
            self.assertLessEqual((NOW - begin).total_seconds() / step_for(begin, NOW), MOST_POINTS)


class Kept(WorldCase):
    machines = ("Anchor",)
    rate = 1.0

    @classmethod
    def prepare(cls) -> None:
        cls.world.start_service()
        cls.world.add_machines()
        now = cls.world.client.do(requests.shop()).now
        cls.begin = begin = (now - timedelta(hours=5)).replace(minute=0, second=0, microsecond=0)
        (machine,) = cls.world.rows("select id from machine")[0]
        values = ", ".join(
            f"({machine}, '{begin + timedelta(seconds=n):%Y-%m-%d %H:%M:%S}', {cls.nozzle(n):.2f}, 200, 60, 60)"
            for n in range(0, 4 * 3600, 5)
        )
        board = ", ".join(
            f"({machine}, '{begin + timedelta(seconds=n):%Y-%m-%d %H:%M:%S}', 'board', {40 + n % 60 / 5:.1f})"
            for n in range(0, 4 * 3600, 5)
        )
        cls.world.sql(f"insert into sensor_reading (machine_id, at, sensor, c) values {board}".replace(":", r"\:"))
        columns = "machine_id, at, nozzle_c, nozzle_asked_c, bed_c, bed_asked_c"
        cls.world.sql(f"insert into reading ({columns}) values {values}".replace(":", r"\:"))

    begin: datetime

    @staticmethod
    def nozzle(second: int) -> float:
        return 200 + 5 * math.sin(second / 700)

    def test_means_are_made_of_minutes_and_hours_and_the_curve_is_the_same_from_all_of_them(self) -> None:
        w = self.world
        hours = "select count(*) from reading_mean where span_s = 3600"
        eventually(lambda: w.rows(hours)[0][0] >= 4, "hours are made")
        minutes = w.rows("select count(*), min(nozzle_least_c), max(nozzle_most_c) from reading_mean where span_s = 60")
        self.assertGreaterEqual(minutes[0][0], 240)
        self.assertAlmostEqual(minutes[0][1], 195, places=1)
        self.assertAlmostEqual(minutes[0][2], 205, places=1)
        end = self.begin + timedelta(hours=4)
        fine = w.client.do(requests.heat("Anchor", self.begin, end))
        assert fine.nozzle is not None and fine.bed is not None and fine.chamber is None
        self.assertLessEqual(len(fine.at), MOST_POINTS)
        self.assertEqual(fine.at, sorted(fine.at))
        for at, measured in zip(fine.at, fine.nozzle.measured, strict=True):
            self.assertAlmostEqual(measured or 0, self.nozzle(int(at - self.begin.timestamp())), delta=0.2)
        self.assertEqual(fine.further["board"].measured[:2], [40.5, 42.5], "the means of ten seconds")
        hour = self.begin + timedelta(hours=1)
        w.sql("delete from sensor_reading where at > :at", at=hour.replace(tzinfo=None))
        w.sql("delete from reading where at > :at", at=(self.begin + timedelta(hours=1)).replace(tzinfo=None))
        day = w.client.do(requests.heat("Anchor", end - timedelta(days=2), end))
        assert day.nozzle is not None
        self.assertGreater(day.step_s, 60)
        self.assertGreater(len(day.at), 100)
        board = day.further["board"]
        self.assertEqual({(a, b) for a, b in zip(board.least, board.most, strict=True) if a}, {(40.0, 51.0)})
        self.assertEqual({value for value in board.asked}, {None})
        self.assertAlmostEqual(min(v for v in day.nozzle.least if v is not None), 195, places=0)
        year = w.client.do(requests.heat("Anchor", end - timedelta(days=365), end))
        self.assertIn(len(year.at), (1, 2), "a point stands for some hours")

    def test_what_is_seen_is_taken_away_as_csv(self) -> None:
        w = self.world
        data = w.client.do(requests.heat_csv("Anchor", self.begin, self.begin + timedelta(minutes=30)))
        rows = list(csv.DictReader(io.StringIO(data.decode(), newline="")))
        self.assertEqual((len(rows), float(rows[0]["bed_measured_c"])), (360, 60.0))
        self.assertEqual((rows[0]["chamber_measured_c"], rows[1]["board_measured_c"]), ("", "41.0"))
        with self.assertRaises(RefusedByService):
            w.client.do(requests.heat("Anchor", self.begin, self.begin))

    def test_what_it_takes_is_told_and_what_it_comes_to(self) -> None:
        standing = self.world.client.do(requests.heat_standing())
        self.assertGreater(standing.now_gb, 0)
        self.assertAlmostEqual(standing.most_gb, 0.056, places=2)


class Further(WorldCase):
    """A machine that reports a second hot end and its board."""

    machines = ("Anchor",)

    @classmethod
    def prepare(cls) -> None:
        cls.world.setups["Anchor"] = {"further_sensors": True}
        super().prepare()

    def test_further_sensors_are_shown_and_kept(self) -> None:
        w = self.world

        def reading() -> Reading | None:
            found = w.client.do(requests.machine("Anchor")).reading
            return found if found is not None and found.further else None

        now = eventually(reading, "the machine reports")
        self.assertEqual(list(now.further), ["T0", "T1", "board"])
        self.assertEqual((now.further["T1"].asked_c, now.further["board"].asked_c), (0, None))
        self.assertGreater(now.further["board"].measured_c or 0, 25)
        curve = eventually(lambda: (c := w.client.do(requests.heat("Anchor"))).further and c, "it is kept")
        self.assertEqual(list(curve.further), ["T0", "T1", "board"])


if __name__ == "__main__":
    unittest.main()
