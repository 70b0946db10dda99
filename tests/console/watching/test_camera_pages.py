"""Cameras in a real browser: live pictures, looking closely, all at once, the big screen, and setting one up."""

from __future__ import annotations

import re
from datetime import date, timedelta

from playwright.sync_api import APIResponse, Page, Route, expect

from chronarch.client import requests
from chronarch.core.machines.states import Intake, MachineState
from chronarch.wire.planning.settings import SiteHours, StaffedMinutes
from chronarch.wire.watching.cameras import CameraChange, NewCamera
from chronarch.wire.watching.settings import WatchingUpdate
from tests.support.browser import ConsoleCase
from tests.support.gcode import squares
from tests.support.world import eventually

STAMP = """canvas => {
    const pixels = canvas.getContext("2d").getImageData(0, 0, canvas.width, 12).data, scale = canvas.width / 640;
    let ms = 0, check = 0;
    for (let n = 0; n < 48; n++) {
        const bit = pixels[4 * (Math.round(6 * scale) * canvas.width + Math.round((n * 12 + 6) * scale))] < 128 ? 1 : 0;
        if (n < 40) ms = ms * 2 + bit; else check = check * 2 + bit;
    }
    return [ms, ms % 251 === check];
}"""
"""The time that a stand-in has stamped into the picture which a page shows, and whether it can be read."""


class Cameras(ConsoleCase):
    machines = ("Anchor", "Bezel")
    cameras = True

    @classmethod
    def prepare(cls) -> None:
        super().prepare()
        w = cls.world
        w.add_camera("Anchor", "Anchor side", "stream.mjpg?fps=20&stamp=1")
        room = NewCamera(
            name="Hall", tender="tender", site="Upstairs", place="by the stairs",
            address=f"http://127.0.0.1:{w.standins_port}/rooms/Hall/frame.jpg",
        )  # fmt: skip
        w.client.do(requests.add_camera(room))
        w.add_file("seen.gcode", squares(layers=10, rounds=90, feed=1200))

    def looked_at(self, camera: str, by: int) -> None:
        w = self.world
        eventually(lambda: w.client.do(requests.camera(camera)).looked_at_by == by, f"{by} look at {camera}")

    def moves(self, page: Page, label: str) -> None:
        """A live picture changes."""
        picture = page.get_by_role("img", name=label)
        expect(picture).to_be_visible()
        expect(picture).to_have_attribute("data-taken-at", re.compile("."))
        before = picture.get_attribute("data-taken-at") or ""
        expect(picture).not_to_have_attribute("data-taken-at", before)

    def test_a_machines_page_shows_it_live_from_the_camera_that_is_picked(self) -> None:
        page = self.open("/machines/Anchor")
        self.moves(page, "Anchor, live picture")
        page.get_by_role("button", name="Anchor side").click()
        self.moves(page, "Anchor side, live picture")
        self.assertIn("camera=Anchor+side", page.url)
        self.looked_at("Anchor", 0)
        self.looked_at("Anchor side", 1)
        stamps = []
        for _ in range(3):
            ms, sound = page.get_by_role("img", name="Anchor side, live picture").evaluate(STAMP)
            self.assertTrue(sound, "the stamp can be read in the page")
            stamps.append(ms)
            self.moves(page, "Anchor side, live picture")
        self.assertEqual(stamps, sorted(set(stamps)))
        closely = page.get_by_role("group", name="Picture of Anchor").locator("[data-zoom]")
        expect(closely).to_have_attribute("data-zoom", "1.00")
        page.get_by_role("button", name="Closer").click()
        expect(closely).to_have_attribute("data-zoom", "1.50")
        picture = page.get_by_role("group", name="Picture of Anchor")
        picture.hover()
        page.mouse.wheel(0, -300)
        expect(closely).not_to_have_attribute("data-zoom", "1.50")
        picture.dblclick(position={"x": 40, "y": 40})
        expect(closely).to_have_attribute("data-zoom", "1.00")

    def test_a_build_is_looked_back_at_frame_by_frame_with_its_layers_and_heat(self) -> None:
        w = self.world
        self.clear("Bezel")
        w.client.do(requests.change_watching(WatchingUpdate(keep_every_s=60)))
        w.intake(Intake.OPEN, "Bezel")
        build = w.build_of(w.submit("seen.gcode", machine="Bezel"))
        page = self.open("/machines/Bezel")
        frames = lambda: w.client.all(requests.frames_of_build(build.id))  # noqa: E731
        eventually(lambda: len({f.layer for f in frames()}) >= 4, "frames of some layers are kept", 180.0)
        slider = page.get_by_role("slider", name="Look back")
        expect(slider).to_have_attribute("aria-valuetext", "now")
        slider.focus()
        page.keyboard.press("Home")
        first = page.get_by_role("group", name="Picture of Bezel").get_by_role("img")
        expect(first).to_have_attribute("data-number", str(frames()[0].number))
        expect(page.get_by_text("looking back")).to_be_visible()
        layers = {f.number: f.layer for f in frames()}
        seen = [int(first.get_attribute("data-number") or 0)]
        while layers.get(seen[-1], 0) < 3:  # frames come and are thinned meanwhile, so they are not counted
            page.keyboard.press("ArrowRight")
            expect(first).not_to_have_attribute("data-number", str(seen[-1]))
            seen.append(int(first.get_attribute("data-number") or 0))
            self.assertGreater(seen[-1], seen[-2], "each press shows the next one")
            layers |= {f.number: f.layer for f in frames()}
        layer = layers[seen[-1]]
        expect(slider).to_have_attribute("aria-valuetext", re.compile(f"layer {layer}"))
        expect(page.get_by_text(re.compile(f"Layer {layer}|{layer} of 10")).first).to_be_visible()
        place = int(slider.get_attribute("aria-valuenow") or 0)
        w.sql("delete from frame where id = :n", n=seen[-1])  # as thinning does
        gone = lambda: int(slider.get_attribute("aria-valuenow") or 0) < place  # noqa: E731
        eventually(lambda: gone() or page.wait_for_timeout(50), "the page knows that it is kept no more")
        page.keyboard.press("ArrowRight")
        expect(first).not_to_have_attribute("data-number", str(seen[-1]))
        self.assertGreater(int(first.get_attribute("data-number") or 0), seen[-1], "it is the next one, and not now")
        expect(page.locator("[data-marked]")).to_have_count(1)
        plot = page.locator(".heat-plot")
        plot.scroll_into_view_if_needed()
        box = plot.bounding_box()
        assert box is not None
        page.mouse.move(box["x"] + box["width"] / 2, box["y"] + 60)
        expect(page.get_by_text(re.compile(r"nozzle \d+\.\d"))).to_be_visible()
        page.mouse.down()
        page.mouse.move(box["x"] + box["width"] * 0.8, box["y"] + 60, steps=4)
        page.mouse.up()
        expect(page.get_by_role("button", name="show all again")).to_be_visible()
        plot.dblclick(position={"x": box["width"] / 2, "y": 60})
        expect(page.get_by_role("button", name="show all again")).to_have_count(0)
        page.get_by_role("button", name="now", exact=True).click()
        self.moves(page, "Bezel, live picture")
        expect(page.locator("[data-marked]")).to_have_count(0)
        eventually(lambda: w.stopped("Bezel"), "the build is stopped")
        w.until("Bezel", MachineState.UNCLEARED)
        past = self.open(f"/builds/{build.id}")
        expect(past.get_by_text("stopped")).to_be_visible()
        picture = past.get_by_role("group", name=f"Picture of build {build.id}").get_by_role("img")
        expect(picture).to_have_attribute("data-number", re.compile(r"\d+"))
        past.get_by_role("slider", name="Look back").focus()
        past.keyboard.press("Home")
        expect(picture).to_have_attribute("data-number", str(frames()[0].number))
        self.assert_fits(past)

    def test_a_page_that_is_hidden_gets_no_pictures(self) -> None:
        page = self.open("/machines/Bezel")
        self.moves(page, "Bezel, live picture")
        self.looked_at("Bezel", 1)
        hide = """hidden => {
            const value = hidden ? "hidden" : "visible";
            Object.defineProperty(document, "visibilityState", {value, configurable: true});
            document.dispatchEvent(new Event("visibilitychange"));
        }"""
        page.evaluate(hide, True)
        self.looked_at("Bezel", 0)
        page.evaluate(hide, False)
        self.moves(page, "Bezel, live picture")

    def test_a_camera_that_gives_nothing_says_why_and_since_when(self) -> None:
        w = self.world
        page = self.open("/machines/Bezel")
        self.moves(page, "Bezel, live picture")
        self.addCleanup(w.fault, "Bezel", "heal")
        w.fault("Bezel", "camera", text="fails")
        expect(page.get_by_text("No picture: it answers 503")).to_be_visible()
        expect(page.get_by_role("group", name="Picture of Bezel")).to_contain_text(re.compile(r"since \d\d:\d\d"))
        w.fault("Bezel", "heal")
        expect(page.get_by_text("No picture")).to_have_count(0, timeout=90_000)
        self.moves(page, "Bezel, live picture")

    def test_news_of_a_camera_outlive_an_older_answer_that_comes_after_them(self) -> None:
        w = self.world
        self.addCleanup(w.fault, "Bezel", "heal")
        page = self.open("/setup")
        cameras = page.locator("section", has=page.get_by_role("heading", name="Cameras", exact=True))
        row = cameras.get_by_role("listitem").filter(has=page.get_by_role("link", name="Bezel", exact=True))
        expect(row).to_contain_text("/machines/Bezel/")
        held: list[tuple[Route, APIResponse]] = []
        page.route("**/api/cameras", lambda route: held.append((route, route.fetch())), times=1)
        w.client.do(requests.change_camera("Hall", CameraChange(place="at the stairs")))
        self.addCleanup(w.client.do, requests.change_camera("Hall", CameraChange(place="by the stairs")))
        eventually(lambda: held or page.wait_for_timeout(20), "the page asks for the cameras")
        w.fault("Bezel", "camera", text="fails")
        eventually(lambda: w.client.do(requests.camera("Bezel")).trouble or page.wait_for_timeout(20), "it fails", 120)
        expect(row).to_contain_text("503")
        held[0][0].fulfill(response=held[0][1])
        page.wait_for_timeout(1500)
        expect(row).to_contain_text("503")

    def test_all_cameras_are_seen_at_once_filtered_by_the_pages_address(self) -> None:
        w = self.world
        self.clear("Bezel")
        w.intake(Intake.OPEN, "Bezel")
        w.submit("seen.gcode", machine="Bezel")
        page = self.open("/cameras")
        for name in ("Anchor", "Anchor side", "Bezel", "Hall"):
            self.moves(page, f"{name}, live picture")
        tile = page.get_by_role("link", name=re.compile("Bezel"))
        expect(tile).to_contain_text("building")
        expect(tile).to_contain_text(re.compile(r"\d+ %"))
        self.assert_fits(page)
        page.get_by_label("Order").select_option("worth")
        expect(page.get_by_role("listitem").first).to_contain_text("Bezel")
        page.get_by_label("State").select_option("building")
        expect(page.get_by_role("listitem")).to_have_count(1)
        page.reload()
        expect(page.get_by_role("listitem")).to_have_count(1)
        page.get_by_label("State").select_option("")
        page.get_by_label("Group").select_option("site")
        expect(page.get_by_role("region", name="rooms")).to_contain_text("Hall")
        page.get_by_label("Search the cameras").fill("stairs")
        expect(page.get_by_role("listitem")).to_have_count(1)
        page.get_by_role("link", name=re.compile("Hall")).click()
        expect(page.get_by_role("heading", level=1, name="Hall")).to_be_visible()
        expect(page.get_by_text("Upstairs, by the stairs")).to_be_visible()
        phone = self.open("/cameras", width=390, height=844)
        self.moves(phone, "Anchor, live picture")
        self.assert_fits(phone)
        eventually(lambda: w.stopped("Bezel"), "the build is stopped")

    def test_the_big_screen_has_nothing_to_press_and_dims_while_nobody_is_there(self) -> None:
        w = self.world
        page = self.open("/cameras?form=wall", width=1920, height=1080)
        self.moves(page, "Anchor, live picture")
        self.moves(page, "Hall, live picture")
        wall = page.locator("[data-dim]")
        self.assertEqual(wall.get_by_role("button").count(), 0)
        expect(wall).to_have_attribute("data-dim", "false")
        hours = self.hours({})
        self.addCleanup(w.client.do, requests.set_hours(hours))
        today = w.client.do(requests.shop()).now.date()
        w.client.do(requests.set_hours(self.hours({today: [], today + timedelta(days=1): []})))
        expect(wall).to_have_attribute("data-dim", "true", timeout=30_000)
        self.assertIn("brightness(0.45)", wall.get_attribute("style") or "")
        self.moves(page, "Anchor, live picture")
        w.client.do(requests.set_hours(hours))
        expect(wall).to_have_attribute("data-dim", "false", timeout=30_000)

    @staticmethod
    def hours(days: dict[date, list[StaffedMinutes]]) -> SiteHours:
        return SiteHours(week=[[StaffedMinutes(begin="00:00", end="24:00")]] * 7, days=days)

    def test_a_camera_is_tried_added_changed_and_removed_in_the_set_up(self) -> None:
        w = self.world
        page = self.open("/setup")
        page.get_by_role("button", name="Add a camera").click()
        dialog = page.get_by_role("dialog")
        dialog.get_by_label("Looks at").select_option("Bezel")
        dialog.get_by_label("Name").fill("Bezel top")
        dialog.get_by_label("Address").fill("http://127.0.0.1:9/none.jpg")
        dialog.get_by_role("button", name="Try it").click()
        expect(dialog.get_by_role("alert")).to_contain_text("the connection is refused")
        dialog.get_by_label("Address").fill(w.camera_address("Bezel"))
        expect(dialog.get_by_role("alert")).to_have_count(0)
        dialog.get_by_text("Picture: turn").click()
        dialog.get_by_label("Turned").select_option("90")
        dialog.get_by_role("button", name="Try it").click()
        expect(dialog.get_by_text("480 × 640 px")).to_be_visible()
        dialog.get_by_role("button", name="Add it").click()
        row = page.get_by_role("listitem").filter(has_text="Bezel top")
        expect(row).to_contain_text("further")
        row.get_by_role("button", name="Change").click()
        dialog.get_by_label("Address").fill(w.camera_address("Nobody"))
        dialog.get_by_role("button", name="Set", exact=True).click()
        expect(row).to_contain_text("it answers 404", timeout=60_000)
        self.assertEqual(w.client.do(requests.camera("Bezel top")).settings.turn, 90)
        row.get_by_role("button", name="Remove").click()
        dialog.get_by_role("button", name="Remove it").click()
        expect(row).to_have_count(0)
        expect(dialog).to_have_count(0)
        page.get_by_label("May take, % of a core").fill("80")
        budget = page.locator("form").filter(has_text="May take, % of a core")
        budget.get_by_role("button", name="Set", exact=True).click()
        eventually(lambda: w.client.do(requests.watching()).camera_budget == 0.8, "the budget is set")


del ConsoleCase  # it has no tests of its own
