"""The console in a real browser: what a person sees and can do, live, on a desk and on a phone."""

from __future__ import annotations

import re
import signal
import threading

from playwright.sync_api import Route, expect

from chronarch.client import Client, requests
from chronarch.core.machines.states import MachineState
from chronarch.wire import library as wl
from tests.support.browser import ConsoleCase
from tests.support.gcode import squares, write
from tests.support.world import PASSWORD, PERSON, eventually


class Pages(ConsoleCase):
    machines = ("Anchor", "Bezel")
    cameras = True

    def test_signing_in_and_out(self) -> None:
        page = self.open("/", signed_in=False)
        page.get_by_label("Name").fill(PERSON)
        page.get_by_label("Password").fill("not this")
        page.get_by_role("button", name="Sign in").click()
        expect(page.get_by_role("alert")).to_have_text("Name or password is wrong.")
        page.get_by_label("Password").fill(PASSWORD)
        page.keyboard.press("Enter")
        expect(page.get_by_role("heading", level=1, name="Board")).to_be_visible()
        page.get_by_label("Signed in as Maud").click()
        page.get_by_role("menuitem", name="Sign out").click()
        expect(page.get_by_role("button", name="Sign in")).to_be_visible()

    def test_no_page_takes_the_walls_time_for_the_shops(self) -> None:
        held: list[Route] = []
        page = self.open("/setup", holding="**/api/live", held=held)
        eventually(lambda: held or page.wait_for_timeout(20), "the page asks for the live stream")
        expect(page.get_by_role("status", name="Loading")).to_be_visible()
        expect(page.get_by_role("heading")).to_have_count(0)
        held[0].continue_()
        page.get_by_role("button", name="Keep a machine free").click()
        shop = self.world.client.do(requests.shop()).now
        self.assertIn(f"{shop:%b %Y, }", page.get_by_label("From").input_value())

    def test_a_file_is_added_queued_made_and_judged_without_a_reload(self) -> None:
        w = self.world
        self.clear("Anchor")
        good = write(w.folder, "console-piece.gcode", squares(layers=4, rounds=8))
        letter = write(w.folder, "letter.gcode", "Dear sir,\n" * 30)
        page = self.open("/library")
        page.get_by_test_id("files").set_input_files([good, letter])
        expect(page.get_by_role("link", name="console-piece.gcode")).to_be_visible()
        expect(page.get_by_role("alert")).to_contain_text("This is not G-code")
        page.get_by_role("button", name="Dismiss").click()
        row = page.get_by_role("row", name=re.compile("console-piece"))
        expect(row).to_contain_text("4")
        row.get_by_role("button", name="Queue").click()
        page.get_by_label("Where").select_option("machine:Anchor")
        page.get_by_label("Material and colour").select_option(label="teal PLA")
        page.get_by_role("button", name="Queue 1 copy").click()
        expect(page.get_by_role("heading", level=1, name="Queue")).to_be_visible()
        job = page.get_by_role("listitem").filter(has_text="console-piece")
        expect(job).to_contain_text("0 of 1 good")
        expect(job).to_contain_text("running")
        page.get_by_role("navigation", name="Pages", exact=True).get_by_role("link", name="Board").click()
        hands = page.get_by_role("region", name="Next hands")
        expect(hands).to_contain_text("clear and judge", timeout=30_000)
        hands.get_by_role("listitem").filter(has_text="Anchor").get_by_role("button", name="Clear").click()
        dialog = page.get_by_role("dialog")
        expect(dialog).to_contain_text("console-piece.gcode")
        dialog.get_by_role("button", name="Scrap").click()
        expect(dialog.get_by_role("button", name="Clear, scrap")).to_be_disabled()
        dialog.get_by_role("button", name="Back").click()
        dialog.get_by_role("button", name="Clear, part is good").click()
        expect(dialog).to_be_hidden()
        w.until("Anchor", MachineState.IDLE)
        build = w.client.do(requests.builds(machine="Anchor"))[0]
        self.assertEqual((build.verdict, build.judged_by), ("good", "Maud"))

    def test_a_build_is_followed_paused_and_stopped_on_its_machines_page(self) -> None:
        w = self.world
        self.clear("Bezel")
        w.add_file("followed.gcode", squares(layers=10, rounds=90, feed=1200))
        job = w.submit("followed.gcode", machine="Bezel")
        page = self.open("/machines/Bezel")
        expect(page.get_by_role("heading", level=1, name="Bezel")).to_contain_text("building")
        bar = page.get_by_role("progressbar", name="Progress")
        before = bar.get_attribute("aria-valuenow") or ""
        expect(bar).not_to_have_attribute("aria-valuenow", before)
        expect(page.get_by_text(re.compile(r"layer \d+ of 10"))).to_be_visible()
        expect(page.get_by_role("img", name="Bezel, live picture")).to_be_visible()
        page.get_by_role("button", name="Pause", exact=True).click()
        expect(page.get_by_role("heading", level=1, name="Bezel")).to_contain_text("paused")
        expect(page.get_by_text("paused: asked for by Maud.")).to_be_visible()
        page.get_by_role("button", name="Resume").click()
        expect(page.get_by_role("heading", level=1, name="Bezel")).to_contain_text("building")
        page.get_by_role("button", name="Stop…").click()
        expect(page.get_by_role("dialog")).to_contain_text("What was laid down so far is lost")
        page.keyboard.press("Escape")
        expect(page.get_by_role("dialog")).to_be_hidden()
        page.get_by_role("button", name="Stop…").click()
        w.client.do(requests.act_on_job(job.id, "withdraw"))
        page.get_by_role("button", name="Stop the build").click()
        expect(page.get_by_role("heading", level=1, name="Bezel")).to_contain_text("uncleared")
        expect(page.get_by_role("img", name=re.compile("Temperatures of nozzle, bed"))).to_be_visible()
        page.get_by_role("button", name="Clear…").click()
        page.get_by_role("button", name="Scrap…").click()
        page.get_by_label("What was wrong with it?").fill("stopped early")
        page.get_by_role("button", name="Clear, scrap").click()
        expect(page.get_by_role("heading", level=1, name="Bezel")).to_contain_text("idle")
        expect(page.get_by_role("row").filter(has_text="scrap: stopped early").first).to_be_visible()

    def test_trouble_is_seen_at_once_in_the_notices(self) -> None:
        w = self.world
        self.clear("Bezel")
        w.add_file("trouble.gcode", squares(layers=10, rounds=90, feed=1100))
        job = w.submit("trouble.gcode", machine="Bezel")
        page = self.open("/")
        w.until("Bezel", MachineState.BUILDING)
        w.fault("Bezel", "filament-out")
        page.get_by_role("button", name="Notices: 1 ask for hands").click()
        expect(page.get_by_role("menu")).to_contain_text("Bezel paused itself: filament ran out")
        page.get_by_role("button", name="Mark as read").click()
        expect(page.get_by_role("button", name="Mark as read")).to_be_hidden()
        page.keyboard.press("Escape")
        expect(page.get_by_role("region", name="Next hands")).to_contain_text("look: paused")
        w.client.do(requests.act_on_job(job.id, "withdraw"))

    def test_a_waiting_job_is_held_released_and_withdrawn(self) -> None:
        w = self.world
        w.add_file("waits.gcode", squares(layers=1))
        w.submit("waits.gcode", 2, material="PETG")
        page = self.open("/queue")
        row = page.get_by_role("listitem").filter(has_text="waits.gcode")
        expect(row).to_contain_text("No machine fits: Anchor has teal PLA loaded; the job needs PETG")
        row.get_by_role("button", name="Hold").click()
        expect(row).to_contain_text("held")
        row.get_by_role("button", name="Release").click()
        expect(row).to_contain_text("waiting")
        row.get_by_role("button", name="Withdraw").click()
        expect(page.get_by_role("dialog")).to_contain_text("2 waiting copies of waits.gcode will not be made")
        page.get_by_role("dialog").get_by_role("button", name="Withdraw").click()
        expect(row).to_be_hidden()
        page.get_by_label("finished and withdrawn too").check()
        expect(row).to_contain_text("withdrawn")

    def test_the_records_show_shares_and_give_them_as_csv(self) -> None:
        page = self.open("/records")
        expect(page.get_by_role("img", name=re.compile("^Fleet: .*idle"))).to_be_visible()
        expect(page.get_by_role("row", name=re.compile("^Anchor"))).to_contain_text("%")
        with page.expect_download() as download:
            page.get_by_role("link", name="CSV").click()
        text = download.value.path().read_text()
        self.assertTrue(text.startswith("name,utilisation"), text[:80])
        page.get_by_label("From").fill("2030-01-01T00:00")
        expect(page.get_by_text("The span ends before it begins")).to_be_visible()

    def test_a_file_is_dropped_on_the_library(self) -> None:
        page = self.open("/library")
        text = squares(layers=5)
        data = page.evaluate_handle(
            "text => { const d = new DataTransfer(); d.items.add(new File([text], 'dropped.gcode')); return d }", text
        )
        add = page.get_by_role("button", name="Add", exact=True)
        page.get_by_test_id("drop").dispatch_event("drop", {"dataTransfer": data})
        expect(page.get_by_role("dialog")).to_contain_text("dropped.gcode")
        add.click()
        expect(page.get_by_role("row", name=re.compile("dropped.gcode"))).to_contain_text("5")
        page.get_by_test_id("drop").dispatch_event("drop", {"dataTransfer": data})
        add.click()
        expect(page.get_by_role("status").filter(has_text="dropped.gcode")).to_have_count(0)
        expect(page.get_by_role("row", name=re.compile("dropped.gcode"))).to_have_count(1)

    def test_a_machine_is_taken_out_put_back_and_its_intake_set(self) -> None:
        self.clear("Anchor")
        page = self.open("/machines/Anchor")
        heading = page.get_by_role("heading", level=1, name="Anchor")
        page.get_by_role("button", name="Take out").click()
        expect(heading).to_contain_text("service")
        expect(page.get_by_text("service: taken out by Maud.")).to_be_visible()
        page.get_by_role("button", name="Put back").click()
        expect(heading).to_contain_text("idle")
        page.get_by_label("Intake").select_option("manual")
        expect(page.get_by_role("button", name="Start next")).to_be_visible()
        page.get_by_role("button", name="Start next").click()
        expect(page.get_by_role("alert")).to_contain_text("Nothing was started")
        page.get_by_label("Intake").select_option("open")
        expect(page.get_by_role("button", name="Start next")).to_be_hidden()

    def test_the_board_is_narrowed_to_a_state_and_to_a_span(self) -> None:
        self.clear("Anchor")
        page = self.open("/")
        row = page.get_by_role("link", name=re.compile("Anchor, newest|no frame Anchor"))
        expect(row).to_be_visible()
        page.get_by_role("group", name="Show").get_by_role("button", name="idle").click()
        expect(row).to_be_visible()
        for span in ("3 h", "1 day", "8 h"):
            button = page.get_by_role("group", name="Span").get_by_role("button", name=span)
            button.click()
            expect(button).to_have_attribute("aria-pressed", "true")

    def test_the_board_is_searched_by_typing_and_has_rows_without_pictures(self) -> None:
        page = self.open("/")
        rows = page.get_by_role("list", name="Machines").get_by_role("listitem")
        expect(rows.first).to_be_visible()
        page.get_by_label("Search the board").fill("anch")
        expect(rows).to_have_count(1)
        page.get_by_label("Search the board").fill("nothing that there is")
        expect(page.get_by_text("No machine fits")).to_be_visible()
        page.get_by_label("Search the board").fill("")
        tall = rows.first.bounding_box()
        page.get_by_role("group", name="Rows").get_by_role("button", name="dense").click()
        expect(rows.first.locator("img")).to_have_count(0)
        low = rows.first.bounding_box()
        assert tall is not None and low is not None
        self.assertLess(low["height"], tall["height"] / 1.5)

    def test_set_up_and_what_if_are_pages_in_sight(self) -> None:
        page = self.open("/")
        pages = page.get_by_role("navigation", name="Pages", exact=True)
        pages.get_by_role("link", name="Set-up").click()
        expect(page.get_by_role("heading", level=1, name="Set-up")).to_be_visible()
        pages.get_by_role("link", name="What if").click()
        expect(page.get_by_label("What if …")).to_be_visible()

    def test_a_long_list_shows_more_when_its_end_is_reached(self) -> None:
        w = self.world
        for n in range(60):
            w.client.do(requests.add_part(wl.NewPart(name=f"washer {n:02}", files=[])))
        page = self.open("/library/parts")
        expect(page.get_by_role("link", name="washer 00")).to_be_visible()

        def end_is_reached() -> int:
            page.evaluate("scrollTo(0, document.documentElement.scrollHeight)")
            return page.get_by_role("link", name="washer 59").count()

        eventually(end_is_reached, "the rest is fetched")
        expect(page.get_by_role("link", name="washer 59")).to_be_visible()
        expect(page.get_by_role("button", name="Show more")).to_have_count(0)
        for n in range(60):
            w.client.do(requests.remove_part(f"washer {n:02}"))

    def test_a_list_comes_to_its_end_while_it_changes_faster_than_it_is_answered(self) -> None:
        w = self.world
        for n in range(60):
            w.client.do(requests.add_part(wl.NewPart(name=f"washer {n:02}", files=[])))
        changing = threading.Event()

        def change() -> None:
            with Client(w.address, w.key) as client:
                while not changing.wait(0.1):
                    client.do(requests.add_part(wl.NewPart(name="zzz", files=[])))
                    client.do(requests.remove_part("zzz"))

        page = self.open("/library/parts")
        expect(page.get_by_role("link", name="washer 00")).to_be_visible()
        slow = page.context.new_cdp_session(page)
        slow.send("Network.enable")
        line = {"offline": False, "latency": 1500, "downloadThroughput": -1, "uploadThroughput": -1}
        slow.send("Network.emulateNetworkConditions", line)
        busy = threading.Thread(target=change)
        busy.start()
        try:
            page.evaluate("scrollTo(0, document.documentElement.scrollHeight)")
            expect(page.get_by_role("link", name="washer 59")).to_be_visible(timeout=60_000)
        finally:
            changing.set()
            busy.join()
        for n in range(60):
            w.client.do(requests.remove_part(f"washer {n:02}"))

    def test_while_the_service_is_away_the_page_says_so_and_catches_up_by_itself(self) -> None:
        w = self.world
        page = self.open("/")
        expect(page.get_by_role("link", name=re.compile("Anchor")).first).to_be_visible()
        w.kill("service", signal.SIGKILL)
        expect(page.get_by_text("The service does not answer since")).to_be_visible()
        w.start_service()
        expect(page.get_by_text("The service does not answer since")).to_be_hidden(timeout=20_000)
        eventually(lambda: all(m.reachable for m in w.machines()), "the tender is back")

    def test_no_page_is_wider_than_a_phone_and_every_view_has_an_address(self) -> None:
        for path in (
            "/",
            "/queue",
            "/library",
            "/library/parts",
            "/library/bin",
            "/records",
            "/machines/Anchor",
            "/no-such-page",
            "/machines/Nobody",
        ):
            with self.subTest(path=path):
                page = self.open(path, 390, 844)
                expect(page.get_by_role("heading").first).to_be_visible()
                expect(page.get_by_role("status", name="Loading")).to_have_count(0)
                self.assert_fits(page)
                page.context.close()

    def test_both_themes_are_kept(self) -> None:
        page = self.open("/")
        page.get_by_label("Signed in as Maud").click()
        page.get_by_role("menuitemradio", name="Dark").click()
        self.assertEqual(page.evaluate("document.documentElement.dataset.theme"), "dark")
        page.reload()
        expect(page.get_by_role("heading", level=1, name="Board")).to_be_visible()
        self.assertEqual(page.evaluate("document.documentElement.dataset.theme"), "dark")

    def test_the_board_is_walked_by_keyboard(self) -> None:
        page = self.open("/")
        link = page.get_by_role("link", name=re.compile("Anchor")).first
        expect(link).to_be_visible()
        for _ in range(40):
            page.keyboard.press("Tab")
            if link.evaluate("e => e === document.activeElement"):
                break
        page.keyboard.press("Enter")
        expect(page.get_by_role("heading", level=1, name="Anchor")).to_be_visible()
