"""Builds of all time are found by anything that is known of them, annotated, made again, and taken away as files."""

from __future__ import annotations

import csv
import io
import itertools
import json

import pyarrow.parquet as pq

from chronarch.client import RefusedByService, requests
from chronarch.core.machines.states import Intake, MachineState
from chronarch.core.orders.states import Verdict
from chronarch.wire.ledger import history as h
from chronarch.wire.machines import spools as ws
from tests.support.gcode import squares
from tests.support.processes import run
from tests.support.world import WorldCase


class History(WorldCase):
    machines = ("Anchor", "Bezel")
    spool: int
    good: int
    scrap: int
    more: int

    @classmethod
    def prepare(cls) -> None:
        super().prepare()
        w, do = cls.world, cls.world.client.do
        w.add_file("little.gcode", squares(layers=2))
        w.add_file("more.gcode", squares(layers=4, rounds=2))
        spool = do(requests.add_spool(ws.NewSpool(material="PLA", colour="teal")))
        do(requests.load_spool(spool.id, "Anchor"))
        cls.spool = spool.id
        cls.good = w.made("little.gcode", "Anchor", Verdict.GOOD)
        cls.scrap = w.made("more.gcode", "Bezel", Verdict.SCRAP, "warped corner")
        cls.more = w.made("more.gcode", "Anchor", Verdict.GOOD)
        w.intake(Intake.CLOSED)  # what is made again stays in the queue, so that the past stays as it is

    def setUp(self) -> None:
        self.do = self.world.client.do

    def found(self, **asked: object) -> list[int]:
        """The numbers of the builds that are found."""
        return [b.id for b in self.do(requests.history(h.BuildSearch.model_validate(asked)))]

    def test_builds_are_found_by_what_is_known_of_them(self) -> None:
        self.do(requests.annotate_build(self.scrap, h.BuildNote(note="The bed was cold.", tags=["Winter", "winter"])))
        by_time = lambda number: (self.do(requests.build(number)).took_s or 0, number)  # noqa: E731
        for asked, wanted in (
            ({}, [self.more, self.scrap, self.good]),
            ({"machine": "anchor"}, [self.more, self.good]),
            ({"model": "lantern 220"}, [self.more, self.scrap, self.good]),
            ({"model": "another"}, []),
            ({"site": "nowhere"}, []),
            ({"file": "MORE.gcode"}, [self.more, self.scrap]),
            ({"file": "more.gcode", "machine": "Bezel"}, [self.scrap]),
            ({"revision": 2}, []),
            ({"material": "pla", "colour": "TEAL"}, [self.more, self.scrap, self.good]),
            ({"material": "PETG"}, []),
            ({"spool": self.spool}, [self.more, self.good]),
            ({"nozzle_mm": 0.4}, [self.more, self.scrap, self.good]),
            ({"nozzle_mm": 0.6}, []),
            ({"verdict": "scrap"}, [self.scrap]),
            ({"verdict": "none"}, []),
            ({"scrap_reason": "Warped corner"}, [self.scrap]),
            ({"outcome": "completed"}, [self.more, self.scrap, self.good]),
            ({"outcome": "failed"}, []),
            ({"person": "tests (key 1)"}, [self.more, self.scrap, self.good]),
            ({"tag": "WINTER"}, [self.scrap]),
            ({"search": "cold bed"}, [self.scrap]),
            ({"search": "wint"}, [self.scrap]),
            ({"search": "little"}, [self.good]),
            ({"search": "100 % of nothing"}, []),
            ({"customer": "nobody"}, []),
            ({"begin": self.do(requests.build(self.scrap)).started_at}, [self.more, self.scrap]),
            ({"end": self.do(requests.build(self.scrap)).started_at}, [self.good]),
            ({"days": 1}, [self.more, self.scrap, self.good]),
            ({"sort": "oldest"}, [self.good, self.scrap, self.more]),
            ({"sort": "heaviest", "machine": "Anchor"}, [self.more, self.good]),
            ({"sort": "longest", "machine": "Anchor"}, sorted((self.more, self.good), key=by_time)[::-1]),
            ({"sort": "shortest", "machine": "Anchor"}, sorted((self.more, self.good), key=by_time)),
        ):
            with self.subTest(asked=asked):
                self.assertEqual(self.found(**asked), wanted)
        with self.assertRaisesRegex(RefusedByService, "no machine named"):
            self.found(machine="Nobody")

    def test_each_order_goes_on_over_pages(self) -> None:
        for sort in h.BuildSort:
            with self.subTest(sort=sort):
                whole = [b.id for b in self.do(requests.history(h.BuildSearch(sort=sort)))]
                call = requests.history(h.BuildSearch(sort=sort)).page(1)
                paged = [b.id for b in self.world.client.all(call, len(whole))]
                self.assertEqual(paged, whole)

    def test_a_build_says_with_what_it_was_made_and_how_long_it_took(self) -> None:
        b = self.do(requests.build(self.good))
        (use,) = b.uses
        self.assertEqual((use.material, use.colour, use.nozzle_mm, use.spool), ("PLA", "teal", 0.4, self.spool))
        self.assertAlmostEqual(use.grams, b.grams)
        assert b.started_at and b.ended_at and b.took_s is not None
        self.assertAlmostEqual(b.took_s, (b.ended_at - b.started_at).total_seconds(), delta=1)

    def test_builds_are_made_again_with_the_same_needs(self) -> None:
        before = self.do(requests.job(self.do(requests.build(self.scrap)).job))
        first, second = self.do(requests.make_again([self.scrap, self.good], 2))
        self.addCleanup(self.do, requests.act_on_job(first.id, "withdraw"))
        self.addCleanup(self.do, requests.act_on_job(second.id, "withdraw"))
        self.assertEqual((first.file, first.copies, first.requirement), ("more.gcode", 2, before.requirement))
        self.assertEqual(second.file, "little.gcode")
        with self.assertRaisesRegex(RefusedByService, "no build 999"):
            self.do(requests.make_again([self.good, 999]))

    def test_all_of_them_are_taken_away_as_a_file(self) -> None:
        self.do(requests.annotate_build(self.more, h.BuildNote(note="=1+1 is no formula", tags=["a", "b"])))
        asked = h.BuildSearch(file="more.gcode", sort=h.BuildSort.OLDEST)
        table = self.do(requests.history_export(asked, h.ExportForm.CSV)).decode()
        rows = [row for row in csv.DictReader(io.StringIO(table)) if int(row["id"]) in (self.scrap, self.more)]
        self.assertEqual([int(row["id"]) for row in rows], [self.scrap, self.more])
        self.assertEqual((rows[1]["material"], rows[1]["tags"]), ("PLA", "a; b"))
        self.assertEqual(rows[1]["note"], "'=1+1 is no formula")
        whole = pq.read_table(io.BytesIO(self.do(requests.history_export(asked, h.ExportForm.PARQUET)))).to_pylist()
        mine = {row["id"]: row for row in whole}
        self.assertEqual(mine[self.more]["note"], "=1+1 is no formula")
        self.assertEqual(mine[self.more]["started_at"], self.do(requests.build(self.more)).started_at)
        self.assertEqual(mine[self.scrap]["uses"][0]["material"], "PLA")
        nothing = self.do(requests.history_export(h.BuildSearch(file="none.gcode"), h.ExportForm.PARQUET))
        self.assertEqual(pq.read_table(io.BytesIO(nothing)).num_rows, 0)
        out = self.world.folder / "builds.jsonl"
        self.assertIn("bytes are in", self.shell("history", "--file", "more.gcode", "-o", str(out)))
        lines = [json.loads(line) for line in out.read_text().splitlines()]
        self.assertEqual(lines[-1]["id"], self.scrap)

    def test_what_is_asked_for_is_saved_under_a_name(self) -> None:
        said = self.shell("history", "--file", "more.gcode", "--verdict", "scrap", "--save", "scrap of more", "--json")
        self.assertEqual([row["id"] for row in json.loads(said)], [self.scrap])
        self.assertIn("file more.gcode, verdict scrap", self.shell("history", "--saved"))
        self.assertIn("warped corner", self.shell("history", "--view", "scrap of more"))
        narrower = self.shell("history", "--view", "scrap of more", "--machine", "Anchor")
        self.assertIn("No build is like that", narrower)
        (saved,) = self.do(requests.saved_views())
        self.assertEqual(saved.asked, h.BuildSearch(file="more.gcode", verdict=h.BuildVerdict.SCRAP))
        self.do(requests.save_view("scrap of more", h.BuildSearch(machine="Bezel")))
        self.assertEqual(self.do(requests.saved_views())[0].asked, h.BuildSearch(machine="Bezel"))
        self.assertIn("is forgotten", self.shell("history", "--forget", "scrap of more"))
        self.assertIn("No view is saved as", self.shell("history", "--view", "scrap of more", code=1))

    def test_a_builds_life_and_its_layers_are_told(self) -> None:
        life = self.do(requests.build_life(self.scrap))
        states = [i.state for i in life.intervals]
        self.assertEqual(states[0], MachineState.WARMING)
        self.assertEqual(states[-1], MachineState.UNCLEARED)
        self.assertTrue(all(a.end == b.begin for a, b in itertools.pairwise(life.intervals)))
        self.assertEqual(self.do(requests.build_life(self.more)).before, self.good)
        layers = self.do(requests.build_layers(self.scrap))
        self.assertEqual((len(layers.planned_s), len(layers.took_s)), (4, 4))
        assert all(took is not None for took in layers.took_s) and layers.pace
        built = sum((i.end - i.begin).total_seconds() for i in life.intervals if i.end and i.state == "building")
        self.assertLess(sum(layers.took_s), built + 2)
        self.assertGreater(sum(layers.took_s), 0.3 * built)

    def test_the_shell_shows_annotates_and_repeats(self) -> None:
        self.assertIn("Build", self.shell("builds", "note", str(self.good), "nice", "--tag", "show"))
        table = self.shell("history", "--tag", "show")
        self.assertIn("little.gcode", table)
        self.assertIn("nice #show", table)
        self.assertNotIn("more.gcode", table)
        said = self.shell("builds", "again", str(self.good), "--copies", "1")
        self.assertIn("1 x little.gcode", said)
        queued = [job for job in self.do(requests.jobs()) if job.state == "waiting"]
        self.assertEqual([(job.file, job.copies) for job in queued], [("little.gcode", 1)])
        self.do(requests.act_on_job(queued[0].id, "withdraw"))
        self.assertIn("end it in .csv, .jsonl or .parquet", self.shell("history", "-o", "builds.xls", code=2))

    def shell(self, *words: str, code: int = 0) -> str:
        env = {"CHRONARCH_ADDRESS": self.world.address, "CHRONARCH_KEY": self.world.key}
        done = run(*words, env=env)
        self.assertEqual(done.returncode, code, done.stderr)
        return done.stdout if code == 0 else done.stderr
