"""Beds that are looked at before a start: what lies there keeps work away until it is gone, or is called nothing."""

from __future__ import annotations

import json
import tempfile
from typing import Any

from chronarch.client import requests
from chronarch.core.machines.states import MachineState
from chronarch.core.notices.kinds import NoticeKind
from chronarch.core.rounds.tasks import TaskKind
from chronarch.core.watching.suspicion import FailureMode
from chronarch.core.watching.watch_rules import Follow, WatchRule, WatchScope
from chronarch.wire.watching import watch as w
from tests.support import processes
from tests.support.watched import LATE_S, WatchedCase, bed_unseen, leave_lying, see_beds
from tests.support.world import eventually


class ClearBeds(WatchedCase):
    def setUp(self) -> None:
        self.do = self.world.client.do

    def tearDown(self) -> None:
        self.world.fault("Anchor", "heal")
        for one in self.do(requests.suspicions("Anchor", unanswered=True)):
            self.do(requests.answer_suspicion(one.number, right=False))
        for job in self.do(requests.jobs()):
            if job.waiting:
                self.do(requests.act_on_job(job.id, "withdraw"))
        self.clear("Anchor")
        for rule in self.do(requests.watch_rules()):
            self.do(requests.drop_watch_rule(rule.scope, rule.subject))

    @classmethod
    def prepare(cls) -> None:
        super().prepare()
        eventually(lambda: "home it" in bed_unseen(cls.world), "it is said why the bed is not looked at")
        see_beds(cls.world)

    def raised(self) -> w.Suspicion:
        def found() -> list[w.Suspicion]:
            new = self.do(requests.suspicions("Anchor", unanswered=True))
            return [s for s in new if s.mode is FailureMode.NOT_CLEAR]

        return eventually(found, "the bed is not clear", LATE_S)[0]

    def test_a_bed_that_is_not_clear_takes_no_work_until_it_is(self) -> None:
        waits = leave_lying(self.world)
        one = self.raised()
        self.assertEqual((one.build, one.machine, one.followed), (None, "Anchor", Follow.PAUSE))
        self.assertIsNotNone(one.frame)
        (told,) = self.do(requests.notices(kind=NoticeKind.SUSPICION, open=True))
        self.assertIn("takes no work until the bed is clear", told.text)
        machine = self.world.machine("Anchor")
        self.assertEqual((machine.state, machine.held[:14]), (MachineState.IDLE, "takes no work:"))
        self.assertEqual(self.world.builds(waits), [])
        (why,) = self.do(requests.job_why(waits.id)).machines
        self.assertIn("takes no work: its bed is perhaps not clear", str(why))
        (task,) = [t for t in self.do(requests.rounds()).tasks if t.kind is TaskKind.LOOK]
        self.assertIn("not clear", task.text)

        self.world.fault("Anchor", "camera", text="hangs")
        eventually(lambda: self.do(requests.camera("Anchor")).trouble, "its camera fails", LATE_S)
        self.assertIn("not clear", self.world.machine("Anchor").held, "what lies there has not gone by that")
        self.assertEqual(self.world.builds(waits), [])

        self.world.kill("service")
        self.world.start_service()
        eventually(lambda: self.world.machine("Anchor").reachable, "the tender is back")
        eventually(lambda: "not clear" in self.world.machine("Anchor").held, "it is still known")
        self.world.fault("Anchor", "heal")  # somebody has lifted it off, and the camera sees again
        self.world.build_of(waits)
        over = self.do(requests.suspicion(one.number))
        self.assertEqual((over.right, over.over_at is None), (None, False))
        self.assertEqual(len(self.do(requests.suspicions("Anchor"))), 1, "it was raised once")

    def test_a_false_alarm_lets_work_go_on(self) -> None:
        waits = leave_lying(self.world)
        one = self.raised()
        self.do(requests.answer_suspicion(one.number, right=False))
        self.world.build_of(waits)
        (label,) = [s for s in self.do(requests.labelled_set()) if s.name == f"bed-{one.number}"]
        self.assertEqual((label.build, label.camera, label.sha256), (None, "Anchor", None))
        self.assertEqual([(f.frame, f.label) for f in label.frames], [(one.frame, "fine")])
        self.assertIsNotNone(label.head_mm)
        self.do(requests.answer_suspicion(one.number, right=True))
        scored = self.scored()
        self.assertEqual(scored[f"bed-{one.number}"]["label"], "not-clear")
        self.assertGreater(scored[f"bed-{one.number}"]["scores"]["not-clear"], 0.5, scored)
        self.world.sql("update bed_view set set_at = set_at + interval 1 day")
        self.addCleanup(self.world.sql, "update bed_view set set_at = set_at - interval 1 day")
        self.assertEqual(self.do(requests.labelled_set()), [], "its corners were marked anew: the camera has moved")

    def scored(self) -> dict[str, Any]:
        """What `watch score` says of the shop's own labelled frames, by sequence."""
        with tempfile.TemporaryDirectory() as folder:
            for words in (("labels", f"{folder}/set"), ("score", f"{folder}/set", "--json")):
                done = processes.run("watch", *words, env=self.world.environment, within_s=120)
                self.assertEqual(done.returncode, 0, done.stderr)
        return {row["sequence"]: row for row in json.loads(done.stdout)["frames"]}

    def test_where_people_are_only_told_work_goes_on(self) -> None:
        rule = WatchRule(follow={FailureMode.NOT_CLEAR: Follow.TELL})
        self.do(requests.set_watch_rule(WatchScope.MACHINE, "Anchor", rule))
        waits = leave_lying(self.world)
        self.world.build_of(waits)
        self.assertIs(self.raised().followed, Follow.TELL)
