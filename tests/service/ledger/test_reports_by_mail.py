"""Reports that come by themselves: planned, looked at before, sent, kept, and opened again as they were."""

from __future__ import annotations

import csv
import io
from datetime import datetime, timedelta
from pathlib import Path

from chronarch.client import RefusedByService, requests
from chronarch.core.orders.states import Verdict
from chronarch.wire.ledger.reporting import KeptReport, NewReportPlan, ReportPlan
from chronarch.wire.notices import channels as wn
from chronarch.wire.planning.settings import SiteHours, StaffedMinutes
from tests.support.gcode import squares
from tests.support.inbox import have_mail, mail_fault, mails
from tests.support.past import put_build
from tests.support.processes import run
from tests.support.world import PERSON, WorldCase, eventually

DAY = timedelta(days=1)


class ByThemselves(WorldCase):
    machines = ("Anchor", "Bezel")

    @classmethod
    def prepare(cls) -> None:
        super().prepare()
        w = cls.world
        have_mail(w)
        w.add_file("little.gcode", squares(layers=2))
        numbers = {machine: w.made("little.gcode", machine, Verdict.GOOD) for machine in cls.machines}
        monday = datetime.fromisoformat("2026-10-05T10:00:00+00:00")
        for n in range(20):  # two weeks: the second is worse
            put_build(
                w, numbers["Anchor"], monday + n % 5 * DAY + timedelta(hours=n // 5), "stringing" if n == 3 else ""
            )
            again = monday + 7 * DAY + n % 5 * DAY + timedelta(hours=n // 5)
            put_build(w, numbers["Bezel"], again, "layer shift" if n % 4 == 0 else "")

    def setUp(self) -> None:
        for plan in self.world.client.do(requests.report_plans()):
            self.world.client.do(requests.drop_report_plan(plan.id))

    def add(self, name: str, every: str, *to: str, **more: object) -> ReportPlan:
        asked = NewReportPlan.model_validate({"name": name, "every": every, "to": list(to), **more})
        return self.world.client.do(requests.add_report_plan(asked))

    def arrived(self, number: int) -> KeptReport:
        def found() -> KeptReport | None:
            one = next(kept for kept in self.world.client.all(requests.kept_reports()) if kept.id == number)
            return one if one.sent and not one.to else None

        report: KeptReport = eventually(found, f"report {number} is sent")
        return report

    def test_a_week_stands_beside_the_one_before_and_arrives_with_its_table_and_pdf(self) -> None:
        w, client = self.world, self.world.client
        plan = self.add("The week", "week", "office@shop.example", hour=6)
        said = run("reports", "preview", str(plan.id), env=w.environment).stdout
        self.assertIn("Mon 12 Oct to Sun 18 Oct 2026", said)
        self.assertRegex(said, r"Builds +20 +before +20")
        self.assertRegex(said, r"Scrap share +25\.0% +before +5\.0% +\+20\.0 points")
        self.assertRegex(said, r"layer shift +5")
        self.assertIn("Before: Mon 05 Oct to Sun 11 Oct 2026", said)
        self.assertNotIn(plan.id, [one.plan for one in client.all(requests.kept_reports())])
        made = client.do(requests.send_report(plan.id))
        self.assertEqual(self.arrived(made.id).sent, ["office@shop.example"])
        mail = mails(w, "office@shop.example")[-1]
        self.assertIn("The week, Mon 12 Oct to Sun 18 Oct 2026", mail["subject"])
        self.assertEqual(sorted(mail["attachments"]), [f"report-{made.id}.csv", f"report-{made.id}.pdf"])
        kept = client.do(requests.kept_report(made.id))
        self.assertIn("layer shift", kept.page)
        self.assertTrue(client.do(requests.kept_report_pdf(made.id)).startswith(b"%PDF-"))
        rows = list(csv.DictReader(io.StringIO(client.do(requests.kept_report_csv(made.id)))))
        self.assertEqual(
            [(row["machine"], row["builds"]) for row in rows if row["machine"] == "Bezel"], [("Bezel", "20.0")]
        )
        put = Path(w.folder / "report.pdf")
        run("reports", "open", str(made.id), "--pdf", str(put), env=w.environment)
        self.assertTrue(put.read_bytes().startswith(b"%PDF-"))
        # what was kept stays as it was, whatever becomes of the records
        w.sql("update build set scrap_reason = 'other' where scrap_reason = 'layer shift'")
        self.assertIn("layer shift", client.do(requests.kept_report(made.id)).words)
        w.sql("update build set scrap_reason = 'layer shift' where scrap_reason = 'other'")

    def test_a_shift_is_reported_when_it_ends_to_people_over_their_own_mail(self) -> None:
        client = self.world.client
        before = client.do(requests.hours())
        client.do(
            requests.add_channel(
                wn.NewChannel(person=PERSON, kind=wn.ChannelKind.MAIL, name="work", address="maud@shop.example")
            )
        )
        now = client.do(requests.shop()).now
        begin, end = now - timedelta(minutes=30), now + timedelta(minutes=15)
        times = StaffedMinutes(begin=f"{begin:%H:%M}", end=f"{end:%H:%M}")
        client.do(requests.set_hours(SiteHours(site="", week=[[times] for _ in range(7)], zone="UTC")))
        plan = self.add("Handover", "shift", PERSON)

        def came() -> KeptReport | None:
            return next((one for one in client.all(requests.kept_reports()) if one.plan == plan.id), None)

        kept = eventually(came, "the shift has ended", 120)
        self.assertEqual((kept.asked_by, f"{kept.end:%H:%M}"), ("", times.end))
        self.assertEqual(self.arrived(kept.id).sent, ["maud@shop.example"])
        self.assertEqual(len([one for one in client.all(requests.kept_reports()) if one.plan == plan.id]), 1)
        client.do(requests.set_hours(before[0] if before else SiteHours(site="", week=[[] for _ in range(7)])))

    def test_what_does_not_arrive_says_why_and_is_tried_again(self) -> None:
        w, client = self.world, self.world.client
        plan = self.add("The month", "month", "late@shop.example")
        mail_fault(w, "later")
        made = client.do(requests.send_report(plan.id))

        def trouble() -> str:
            return next(one for one in client.all(requests.kept_reports()) if one.id == made.id).trouble

        self.assertIn("late@shop.example: 451", eventually(trouble, "it says why"))
        mail_fault(w, "")
        w.sql("update kept_report set next_at = '2020-01-01' where id = :number", number=made.id)
        self.assertEqual(self.arrived(made.id).trouble, "")

    def test_an_address_that_is_refused_is_not_tried_again(self) -> None:
        w, client = self.world, self.world.client
        plan = self.add("The month", "month", "gone@shop.example")
        mail_fault(w, "refuses")
        made = client.do(requests.send_report(plan.id))

        def given_up() -> KeptReport | None:
            one = next(kept for kept in client.all(requests.kept_reports()) if kept.id == made.id)
            return one if one.trouble else None

        kept: KeptReport = eventually(given_up, "it says why")
        mail_fault(w, "")
        self.assertIn("gone@shop.example: 550", kept.trouble)
        self.assertEqual((kept.to, kept.sent), ([], []))

    def test_a_site_or_group_alone_and_what_makes_no_sense(self) -> None:
        client = self.world.client
        client.do(requests.change_machine("Bezel", site="Shed"))
        plan = self.add("The shed", "week", site="Shed")
        self.assertRegex(client.do(requests.preview_report(plan.id)).words, r"Builds +20 ")
        client.do(requests.change_machine("Bezel", site=""))
        kept = client.do(requests.send_report(plan.id))
        self.assertIn("nobody is there to send it to", kept.trouble)
        with self.assertRaisesRegex(RefusedByService, "There is nobody called xaver"):
            self.add("For whom", "week", "xaver")
        for call in (requests.preview_report(999_999), requests.send_report(999_999), requests.kept_report(999_999)):
            with self.assertRaisesRegex(RefusedByService, "There is no report 999999"):
                client.do(call)
