"""Hands on in the console, in a real browser: adjust, move, leave out, change filament, the line log, the level map."""

from __future__ import annotations

import re

from playwright.sync_api import expect

from chronarch.client import requests
from chronarch.client import requests as calls
from chronarch.core.machines.states import MachineState
from tests.support.browser import ConsoleCase
from tests.support.gcode import two_boxes
from tests.support.world import eventually

LONG = two_boxes(layers=120)


class HandsPages(ConsoleCase):
    machines = ("Anchor", "Bezel")
    rate = 60.0

    @classmethod
    def prepare(cls) -> None:
        super().prepare()
        cls.world.add_file("boxes.gcode", LONG)

    def building(self, name: str) -> int:
        self.clear(name)
        build = self.world.build_of(self.world.submit("boxes.gcode", machine=name))
        self.world.until(name, MachineState.BUILDING)
        return build.id

    def test_values_are_typed_stepped_and_slid_and_show_as_set(self) -> None:
        w = self.world
        build = self.building("Anchor")
        page = self.open("/machines/Anchor")
        nozzle = page.get_by_label("Nozzle", exact=True)
        expect(nozzle).to_have_value("205")
        nozzle.fill("999")
        expect(page.get_by_text("0 to 275 °C")).to_be_visible()
        expect(page.get_by_role("button", name="Apply Nozzle")).to_be_disabled()
        nozzle.fill("212")
        page.get_by_label("Bed", exact=True).click()
        expect(nozzle).to_have_value("212"), "leaving the field drops nothing"
        page.get_by_role("button", name="Apply Nozzle").click()
        eventually(lambda: w.standin("Anchor")["nozzle_asked_c"] == 212, "the machine has it")
        page.get_by_label("Flow", exact=True).fill("90")
        page.keyboard.press("Enter")
        eventually(lambda: w.standin("Anchor")["flow_pct"] == 90, "the machine has it")
        page.get_by_role("button", name="Z offset: more").click()
        eventually(lambda: w.standin("Anchor")["z_offset_mm"] == 0.01, "the machine has it")
        page.get_by_label("Speed, slid").focus()
        page.keyboard.press("ArrowRight")
        eventually(lambda: w.standin("Anchor")["speed_pct"] == 105, "the machine has it")
        page.get_by_text("4 changes by hand in this build").click()
        expect(page.get_by_text("nozzle 212 °C", exact=True)).to_be_visible()
        w.client.do(requests.stop(build))

    def test_what_a_machine_asks_is_answered_on_its_page(self) -> None:
        w = self.world
        build = self.building("Anchor")
        page = self.open("/machines/Anchor")
        for dialect, title, button in (
            ("asking", "The machine asks", "Continue"),
            ("plain", "The machine waits for somebody", "Go on"),
        ):
            w.fault("Anchor", "dialect", text=dialect)
            w.fault("Anchor", "asks-for-hands")
            w.until("Anchor", MachineState.PAUSED)
            expect(page.get_by_role("heading", name=title)).to_be_visible()
            page.get_by_role("button", name=button, exact=True).click()
            w.until("Anchor", MachineState.BUILDING)
            expect(page.get_by_role("heading", name=title)).to_be_hidden()
        w.client.do(requests.stop(build))

    def test_a_pause_is_planned_and_an_object_left_out_and_laid_after_all(self) -> None:
        w = self.world
        build = self.building("Bezel")
        page = self.open("/machines/Bezel")
        page.get_by_role("button", name="More ways to pause").click()
        page.get_by_role("menuitem", name="Before a layer…").click()
        page.get_by_role("dialog").get_by_label("Layer").fill("110")
        page.get_by_role("button", name="Plan the pause").click()
        expect(page.get_by_text("pauses before layer 110")).to_be_visible()
        page.get_by_role("button", name="Do not pause before layer 110").click()
        expect(page.get_by_text("pauses before layer 110")).to_be_hidden()
        page.get_by_role("button", name="Pause", exact=True).click()
        expect(page.get_by_role("heading", level=1, name="Bezel")).to_contain_text("paused")
        page.get_by_role("button", name="Leave out…").click()
        page.get_by_label("box 2", exact=True).check()
        page.get_by_role("button", name="See what remains").click()
        expect(page.get_by_test_id("leave-out")).to_contain_text(re.compile(r"1 of 2 remain \(box 1\)"))
        page.get_by_role("button", name="Leave out box 2").click()
        expect(page.get_by_text(re.compile(r"box 2 is left out from layer \d+ on"))).to_be_visible()
        page.get_by_role("button", name="Lay it after all").click()
        expect(page.get_by_text(re.compile(r"box 2 is left out"))).to_be_hidden()
        self.assertEqual(w.client.do(requests.build(build)).skips, [])
        # drawn round on the bed: the whole of it, so nothing would remain
        page.get_by_role("button", name="Leave out…").click()
        page.get_by_role("button", name="Rectangle").click()
        page.get_by_test_id("viewer").scroll_into_view_if_needed()
        box = page.get_by_role("img", name=re.compile("^Layer ")).bounding_box()
        assert box is not None
        page.mouse.move(box["x"] + 5, box["y"] + 5)
        page.mouse.down()
        page.mouse.move(box["x"] + box["width"] - 5, box["y"] + box["height"] - 5, steps=5)
        page.mouse.up()
        expect(page.get_by_label("box 1", exact=True)).to_be_checked()
        expect(page.get_by_label("box 2", exact=True)).to_be_checked()
        page.get_by_role("button", name="See what remains").click()
        expect(page.get_by_role("alert").filter(has_text="Nothing would remain")).to_be_visible()
        w.client.do(requests.stop(build))

    def test_filament_is_changed_by_the_steps_on_the_page(self) -> None:
        build = self.building("Anchor")
        page = self.open("/machines/Anchor", 390, 844)
        page.get_by_role("button", name="More ways to pause").click()
        page.get_by_role("menuitem", name="To change filament").click()
        for step in ("Unload", "Load", "Purge"):
            page.get_by_role("button", name=step, exact=True).click()
            expect(page.get_by_role("button", name=f"{step} again")).to_be_visible(timeout=40_000)
        self.assert_fits(page)
        page.get_by_role("listitem").filter(has_text="Heat, position").get_by_role("button", name="Resume").click()
        expect(page.get_by_role("heading", name="Change of filament")).to_be_hidden()
        eventually(lambda: self.world.state("Anchor") is MachineState.BUILDING, "it goes on")
        self.world.client.do(requests.stop(build))

    def test_at_rest_the_head_is_homed_moved_and_heated_and_sequences_wait(self) -> None:
        w = self.world
        self.clear("Bezel")
        page = self.open("/machines/Bezel")
        expect(page.get_by_text("not homed")).to_be_visible()
        page.get_by_role("button", name="Home all axes").click()
        expect(page.get_by_text("x 0.0 · y 0.0 · z 0.0 mm")).to_be_visible()
        page.get_by_role("button", name="50", exact=True).first.click()
        page.get_by_role("button", name="Move right by 50 mm").click()
        expect(page.get_by_text("x 50.0 · y 0.0 · z 0.0 mm")).to_be_visible()
        page.get_by_role("button", name="PETG", exact=True).click()
        eventually(lambda: w.standin("Bezel")["nozzle_asked_c"] == 235, "the machine heats")
        page.get_by_role("button", name="All off").click()
        eventually(lambda: w.standin("Bezel")["nozzle_asked_c"] == 0, "the machine is off")

    def test_the_log_is_filtered_searched_held_and_a_line_sent_with_its_warning(self) -> None:
        self.clear("Bezel")
        page = self.open("/machines/Bezel/log")
        page.get_by_label("Line to send").fill("M117 tea at four")
        page.keyboard.press("Enter")
        lines = page.get_by_role("list", name="Lines")
        expect(lines).to_contain_text("M117 tea at four")
        expect(lines).not_to_contain_text("ok")
        page.get_by_label("acknowledged").check()
        expect(lines).to_contain_text("ok")
        page.reload()
        expect(lines).to_contain_text("M117 tea at four"), "it is still there"
        page.get_by_label("acknowledged").uncheck()
        page.get_by_label("Search the log").fill("tea at")
        expect(lines.get_by_role("listitem")).to_have_count(1)
        page.get_by_label("Search the log").fill("coffee")
        expect(page.get_by_text("No line holds that")).to_be_visible()
        page.get_by_label("Search the log").fill("")
        page.get_by_role("button", name="Hold").click()
        expect(page.get_by_role("button", name="Follow")).to_be_visible()
        page.get_by_label("Line to send").fill("M500")
        page.get_by_role("button", name="Send").click()
        expect(page.get_by_role("dialog")).to_contain_text("writes settings to the machine's memory")
        page.get_by_role("button", name="Cancel").click()
        page.get_by_label("Line to send").fill("N5 G28")
        page.get_by_role("button", name="Send").click()
        expect(page.get_by_role("alert")).to_contain_text("belong to the feeding")

    def test_the_level_of_the_bed_is_measured_and_drawn(self) -> None:
        self.clear("Bezel")
        page = self.open("/machines/Bezel/level")
        expect(page.get_by_text("No level map yet")).to_be_visible()
        page.get_by_role("button", name="Measure anew").click()
        table = page.get_by_role("table", name=re.compile("Heights of the bed"))
        expect(table.get_by_role("cell")).to_have_count(25)
        rows = self.world.client.do(calls.level_maps("Bezel"))[0].rows
        expect(table.get_by_role("cell").nth(20)).to_have_text(
            f"{rows[0][0]:+.3f}" if rows[0][0] > 0 else f"{rows[0][0]:.3f}"
        )
        expect(page.get_by_text("Lowest to highest", exact=True)).to_be_visible()
        page.get_by_role("button", name="Measure anew").click()
        page.get_by_label(re.compile("what moved since")).check()
        moved = page.get_by_role("table", name=re.compile("How far the bed moved"))
        before, now = (one.rows[0][0] for one in reversed(self.world.client.do(calls.level_maps("Bezel"))[:2]))
        expect(moved.get_by_role("cell").nth(20)).to_have_text(f"{now - before:+.3f}".replace("+0.000", "0.000"))

    def test_an_emergency_stop_takes_two_presses(self) -> None:
        self.building("Bezel")
        page = self.open("/machines/Bezel")
        stop = page.get_by_role("button", name="Emergency stop")
        stop.click()
        expect(page.get_by_role("button", name="Press again to halt")).to_be_visible()
        expect(stop).to_be_visible()
        self.assertEqual(self.world.standin("Bezel")["halted"], "")
        stop.dblclick()
        expect(page.get_by_role("heading", level=1, name="Bezel")).to_contain_text("down")
        self.assertEqual(self.world.standin("Bezel")["halted"], "emergency stop")
