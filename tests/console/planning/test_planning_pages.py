"""Orders, the line, rounds, what-if and set-up in a real browser, on a desk and on a phone."""

from __future__ import annotations

import re

from playwright.sync_api import Route, expect

from chronarch.client import requests
from chronarch.core.machines.states import Intake, MachineState
from chronarch.core.machines.tools import Tool
from chronarch.core.planning.snapshot import Strategy
from chronarch.wire import library as wl
from chronarch.wire.machines.spools import NewSpool
from chronarch.wire.orders import orders as wo
from chronarch.wire.planning import settings as ws
from tests.support.browser import ConsoleCase
from tests.support.gcode import squares
from tests.support.world import eventually


class PlanningPages(ConsoleCase):
    machines = ("Anchor", "Bezel")

    @classmethod
    def prepare(cls) -> None:
        super().prepare()
        w = cls.world
        w.intake(Intake.MANUAL)
        w.add_file("shim.gcode", squares(layers=2))
        file = w.client.do(requests.change_file("shim.gcode", wl.FileChange(pieces=2)))
        w.client.do(requests.add_part(wl.NewPart(name="rigger shim", files=[file.id])))
        w.add_file("tip.gcode", squares(layers=2))
        w.client.do(requests.add_spool(NewSpool(material="PLA", colour="ochre", place="rack")))

    def test_an_order_is_made_changed_and_cancelled_in_one_page(self) -> None:
        page = self.open("/orders")
        page.get_by_role("button", name="New order").click()
        page.get_by_label("Customer").fill("Brackwater Rowing Club")
        page.get_by_label("Due").fill("23 Brumaire")
        page.get_by_label("Line 1: what").select_option(label="rigger shim")
        page.get_by_label("Line 1: quantity").fill("6")
        page.get_by_role("button", name="Another line").click()
        page.get_by_label("Line 2: what").select_option(label="tip.gcode")
        page.get_by_label("Line 2: where").select_option("machine:Bezel")
        page.get_by_text("More needs").last.click()
        page.get_by_label("Line 2: tags").fill("quiet or not quiet")
        page.get_by_label("Line 2: volume").fill("200 x 200 x 50")
        page.get_by_label("Tags", exact=True).fill("standing order, school")
        page.get_by_role("button", name="Make the order").click()
        self.assertIn("23 Oct 2026", page.get_by_label("Due").evaluate("field => field.validationMessage"))
        expect(page.get_by_role("alert")).to_have_text("Write it like 23 Oct 2026, 12:00.")
        self.assertEqual(self.world.client.do(requests.orders()), [], "not without the due time that was meant")
        page.get_by_label("Due").fill("fri 23 oct 2026, 12:00")
        page.get_by_role("button", name="Make the order").click()
        expect(page.get_by_role("heading", name="Brackwater Rowing Club")).to_be_visible()
        expect(page.get_by_text("0 of 7 good").first).to_be_visible()
        expect(page.get_by_role("listitem").filter(has_text="rigger shim")).to_contain_text("2 a build")
        (brief,) = self.world.client.do(requests.orders())
        made = self.world.client.do(requests.order(brief.id))
        self.assertEqual(made.tags, ["standing order", "school"])
        self.assertEqual(f"{made.due:%d %b %Y %H:%M}", "23 Oct 2026 12:00")
        needs = made.lines[1].requirement
        self.assertEqual((needs.machine, needs.tags, needs.volume_mm), ("Bezel", "quiet or not quiet", (200, 200, 50)))
        page.get_by_role("button", name="Quantity…").first.click()
        page.get_by_label("Quantity").fill("4")
        page.get_by_role("button", name="Make it 4").click()
        expect(page.get_by_text("0 of 5 good").first).to_be_visible()
        page.get_by_role("button", name="Hold", exact=True).click()
        expect(page.get_by_text("held, nothing starts until it is released")).to_be_visible()
        page.get_by_role("button", name="Release", exact=True).click()
        page.get_by_role("button", name="Cancel…").click()
        page.get_by_role("button", name="Cancel the order").click()
        expect(page.get_by_text("Cancelled;")).to_be_visible()
        page.get_by_role("button", name="Repeat…").click()
        page.get_by_role("button", name="Make it").click()
        expect(page.get_by_text(re.compile("repeats order"))).to_be_visible()
        for o in self.world.client.do(requests.orders()):
            self.world.client.do(requests.cancel_order(o.id, wo.Cancel()))

    def test_the_line_is_dragged_and_a_change_by_somebody_else_is_said(self) -> None:
        w = self.world
        first, second, third = (w.submit("tip.gcode", material="PETG") for _ in range(3))
        page = self.open("/queue")
        line = page.get_by_role("list", name="Line: Any machine")

        def order() -> list[int]:
            text = line.inner_text()
            return [int(n) for n in re.findall(r"job (\d+)", text) if int(n) in (first.id, second.id, third.id)]

        rows = line.get_by_role("listitem")
        handle = page.get_by_label(re.compile(f"Move job {third.id}:"))
        handle.drag_to(rows.filter(has_text=f"job {first.id} "))
        eventually(lambda: order() == [third.id, first.id, second.id], "the job that was dragged is first")
        page.get_by_label(re.compile(f"Move job {second.id}:")).press("ArrowUp")
        eventually(lambda: order() == [third.id, second.id, first.id], "the arrow key moved one up")
        rows.filter(has_text=f"job {first.id} ").get_by_role("button", name="Why").click()
        why = page.get_by_role("region", name=f"Why job {first.id} waits")
        expect(why).to_contain_text("Anchor")
        expect(why).to_contain_text("the job needs PETG")
        page.get_by_label(f"Choose job {first.id}").check()
        page.get_by_label(f"Choose job {second.id}").check()
        bar = page.get_by_role("toolbar", name="With the chosen jobs")
        expect(bar).to_contain_text("2 chosen")
        stale = w.client.do(requests.queue()).model_dump_json()
        page.route("**/api/queue?*", lambda route: route.fulfill(body=stale, content_type="application/json"))
        w.client.do(requests.move_jobs([third.id]))
        bar.get_by_role("button", name="To the top").click()
        expect(page.get_by_role("alert").filter(has_text="Somebody was quicker")).to_contain_text(
            f"job {third.id} put at the end"
        )
        page.unroute("**/api/queue?*")
        page.reload()
        page.get_by_label(f"Choose job {first.id}").check()
        page.get_by_role("button", name="To the top").click()
        expect(rows.first).to_contain_text("top")
        for job in (first, second, third):
            w.client.do(requests.act_on_job(job.id, "withdraw"))

    def test_rounds_are_gone_with_one_thumb(self) -> None:
        w = self.world
        self.clear("Anchor")
        order = w.client.do(requests.make_order(wo.NewOrder.model_validate(
            {"customer": "x", "lines": [{"part": "rigger shim", "quantity": 4, "requirement": {"machine": "Anchor"}}]}
        )))  # fmt: skip
        page = self.open("/rounds", 390, 844)
        card = page.get_by_role("listitem").filter(has_text="Anchor")
        expect(card).to_contain_text("start rigger shim")
        card.get_by_role("button", name="Start it").click()
        w.until("Anchor", MachineState.UNCLEARED)
        expect(card).to_contain_text("lift off shim.gcode")
        card.get_by_role("button", name="Lifted off, good").click()
        dialog = page.get_by_role("dialog")
        expect(dialog).to_contain_text("rigger shim can be started then")
        dialog.get_by_label("How many of the 2 are good?").fill("1")
        dialog.get_by_label("What was wrong with the others?").fill("stringing")
        dialog.get_by_role("button", name="Yes").click()
        expect(dialog).to_be_hidden()
        self.assertEqual(w.client.do(requests.order(order.id)).good, 1)
        card.get_by_role("button", name="Start it").click()
        w.until("Anchor", MachineState.UNCLEARED)
        card.get_by_role("button", name="Scrap…").click()
        page.get_by_role("radio", name="warped corner").click()
        page.get_by_label("Note").fill("left one")
        photo = {"name": "corner.jpg", "mimeType": "image/jpeg", "buffer": b"\xff\xd8\xff\xe0 a picture"}
        page.get_by_label("Photo").set_input_files(photo)  # type: ignore[arg-type]
        page.get_by_role("button", name="Lifted off, scrap").click()
        expect(page.get_by_role("dialog")).to_be_hidden()
        build = w.client.do(requests.builds(machine="Anchor"))[0]
        self.assertEqual((build.verdict, build.scrap_reason, build.photo), ("scrap", "warped corner: left one", True))
        w.client.do(requests.cancel_order(order.id, wo.Cancel()))

    def test_a_helper_without_an_account_lifts_a_part_off(self) -> None:
        w = self.world
        self.clear("Bezel")
        page = self.open("/rounds")
        page.get_by_role("button", name="Helper's link…").click()
        page.get_by_label("For whom").fill("Saturday help")
        page.get_by_role("button", name="Make the link").click()
        address = page.get_by_label("Hand this address on").input_value()
        job = w.submit("tip.gcode", machine="Bezel")
        w.client.do(requests.start_next("Bezel"))
        w.until("Bezel", MachineState.UNCLEARED)
        theirs = self.open(address.removeprefix(w.address), 390, 844, signed_in=False)
        expect(theirs.get_by_text("Hello, Saturday help.")).to_be_visible()
        theirs.get_by_role("listitem").filter(has_text="Bezel").get_by_role("button", name="Lifted off, good").click()
        theirs.get_by_role("button", name="Yes").click()
        expect(theirs.get_by_role("dialog")).to_be_hidden()
        build = w.build_of(job)
        self.assertEqual((build.verdict, build.judged_by), ("good", "Saturday help (helper 1)"))
        page.get_by_role("button", name="Done").click()
        page.get_by_role("button", name="Helper's link…").click()
        page.get_by_role("button", name="Revoke").click()
        expect(page.get_by_role("button", name="Revoke")).to_be_hidden()
        theirs.reload()
        expect(theirs.get_by_role("alert")).to_contain_text("was revoked")

    def test_what_if_shows_both_plans(self) -> None:
        w = self.world
        job = w.submit("tip.gcode", 4, material="PLA")
        page = self.open("/what-if")
        page.get_by_label("What if …").select_option(label="… there are more machines")
        page.get_by_label("Of which model").select_option(label="Lantern 220")
        page.get_by_role("button", name="Ask", exact=True).click()
        expect(page.get_by_role("heading", name="With 2 more like Lantern 220?")).to_be_visible()
        expect(page.get_by_role("heading", name="As it is")).to_be_visible()
        expect(page.get_by_text("Anchor + 1")).to_be_visible()
        page.get_by_role("button", name="Take away: 2 more of Lantern 220").click()
        expect(page.get_by_text("Nothing is asked yet")).to_be_visible()
        w.client.do(requests.act_on_job(job.id, "withdraw"))

    def test_strategy_hours_and_spools_are_set(self) -> None:
        w = self.world
        page = self.open("/setup")
        page.get_by_role("radio", name=re.compile("^hands-aware")).check()
        page.get_by_role("button", name="Set", exact=True).click()
        eventually(lambda: w.client.do(requests.planning()).strategy == "hands-aware", "the strategy is set")
        drawer = page.get_by_label("Nozzles in the drawer")
        drawer.fill("0.4 golden")
        self.assertTrue(drawer.evaluate("field => field.validity.patternMismatch"))
        drawer.fill("0.6, 0.4 hardened")
        page.get_by_role("button", name="Set", exact=True).click()
        spare = [ws.SpareNozzle(nozzle_mm=0.6), ws.SpareNozzle(nozzle_mm=0.4, hardened=True)]
        eventually(lambda: w.client.do(requests.planning()).spare_nozzles == spare, "the nozzles are set")
        page.get_by_role("button", name="Somebody").first.click()
        page.get_by_role("button", name="Set the hours").click()
        eventually(lambda: w.client.do(requests.hours()), "the hours are set")
        board = self.open("/")
        expect(board.get_by_text(re.compile("somebody is here until|nobody is here until"))).to_be_visible()
        self.assertEqual(w.client.do(requests.hours())[0].week[0][0].begin, "08:00")
        page.get_by_role("button", name="Weigh").first.click()
        page.get_by_label("Grams, without the reel").fill("512")
        page.get_by_role("button", name="That is left").click()
        expect(page.get_by_text("512 g")).to_be_visible()
        page.get_by_role("button", name="Weigh").first.click()
        page.get_by_role("button", name="It is empty").click()
        expect(page.get_by_text("512 g")).to_have_count(0)

    def test_what_is_typed_meanwhile_stays_and_what_another_set_is_kept(self) -> None:
        w = self.world
        before = ws.PlanningUpdate(**w.client.do(requests.planning()).model_dump())
        self.addCleanup(lambda: w.client.do(requests.change_planning(before)))
        page = self.open("/setup")
        clear, change = page.get_by_label("Minutes to clear a bed"), page.get_by_label("Minutes to change a spool")
        asked: list[Route] = []
        page.route("**/api/planning", lambda r: r.fallback() if r.request.method == "GET" else asked.append(r))
        clear.fill("2.5")
        page.get_by_role("button", name="Set", exact=True).click()
        eventually(lambda: asked or page.wait_for_timeout(20), "it is on its way")
        change.fill("6.5")
        w.client.do(requests.change_planning(ws.PlanningUpdate(walk_min=7)))
        asked.pop().continue_()
        expect(page.get_by_label("Minutes until somebody is there")).to_have_value("7")
        expect(clear).to_have_value("2.5")
        expect(change).to_have_value("6.5")
        expect(page.get_by_text("not set yet")).to_be_visible()
        page.unroute("**/api/planning")
        page.get_by_role("button", name="Set", exact=True).click()
        expect(page.get_by_text("set", exact=True)).to_be_visible()
        now = w.client.do(requests.planning())
        self.assertEqual((now.clear_min, now.spool_min, now.walk_min), (2.5, 6.5, 7))

    def test_a_spool_is_put_on_the_tool_that_is_meant(self) -> None:
        w = self.world
        tools = w.machine("Bezel").tools
        self.addCleanup(lambda: w.client.do(requests.change_machine("Bezel", tools=tools)))
        w.client.do(requests.change_machine("Bezel", tools=[tools[0], Tool(number=1)]))
        spool = w.client.do(requests.add_spool(NewSpool(material="PLA", colour="amber", place="rack")))
        page = self.open("/setup")
        page.get_by_role("listitem").filter(has_text=f"spool {spool.id} ").get_by_role("button", name="Load").click()
        page.get_by_label("Machine", exact=True).select_option("Bezel")
        page.get_by_label("Tool", exact=True).select_option("1: nothing")
        page.get_by_role("button", name="It is loaded").click()
        expect(page.get_by_text(f"spool {spool.id} · on Bezel")).to_be_visible()
        self.assertEqual([t.colour for t in w.machine("Bezel").tools], [tools[0].colour, "amber"])

    def test_a_nozzle_is_changed_on_the_rounds_for_what_needs_it(self) -> None:
        w = self.world
        before = ws.PlanningUpdate(**w.client.do(requests.planning()).model_dump())
        tools = w.machine("Anchor").tools
        spare = [ws.SpareNozzle(nozzle_mm=0.6, hardened=True)]
        w.client.do(requests.change_planning(ws.PlanningUpdate(strategy=Strategy.HANDS_AWARE, spare_nozzles=spare)))
        self.addCleanup(lambda: w.client.do(requests.change_planning(before)))
        self.addCleanup(lambda: w.client.do(requests.change_machine("Anchor", tools=tools)))
        job = w.submit("tip.gcode", machine="Anchor", hardened=True)
        self.addCleanup(lambda: w.client.do(requests.act_on_job(job.id, "withdraw")))
        page = self.open("/rounds")
        expect(page.get_by_text("put on a hardened 0.6 mm nozzle for tip.gcode")).to_be_visible()
        page.get_by_role("button", name="It is on").click()
        on = eventually(lambda: (tool := w.machine("Anchor").tools[0]).hardened and tool, "it is on")
        self.assertEqual((on.nozzle_mm, on.material, on.colour), (0.6, tools[0].material, tools[0].colour))
        expect(page.get_by_role("button", name="It is on")).to_have_count(0)

    def test_a_site_has_hours_of_its_own_and_single_days_differ(self) -> None:
        w = self.world
        page = self.open("/machines/Bezel")
        page.get_by_role("button", name="Place and pools").click()
        page.get_by_role("textbox", name="Site").fill("Quay")
        page.get_by_role("textbox", name="Place").fill("A2")
        page.get_by_role("textbox", name="Pools").fill("small, small, loud")
        page.get_by_role("textbox", name="Tags").fill("enclosed")
        page.get_by_role("button", name="Set", exact=True).click()
        expect(page.get_by_text("Quay A2")).to_be_visible()
        expect(page.get_by_text("small, loud, enclosed")).to_be_visible()
        page.goto(f"{w.address}/setup")
        page.get_by_label("Of", exact=True).select_option("Quay")
        page.get_by_label("Date").fill("2026-12-24")
        page.get_by_role("button", name="Add the day").click()
        expect(page.get_by_text("Thu, 24 Dec").or_(page.get_by_text("Thu 24 Dec"))).to_be_visible()
        page.get_by_role("button", name="Somebody").last.click()
        until = page.get_by_label(re.compile("24 Dec, until"))
        until.fill("noon")
        page.get_by_role("button", name="Set the hours").click()
        self.assertTrue(until.evaluate("field => field.validity.patternMismatch"))
        until.fill("12:00")
        page.get_by_role("button", name="Set the hours").click()

        def quay() -> list[ws.SiteHours]:
            return [h for h in w.client.do(requests.hours()) if h.site == "Quay"]

        days = eventually(quay, "the site's hours are set")[0].days
        self.assertEqual(
            [(d.isoformat(), s[0].begin, s[0].end) for d, s in days.items()], [("2026-12-24", "08:00", "12:00")]
        )
        w.client.do(requests.change_machine("Bezel", site="", place="", pools=[], tags=[]))

    def test_a_machine_is_kept_free_for_upkeep(self) -> None:
        w = self.world
        page = self.open("/setup")
        page.get_by_role("button", name="Keep a machine free").click()
        page.get_by_label("Machine", exact=True).select_option("Bezel")
        page.get_by_label("What for").fill("new belts")
        page.get_by_label("From", exact=True).fill("2026-11-02T10:00")
        page.get_by_label("Until", exact=True).fill("2026-11-02T09:00")
        page.get_by_role("button", name="Keep it free").click()
        expect(page.get_by_role("alert")).to_contain_text("ends before it begins")
        page.get_by_label("Until", exact=True).fill("2026-11-02T12:30")
        page.get_by_role("button", name="Keep it free").click()
        row = page.get_by_role("listitem").filter(has_text="Bezel: new belts")
        expect(row).to_contain_text("10:00 to 12:30")
        row.get_by_role("button", name="Not needed").click()
        expect(row).to_have_count(0)
        self.assertEqual(w.client.do(requests.upkeep_windows()), [])

    def test_pages_of_planning_fit_a_phone(self) -> None:
        for path in ("/orders", "/rounds", "/what-if", "/setup", "/queue"):
            with self.subTest(path=path):
                page = self.open(path, 390, 844)
                expect(page.get_by_role("heading").first).to_be_visible()
                expect(page.get_by_role("status", name="Loading")).to_have_count(0)
                self.assert_fits(page)
