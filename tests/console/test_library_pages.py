"""The library in a real browser: layers, edits, comparison, parts, choosing many, the bin, a build as it is laid."""

from __future__ import annotations

import re

from playwright.sync_api import Page, expect

from chronarch.client import library, requests
from chronarch.demo.library import stl
from chronarch.demo.shop import PARTS
from chronarch.wire import library as w
from tests.support.browser import ConsoleCase
from tests.support.gcode import squares, two_boxes, write


class LibraryPages(ConsoleCase):
    machines = ("Anchor",)

    def open_file(self, name: str, text: str) -> tuple[Page, w.File]:
        self.world.add_file(name, text)
        f = self.world.client.do(library.file(name))
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
        page.keyboard.press("Space")
        expect(page.get_by_role("img", name="Layer 2 of 6 from above")).to_be_visible(timeout=15_000)

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
        self.assertIn("Maud", self.world.client.do(library.file(f.id)).reading.findings[0].overruled)

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
        expect(page.get_by_role("heading", name="mug")).to_be_visible()
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
        self.assertLessEqual(phone.evaluate("document.documentElement.scrollWidth"), 390)
        page.get_by_label("Next layer up").click()
        page.get_by_role("button", name="Follow the build").click()
        expect(page.get_by_role("button", name="Follow the build")).to_be_hidden()
        self.world.client.do(requests.stop(self.world.build_of(job).id))
        expect(viewer).to_be_visible()
