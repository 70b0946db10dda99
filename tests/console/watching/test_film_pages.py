"""Films in a real browser: found, played and scrubbed, two in step by layer, kept and removed; how they are made."""

from __future__ import annotations

import re
from typing import ClassVar

from playwright.sync_api import Page, expect

from chronarch.client import requests
from chronarch.core.machines.states import MachineState
from chronarch.core.orders.states import Verdict
from chronarch.core.watching.film_settings import FilmScope, FilmSettings
from chronarch.wire.library import NewPart
from chronarch.wire.orders.builds import Build
from chronarch.wire.watching.films import NewFilm
from tests.support.browser import ConsoleCase
from tests.support.gcode import squares
from tests.support.world import eventually

LAYERS = 6


class FilmPages(ConsoleCase):
    machines = ("Anchor",)
    cameras = True
    rate = 100.0
    builds: ClassVar[list[Build]]
    """One that was completed, one that was stopped."""

    @classmethod
    def prepare(cls) -> None:
        super().prepare()
        w = cls.world
        w.add_file("filmed.gcode", squares(layers=LAYERS, rounds=20, side=50, feed=1500))
        eventually(lambda: w.client.do(requests.camera("Anchor")).frame_at, "the camera gives pictures")
        cls.builds = [cls.build(stop=False), cls.build(stop=True)]
        made = lambda: [f for f in w.client.do(requests.films()) if f.state == "done"]  # noqa: E731
        eventually(lambda: len(made()) == 2, "both films are made", 120)

    @classmethod
    def build(cls, *, stop: bool) -> Build:
        w = cls.world
        build = w.build_of(w.submit("filmed.gcode", machine="Anchor"))
        if stop:
            frames = lambda: w.client.all(requests.frames_of_build(build.id))  # noqa: E731
            eventually(lambda: len({f.layer for f in frames()}) > 2, "a few layers are laid")
            w.client.do(requests.stop(build.id, "it came loose"))
        w.until("Anchor", MachineState.UNCLEARED, 120)
        w.client.do(requests.verdict(build.id, Verdict.SCRAP if stop else Verdict.GOOD, "let go" if stop else ""))
        return build

    def second(self, page: Page) -> float:
        """Where in the film the page is."""
        return float(page.locator("video").first.evaluate("v => v.currentTime"))

    def test_a_film_is_found_played_scrubbed_and_kept(self) -> None:
        w, (whole, stopped) = self.world, self.builds
        page = self.open("/library/films")
        cards = page.get_by_role("link").filter(has=page.get_by_role("img").or_(page.locator("img")))
        expect(page.get_by_text(f"build {stopped.id}")).to_be_visible()
        page.get_by_label("Search films").fill("completed")
        expect(page.get_by_text(f"build {stopped.id}")).to_have_count(0)
        self.assertIn("search=completed", page.url)
        cards.filter(has_text=f"build {whole.id}").click()
        page.wait_for_url(re.compile(r"/library/films/\d+"))
        video = page.locator("video")
        eventually(lambda: video.evaluate("v => v.readyState >= 2") or page.wait_for_timeout(50), "the film is there")
        place = page.get_by_role("slider", name="Place in the film")
        place.focus()
        page.keyboard.press("End")
        expect(page.get_by_text(f"Layer {LAYERS} of {LAYERS}")).to_be_visible()
        self.assertGreater(self.second(page), 2)
        page.keyboard.press("Home")
        at = place.get_attribute("aria-valuetext") or ""
        page.keyboard.press("Shift+ArrowRight")
        expect(place).not_to_have_attribute("aria-valuetext", at)
        page.get_by_role("button", name="Play").click()
        eventually(lambda: self.second(page) > 1 or page.wait_for_timeout(50), "it plays")
        page.get_by_role("button", name="Keep").click()
        expect(page.get_by_role("button", name="Keep no longer")).to_be_visible()
        with page.expect_download() as saved:
            page.get_by_role("link", name="Download").click()
        self.assertEqual(saved.value.suggested_filename, f"filmed-Anchor-build-{whole.id}.webm")
        self.assertTrue(w.client.do(requests.films(build=whole.id))[0].kept)
        self.assert_fits(page)

    def test_where_a_build_failed_is_marked_and_another_film_goes_beside_it(self) -> None:
        whole, stopped = self.builds
        film, other = (self.world.client.do(requests.films(build=build.id))[-1] for build in (stopped, whole))
        page = self.open(f"/library/films/{film.number}")
        page.get_by_role("button", name=re.compile("it came loose")).click()
        eventually(lambda: self.second(page) > 0.1 or page.wait_for_timeout(50), "the mark is gone to")
        page.get_by_label(re.compile("Another film of this")).select_option(str(other.number))
        expect(page.locator("video")).to_have_count(2)
        page.get_by_role("slider", name="Layer in both").focus()
        page.keyboard.press("End")
        expect(page.get_by_text(re.compile(r"it ended in layer \d"))).to_be_visible()
        expect(page.get_by_label(f"Film of build {whole.id}, layer {LAYERS}")).to_be_visible()
        self.assertIn("beside=", page.url)

    def test_a_build_and_its_part_show_their_film_and_a_further_one_can_be_removed(self) -> None:
        w, (whole, _) = self.world, self.builds
        file = w.client.do(requests.file("filmed.gcode"))
        part = w.client.do(requests.add_part(NewPart(name="filmed thing", files=[file.id])))
        page = self.open(f"/builds/{whole.id}")
        expect(page.get_by_test_id("film")).to_be_visible()
        page = self.open(f"/library/parts/{part.id}")
        expect(page.get_by_text(f"build {whole.id}")).to_be_visible()
        self.assert_fits(page)
        w.client.do(requests.ask_for_film(whole.id, NewFilm(settings=FilmSettings(fps=10))))
        found = lambda: [f for f in w.client.do(requests.films(build=whole.id)) if not f.by_itself]  # noqa: E731
        eventually(lambda: found() and found()[0].state == "done", "a further film is made", 60)
        page = self.open(f"/library/films/{found()[0].number}", width=390, height=844)
        page.get_by_role("button", name="Remove…").click()
        page.get_by_role("button", name="Remove it").click()
        page.wait_for_url(re.compile(r"/library/films$"))
        self.assertEqual(found(), [])
        self.assert_fits(page)

    def test_how_films_are_made_is_set_where_it_belongs_with_what_it_costs(self) -> None:
        w = self.world
        file = w.client.do(requests.file("filmed.gcode"))
        page = self.open(f"/library/files/{file.id}")
        page.get_by_label("Show the head going out of the picture").click()
        expect(page.get_by_text(re.compile(rf"{LAYERS - 1} times, about \d+ s more|too short"))).to_be_visible()
        page.get_by_role("button", name="as everywhere; change").click()
        dialog = page.get_by_role("dialog")
        dialog.get_by_role("button", name="MP4 (H.264)").click()
        dialog.get_by_label("Take the head out of the picture at each layer").check()
        expect(dialog.get_by_text("ooze")).to_be_visible()
        dialog.get_by_role("button", name="Set").click()
        expect(dialog).to_have_count(0)
        rule = w.client.do(requests.film_rule(FilmScope.FILE, str(file.id)))
        self.assertTrue(rule.own and rule.settings.form == "mp4" and rule.settings.head_away)
        page = self.open("/setup#films")
        expect(page.get_by_text("file filmed.gcode")).to_be_visible()
        page.get_by_text("MP4, head out of the picture").locator("..").get_by_role("button", name="change").click()
        page.get_by_role("button", name="As for everything else").click()
        expect(page.get_by_text("file filmed.gcode")).to_have_count(0)
        page.get_by_label("Films may take, GB").fill("3")
        page.get_by_role("button", name="Set", exact=True).last.click()
        eventually(lambda: w.client.do(requests.film_standing()).share_gb == 3, "the share is set")
