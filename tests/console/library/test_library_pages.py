"""The library in a real browser: layers, edits, comparison, parts, choosing many, the bin, a build as it is laid."""

from __future__ import annotations

import re

from playwright.sync_api import Page, expect

from chronarch.client import requests
from chronarch.demo.library import stl
from chronarch.demo.shop import PARTS
from chronarch.wire import library as w
from tests.support.browser import ConsoleCase
from tests.support.gcode import squares, two_boxes, write


class LibraryPages(ConsoleCase):
    machines = ("Anchor",)

    def open_file(self, name: str, text: str) -> tuple[Page, w.File]:
        self.world.add_file(name, text)
        f = self.world.client.do(requests.file(name))
        return self.open(f"/library/files/{f.id}"), f

    def test_layers_are_scrubbed_played_coloured_and_walked_by_keyboard(self) -> None:
        page, _ = self.open_file("layers.gcode", two_boxes(layers=6))
        drawing = page.get_by_role("img", name="Layer 1 of 6 from above")
        expect(drawing).to_be_visible()
        expect(page.get_by_text("z 0.20 mm")).to_be_visible()
        page.get_by_label("Layer drawing").focus()
        for key, layer in (("ArrowUp", 2), ("End", 6), ("ArrowDown", 5), ("Home", 1), ("PageUp", 6)):
            page.keyboard.press(key)
            expect(page.get_by_role("img", name=f"Layer {layer} of 6 from above")).to_be_visible()
        self.assertIn("layer=6", page.url)
        page.keyboard.press("ArrowLeft")
        expect(page.get_by_text(re.compile(r"line \d+: \d+ mm/s"))).to_be_visible()
        legend = page.get_by_role("list", name="Legend")
        expect(legend).to_contain_text("wall")
        page.keyboard.press("p")
        expect(legend).to_contain_text("mm/s")
        page.keyboard.press("p")
        expect(legend).to_contain_text("mm³/s")
        page.keyboard.press("t")
        expect(legend).to_contain_text("travel")
        page.keyboard.press("Home")
        expect(drawing).to_be_visible()
        page.keyboard.press("Space")
        expect(page.get_by_role("button", name="Stop playing")).to_be_visible()
        expect(page.get_by_role("img", name=re.compile("Layer [2-6] of 6 from above"))).to_be_visible(timeout=60_000)

    def test_the_drawing_shows_what_is_laid_and_an_object_is_chosen_on_it(self) -> None:
        page, _ = self.open_file("objects.gcode", two_boxes(marked=True))
        canvas = page.get_by_role("img", name="Layer 1 of 4 from above")
        expect(canvas).to_be_visible()
        expect(page.get_by_role("list", name="Legend")).to_contain_text("wall")
        box = canvas.bounding_box()
        assert box is not None
        scale = min((box["width"] - 40) / 220, (box["height"] - 40) / 220)
        left, bottom = (box["width"] - 220 * scale) / 2, (box["height"] + 220 * scale) / 2
        tones = canvas.evaluate(
            "(c, at) => [...c.getContext('2d').getImageData(...at.map(v => v * devicePixelRatio), 1, 1).data]",
            [left + 90 * scale, bottom - 95 * scale],
        )
        self.assertNotEqual(tones[:3], [253, 251, 245], "a wall stands at x 90 mm")
        canvas.click(position={"x": left + 130 * scale, "y": bottom - 95 * scale})
        expect(page.get_by_role("button", name="box 2", pressed=True)).to_be_visible()
        page.get_by_role("button", name="Leave it out").click()
        dialog = page.get_by_role("dialog")
        dialog.get_by_role("button", name="Preview").click()
        expect(page.get_by_test_id("preview")).to_contain_text("Leave out box 2; 1 of 2 objects remain.")
        dialog.get_by_role("button", name="Make revision 2").click()
        expect(page.get_by_text("revision 2", exact=True)).to_be_visible()
        expect(page.get_by_text("1 object on the bed")).to_be_visible()
        page.get_by_role("link", name="Compare").click()
        expect(page.get_by_role("heading", name="Revision 1")).to_be_visible()
        expect(page.get_by_text("What changed")).to_be_visible()
        expect(page.get_by_test_id("viewer")).to_have_count(2)
        page.get_by_role("button", name="3", exact=True).click()
        for viewer in page.get_by_test_id("viewer").all():
            expect(viewer).to_contain_text("Layer 3 of 4")

    def test_edits_are_previewed_with_what_they_cost_and_refused_in_words(self) -> None:
        page, _ = self.open_file("edits.gcode", two_boxes())
        page.get_by_role("button", name="Edit…").click()
        dialog = page.get_by_role("dialog")
        kind = dialog.get_by_label("Edit", exact=True)
        dialog.get_by_label("Layer").fill("2")
        dialog.get_by_label("Speed, %").fill("50")
        dialog.get_by_role("button", name="Preview").click()
        expect(page.get_by_test_id("preview")).to_contain_text("From layer 2 on: speed 50 %.")
        kind.select_option("repeat")
        expect(page.get_by_test_id("preview")).to_be_hidden()
        dialog.get_by_label("How many in all").fill("99")
        dialog.get_by_role("button", name="Preview").click()
        expect(dialog.get_by_role("alert")).to_contain_text("fit on this bed")
        kind.select_option("lines")
        dialog.get_by_role("button", name="Fetch them").click()
        expect(dialog.get_by_label("Text")).to_have_value("; two boxes")
        kind.select_option("start-from")
        dialog.get_by_label("Layer").fill("3")
        dialog.get_by_role("button", name="Preview").click()
        expect(page.get_by_test_id("preview")).to_contain_text("Z is not homed")

    def test_a_refused_file_says_why_and_is_overruled(self) -> None:
        page, f = self.open_file("far.gcode", squares().replace("G28", "G28\nG0 X229 F6000"))
        expect(page.get_by_text("9.0 mm beyond 220 mm along x")).to_be_visible()
        page.get_by_role("button", name="Overrule…").click()
        page.get_by_label("Reason").fill("the clip is off")
        page.get_by_role("button", name="Overrule", exact=True).click()
        expect(page.get_by_text("by Maud: the clip is off")).to_be_visible()
        self.assertIn("Maud", self.world.client.do(requests.file(f.id)).reading.findings[0].overruled)

    def test_many_files_are_chosen_tagged_moved_and_binned(self) -> None:
        for n in (1, 2):
            self.world.add_file(f"many-{n}.gcode", squares(layers=n))
        page = self.open("/library?search=many")
        expect(page.get_by_role("row", name=re.compile("many-"))).to_have_count(2)
        page.get_by_label("Choose all").check()
        bar = page.get_by_role("toolbar", name="Chosen files")
        expect(bar).to_contain_text("2 chosen")
        bar.get_by_role("button", name="Tag").click()
        page.get_by_label("Tags to put on").fill("rush, small")
        page.get_by_role("dialog").get_by_role("button", name="Tag", exact=True).click()
        expect(page.get_by_role("row", name=re.compile("many-1.*rush.*small"))).to_be_visible()
        page.get_by_label("Choose many-1.gcode").check()
        bar.get_by_role("button", name="Bin").click()
        page.get_by_role("dialog").get_by_role("button", name="Put in the bin").click()
        expect(page.get_by_role("row", name=re.compile("many-"))).to_have_count(1)
        page.get_by_role("link", name="Bin").click()
        page.get_by_role("listitem").filter(has_text="many-1").get_by_role("button", name="Take out").click()
        expect(page.get_by_role("listitem").filter(has_text="many-1")).to_have_count(0)
        page.goto(f"{self.world.address}/library?search=many")
        expect(page.get_by_role("row", name=re.compile("many-"))).to_have_count(2)

    def test_a_folder_is_made_and_narrows_the_list(self) -> None:
        self.world.add_file("elsewhere.gcode", squares(layers=1))
        page = self.open("/library")
        page.get_by_role("button", name="New folder").click()
        page.get_by_label("Name").fill("looms")
        page.get_by_role("button", name="Make folder").click()
        page.get_by_role("navigation", name="Folders").get_by_role("button", name="looms").click()
        expect(page.get_by_text("Nothing fits")).to_be_visible()
        page.get_by_test_id("files").set_input_files([write(self.world.folder, "clip.gcode", squares())])
        expect(page.get_by_role("row", name=re.compile("clip.gcode.*looms"))).to_be_visible()

    def test_a_part_is_suggested_confirmed_given_its_model_and_queued(self) -> None:
        for name in ("mug-pla.gcode", "mug-petg.gcode"):
            self.world.add_file(name, f"; {name}\n" + squares())
        page = self.open("/library/parts")
        seen = page.get_by_role("listitem").filter(has_text="mug-pla.gcode")
        seen.get_by_role("button", name="Make it a part").click()
        page.get_by_role("link", name="mug", exact=True).click()
        expect(page.get_by_role("heading", level=1, name="mug")).to_be_visible()
        expect(page.get_by_role("link", name="mug-petg.gcode")).to_be_visible()
        model = self.world.folder / "mug.stl"
        model.write_bytes(stl(PARTS[0]))
        page.get_by_test_id("model").set_input_files(model)
        expect(page.get_by_text("38.0 mm").first).to_be_visible()
        page.get_by_role("button", name="Queue…").click()
        page.get_by_role("button", name="Queue 1 copy").click()
        expect(page.get_by_role("listitem").filter(has_text="mug")).to_contain_text("part")

    def test_a_running_build_is_followed_layer_by_layer(self) -> None:
        self.clear("Anchor")
        self.world.add_file("laying.gcode", squares(layers=20, rounds=60, feed=1200))
        job = self.world.submit("laying.gcode", machine="Anchor")
        page = self.open("/machines/Anchor")
        viewer = page.get_by_test_id("viewer")
        expect(viewer).to_contain_text(re.compile(r"Layer [2-9]\d* of 20"), timeout=20_000)
        phone = self.open("/machines/Anchor", 390, 844)
        expect(phone.get_by_test_id("viewer")).to_be_visible()
        self.assert_fits(phone)
        page.get_by_label("Next layer up").click()
        page.get_by_role("button", name="Follow the build").click()
        expect(page.get_by_role("button", name="Follow the build")).to_be_hidden()
        self.world.client.do(requests.stop(self.world.build_of(job).id))
        expect(viewer).to_be_visible()

    def test_a_file_is_renamed_noted_tagged_and_filed_away_in_one_dialog(self) -> None:
        page, f = self.open_file("about.gcode", squares())
        self.world.client.do(requests.add_folder("attic"))
        page.reload()
        page.get_by_role("button", name="Name, notes…").click()
        page.get_by_label("Name").fill("about-2.gcode")
        page.get_by_label("Folder").select_option("attic")
        page.get_by_label("Tags").fill("one, two")
        page.get_by_label("Notes").fill("first of its kind")
        page.get_by_role("button", name="Save").click()
        expect(page.get_by_role("heading", level=1, name="about-2.gcode")).to_be_visible()
        kept = self.world.client.do(requests.file(f.id))
        self.assertEqual((kept.folder, kept.tags, kept.notes), ("attic", ["one", "two"], "first of its kind"))
        self.world.add_file("taken.gcode", squares(layers=4))
        page.get_by_role("button", name="Name, notes…").click()
        page.get_by_label("Name").fill("taken.gcode")
        page.get_by_role("button", name="Save").click()
        expect(page.get_by_role("dialog").get_by_role("alert")).to_contain_text("choose another name")

    def test_an_earlier_revision_is_shown_compared_and_made_the_newest(self) -> None:
        page, f = self.open_file("turned.gcode", squares(layers=2))
        self.world.add_file("turned.gcode", squares(layers=5))
        page.reload()
        revisions = page.get_by_role("listitem")
        revisions.filter(has_text="added").get_by_role("link", name="Show").click()
        expect(page.get_by_text("This is an earlier content")).to_be_visible()
        expect(page.get_by_role("img", name="Layer 1 of 2 from above")).to_be_visible()
        expect(page.get_by_role("button", name="Edit…")).to_be_hidden()
        page.get_by_role("link", name="Show the newest").click()
        revisions.filter(has_text="added").get_by_role("button", name="Make newest").click()
        expect(page.get_by_text("revision 1 again")).to_be_visible()
        expect(page.get_by_role("img", name="Layer 1 of 2 from above")).to_be_visible()
        self.assertEqual(self.world.client.do(requests.file(f.id)).revision, 3)

    def test_a_job_is_pinned_to_its_revision_and_follows_the_newest_again(self) -> None:
        for layers in (1, 2):
            self.world.add_file("pinned.gcode", squares(layers=layers))
        self.world.submit("pinned.gcode", material="PETG")
        page = self.open("/queue")
        row = page.get_by_role("listitem").filter(has_text="pinned.gcode")
        row.get_by_role("button", name="Pin to revision 2").click()
        expect(row).to_contain_text("revision 2, pinned")
        row.get_by_role("button", name="Follow the newest").click()
        expect(row).to_contain_text("follows the newest")

    def test_drawings_and_files_are_taken_away(self) -> None:
        page, _ = self.open_file("taken-away.gcode", two_boxes())
        for name, magic in (("PNG", b"\x89PNG"), ("SVG", b"<svg"), ("Download", b"; two boxes")):
            with page.expect_download() as download:
                page.get_by_role("link", name=name).click()
            self.assertTrue(download.value.path().read_bytes().startswith(magic), name)

    def test_the_library_is_drawn_on_a_phone_and_in_the_dark(self) -> None:
        self.world.add_file("phone.gcode", two_boxes())
        f = self.world.client.do(requests.file("phone.gcode"))
        for path in (
            f"/library/files/{f.id}",
            "/library?search=phone",
            f"/library/files/{f.id}/compare",
            "/library/parts",
        ):
            page = self.open(path, 390, 844)
            expect(page.get_by_role("heading").first).to_be_visible()
            expect(page.get_by_role("status", name="Loading")).to_have_count(0)
            self.assert_fits(page)
        page = self.open(f"/library/files/{f.id}")
        canvas = page.get_by_role("img", name="Layer 1 of 4 from above")
        expect(canvas).to_be_visible()
        tone = "c => c.getContext('2d').getImageData(c.width / 2, c.height - 60, 1, 1).data[0]"
        light = canvas.evaluate(tone)
        page.evaluate("document.documentElement.dataset.theme = 'dark'")
        page.wait_for_function(f"() => ({tone})(document.querySelector('canvas')) !== {light}")

    def test_what_cannot_be_read_says_so(self) -> None:
        page = self.open("/library/files/99999")
        expect(page.get_by_role("alert")).to_contain_text("There is no file '99999'")
        page = self.open("/library/parts/nobody")
        expect(page.get_by_role("alert")).to_contain_text("There is no part 'nobody'")
        page, _ = self.open_file("once.gcode", squares(layers=1))
        page.goto(page.url.split("?")[0] + "/compare")
        expect(page.get_by_text("One revision only")).to_be_visible()
