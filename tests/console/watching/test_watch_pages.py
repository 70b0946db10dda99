"""The watch in the console: the bed's corners, a suspicion and what can be done, what it missed, what follows."""

from __future__ import annotations

import re

import numpy as np
from playwright.sync_api import expect

from chronarch.client import requests
from chronarch.core.machines.states import MachineState
from chronarch.core.watching.suspicion import FailureMode
from chronarch.core.watching.watch_rules import Follow, WatchScope
from chronarch.standins.picture import lens_of
from tests.support.browser import ConsoleCase
from tests.support.watched import (
    BED,
    CORNERS,
    LATE_S,
    TEAL,
    begun,
    follow,
    have_watched,
    leave_lying,
    see_beds,
    show_bed,
    tangled,
)
from tests.support.world import eventually


class WatchPages(ConsoleCase):
    machines = ("Anchor",)
    cameras = True
    rate = 100.0

    @classmethod
    def prepare(cls) -> None:
        cls.world.setups |= TEAL
        super().prepare()
        have_watched(cls.world)

    def test_corners_are_marked_in_the_picture_and_the_grid_is_drawn_over_it(self) -> None:
        self.world.client.do(requests.forget_corners("Anchor"))
        show_bed(self.world)
        page = self.open("/setup")
        expect(page.get_by_text("the bed's corners are not marked in the picture of Anchor")).to_be_visible()
        page.get_by_role("button", name="Bed", exact=True).click()
        picture = page.get_by_role("application", name="Corners of the bed")
        expect(picture).to_be_visible()
        expect(page.get_by_text("Press on corner 1: the origin")).to_be_visible()
        page.get_by_role("button", name="Find them").click()
        expect(page.get_by_text("The corners miss by")).to_be_visible()
        page.get_by_role("button", name="The next is the origin").click()
        expect(page.get_by_text("The corners miss by")).to_be_visible()
        page.get_by_role("button", name="Start again").click()
        box = picture.bounding_box()
        assert box is not None
        scale = box["width"] / 640
        for u, v in CORNERS:
            page.mouse.click(box["x"] + u * scale, box["y"] + v * scale)
        expect(page.get_by_text("The corners miss by")).to_be_visible()
        expect(picture.locator("polyline")).to_have_count(22)
        page.get_by_role("button", name="Corner 2, along x from the origin").focus()
        page.keyboard.press("Shift+ArrowLeft")
        page.keyboard.press("Shift+ArrowRight")
        page.get_by_role("button", name="Mark the nozzle").click()
        u, v = lens_of(BED, "front").project(np.array([self.world.standin("Anchor")["position_mm"]]))[0]
        picture.click(position={"x": u * scale, "y": v * scale})
        expect(picture.locator("polyline")).to_have_count(23)
        page.get_by_role("button", name="The bed is clear: keep").click()
        expect(picture).to_have_count(0)
        sight = self.world.client.do(requests.bed_sight("Anchor"))
        for (a, b), (c, d) in zip(sight.corners, CORNERS, strict=True):
            self.assertLess(abs(a - c) + abs(b - d), 3.0)
        self.assertEqual(sight.set_by, "Maud")
        self.assertIsNotNone(sight.tip)
        self.assertLess(sight.error_px, 3.0)
        expect(page.get_by_text("All 1 machines are watched while they build.")).to_be_visible()

    def test_what_follows_and_how_careful_it_is_is_chosen(self) -> None:
        page = self.open("/setup")
        page.get_by_label("When tangle is suspected").select_option(label="pause the build")
        rule = self.world.client.do
        eventually(
            lambda: rule(requests.watch_rule(WatchScope.SHOP)).rule.follow.get(FailureMode.TANGLE) is Follow.PAUSE,
            "the rule is set",
        )
        expect(page.get_by_label("When shifted is suspected").get_by_text("leave that object out")).to_have_count(0)
        expect(page.get_by_role("img", name="Failures caught against false alarms a week")).to_be_visible()
        page.get_by_label("False alarms the shop puts up with, a week").fill("40")
        page.get_by_role("button", name="Set", exact=True).last.click()
        eventually(lambda: rule(requests.watching()).false_alarms_a_week == 40, "that is set")
        self.assert_fits(self.open("/setup", 390, 844))

    def test_a_job_has_its_own_rule_until_it_is_forgotten(self) -> None:
        do = self.world.client.do
        job = self.world.submit("block.gcode", material="PVA")
        self.addCleanup(do, requests.act_on_job(job.id, "withdraw"))
        page = self.open("/queue")
        row = page.get_by_role("listitem").filter(has_text=f"{job.id}")
        row.get_by_role("button", name="Why", exact=True).click()
        row.get_by_role("button", name="as for the shop; change").last.click()
        dialog = page.get_by_role("dialog")
        dialog.get_by_label("When loose is suspected").select_option(label="leave that object out")
        dialog.get_by_label("When blob is suspected").select_option(label="nothing")
        dialog.get_by_role("button", name="Set", exact=True).click()
        expect(row).to_contain_text("leaves out for loose; takes no notice of blob")
        rule = do(requests.watch_rule(WatchScope.JOB, str(job.id))).rule
        self.assertEqual(rule.follow[FailureMode.LOOSE], Follow.LEAVE_OUT)
        row.get_by_role("button", name="change", exact=True).last.click()
        dialog.get_by_label("Its builds are watched").uncheck()
        dialog.get_by_label("Why, if you wish").fill("a vase")
        dialog.get_by_role("button", name="Set", exact=True).click()
        expect(row).to_contain_text("off: a vase")
        row.get_by_role("button", name="change", exact=True).last.click()
        dialog.get_by_role("button", name="As for everything else").click()
        expect(row).not_to_contain_text("off: a vase")
        self.assertFalse(do(requests.watch_rule(WatchScope.JOB, str(job.id))).own)

    def test_a_bed_that_is_not_clear_is_shown_and_work_goes_on_once_somebody_says_so(self) -> None:
        w = self.world
        self.addCleanup(self.clear, "Anchor")
        self.addCleanup(w.fault, "Anchor", "heal")
        see_beds(w)
        waits = leave_lying(w)
        page = self.open("/machines/Anchor")
        expect(page.get_by_role("heading", name="Bed not clear?")).to_be_visible(timeout=1000 * LATE_S)
        expect(page.get_by_text("The watch gives it no work until the bed is clear.")).to_be_visible()
        expect(page.get_by_text("It takes no work: its bed is perhaps not clear")).to_be_visible()
        self.assert_fits(self.open("/machines/Anchor", 390, 844))
        page.get_by_role("button", name="The bed is clear: go on").click()
        expect(page.get_by_role("heading", name="Bed not clear?")).to_have_count(0)
        w.build_of(waits)

    def test_a_suspicion_shows_its_place_and_a_false_alarm_lets_the_build_go_on(self) -> None:
        w = self.world
        self.addCleanup(self.clear, "Anchor")
        build = begun(w)
        follow(w, Follow.PAUSE)
        page = self.open("/machines/Anchor")
        one = tangled(w, build.id, Follow.PAUSE)
        w.until("Anchor", MachineState.PAUSED, LATE_S)
        follow(w, Follow.TELL)  # what it suspects next pauses nothing
        expect(page.get_by_role("heading", name=re.compile(r"\?.*likely"))).to_be_visible()
        sentences = {re.escape(s.sentence) for s in w.client.do(requests.suspicions(build=build.id))}
        expect(page.get_by_text(re.compile("|".join(sentences))).first).to_be_visible()  # of the first that paused it
        expect(page.get_by_text("The watch paused the build.")).to_be_visible()
        self.assert_fits(self.open("/machines/Anchor", 390, 844))
        page.get_by_role("button", name="False alarm: resume").click()
        eventually(lambda: w.state("Anchor") is not MachineState.PAUSED, "the build goes on", LATE_S)
        expect(page.get_by_role("button", name="False alarm: resume")).to_have_count(0)
        self.assertIs(w.client.do(requests.suspicion(one.number)).right, False)

        page.goto(f"{w.address}/builds/{build.id}")
        expect(page.get_by_text("a false alarm, says Maud").first).to_be_visible()
        page.get_by_role("button", name="The watch missed something").click()
        page.get_by_label("What went wrong").select_option(label="Fallen")
        page.get_by_label("Which object").select_option(label="block 2")
        page.get_by_role("button", name="It failed here").click()
        expect(page.get_by_text("missed, says Maud")).to_be_visible()
        self.assertEqual(self.faults, [])
