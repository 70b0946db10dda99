"""Hands on, over HTTP through the client: actions at rest and in mid-build, rights, logs, level maps, leaving out."""

from __future__ import annotations

import io
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from typing import Any

import httpx
from PIL import Image, ImageChops

from chronarch.client import Client, RefusedByService, requests
from chronarch.client import requests as calls
from chronarch.core.control import actions as h
from chronarch.core.machines.model import MachineModel, OwnSequence, Parameter, SwitchLines
from chronarch.core.machines.states import MachineState, Outcome
from chronarch.core.orders.states import Verdict
from chronarch.wire.ledger.history import BuildSearch
from chronarch.wire.machines.machine import NewMachine
from chronarch.wire.orders.builds import Build
from tests.support.gcode import commands, squares, two_boxes
from tests.support.world import MODEL, WorldCase, eventually

LONG = squares(layers=30, rounds=20, side=50, feed=3000)
BOXES = two_boxes(layers=40)


class HandsCase(WorldCase):
    machines = ("Anchor", "Bezel")
    stored = ("Pallet",)
    rate = 60.0

    @classmethod
    def prepare(cls) -> None:
        super().prepare()
        w = cls.world
        w.client.do(
            requests.change_model(
                MachineModel(
                    name=MODEL, cold_extrusion_c=0, idle_off_s=0,
                    switches=(
                        SwitchLines(name="light", on="M355 S1", off="M355 S0"),
                        SwitchLines(name="beacon", on="M42 P6 S255", off="M42 P6 S0"),
                    ),
                    hands_light="beacon",
                    sequences=(
                        OwnSequence(name="wipe", lines="G28\nG1 X{reach} F3000",
                                       parameters=(Parameter(name="reach", least=5, most=50, usual=20, unit="mm"),)),
                        OwnSequence(name="deep", lines="M303 E0 S200", guarded=True, clear_bed=False),
                    ),
                )
            )
        )  # fmt: skip
        w.add_file("long.gcode", LONG)
        w.add_file("says.gcode", LONG.replace("\nG1 X", "\nM117 Second half\nG1 X", 1))
        w.add_file("boxes.gcode", BOXES)

    def do(self, name: str, action: h.Action) -> list[str]:
        outcome = self.world.client.do(calls.act(name, action), 60)
        return outcome.said

    def refused(self, words: str, *call: Any, client: Client | None = None) -> int:
        with self.assertRaises(RefusedByService) as caught:
            (client or self.world.client).do(*call)
        self.assertIn(words, str(caught.exception))
        return caught.exception.problem.status

    def building(self, name: str, file: str = "long.gcode", at_least: int = 60) -> Build:
        self.clear(name)
        build = self.world.build_of(self.world.submit(file, machine=name))
        self.world.until(name, MachineState.BUILDING)
        self.world.taken(name, at_least)
        return build


class AtTheMachine(HandsCase):
    def shows(self, name: str, words: str, *, lit: bool) -> None:
        """Wait until its display says so, and its beacon is on or off."""

        def look() -> bool:
            standin = self.world.standin(name)
            return bool(standin["display"] == words and standin["switched"].get("M42") == f"M42 P6 S{255 * lit}")

        eventually(look, f"{name} shows {words!r}, {'lit' if lit else 'dark'}")

    def test_what_hands_must_do_next_is_shown_by_the_machine_until_it_is_done(self) -> None:
        for name in ("Anchor", "Pallet"):
            with self.subTest(name=name):
                build = self.building(name, "says.gcode")
                self.world.client.do(requests.pause(build.id, "a look"))
                self.shows(name, "Paused: a look", lit=True)
                self.world.client.do(requests.resume(build.id))
                self.shows(name, "Second half", lit=False)
                self.world.client.do(requests.stop(build.id, "enough"))
                self.shows(name, "Lift off the part", lit=True)
                self.clear(name)
                self.shows(name, "Ready", lit=False)


class AtRest(HandsCase):
    def test_both_kinds_of_machine_are_homed_moved_heated_and_switched(self) -> None:
        w = self.world
        for name in ("Anchor", "Pallet"):
            with self.subTest(name=name):
                self.clear(name)
                self.do(name, h.Home())
                self.do(name, h.Move(x=40, y=30, z=5))
                self.assertEqual(w.standin(name)["position_mm"], [40, 30, 5])
                eventually(lambda: w.machine(name).hands.position_mm == (40, 30, 5), "the service knows where it is")  # noqa: B023
                self.do(name, h.Adjust(nozzle_c=60))
                self.assertEqual(w.standin(name)["nozzle_asked_c"], 60)
                self.do(name, h.Feed(5))
                self.do(name, h.Switch("light", True))
                self.assertEqual(w.standin(name)["switched"]["M355"], "M355 S1")
                self.do(name, h.Preset("PLA"))
                standin = w.standin(name)
                self.assertEqual((standin["nozzle_asked_c"], standin["bed_asked_c"]), (205, 60))
                self.do(name, h.Preset(""))
                self.assertEqual(w.standin(name)["nozzle_asked_c"], 0)
                self.do(name, h.RunSequence("wipe", {"reach": 30}))
                self.assertEqual(w.standin(name)["position_mm"][0], 30)
                self.do(name, h.MotorsOff())

    def test_what_cannot_be_is_refused_before_it_reaches_the_machine(self) -> None:
        self.clear("Anchor")
        self.assertEqual(self.refused("0 to 275 °C", calls.act("Anchor", h.Adjust(nozzle_c=500))), 422)
        self.assertEqual(self.refused("no switch 'horn'", calls.act("Anchor", h.Switch("horn", True))), 422)
        self.assertEqual(self.refused("unless a build is paused", calls.act("Anchor", h.Filament("load"))), 422)
        answer = httpx.post(
            f"{self.world.address}/api/machines/Anchor/do",
            headers={"Authorization": f"Bearer {self.world.key}"},
            json={"kind": "move", "x": 1, "w": 2},
        )
        self.assertEqual(answer.status_code, 422)
        self.assertIn("w", answer.json()["detail"])

    def test_lines_and_guarded_sequences_need_a_right_of_their_own(self) -> None:
        self.clear("Anchor")
        with Client(self.world.address, self.world.operate_key) as operator:
            for action in (h.SendLine("M115"), h.RunSequence("deep", {})):
                self.assertEqual(
                    self.refused("the right to send lines", calls.act("Anchor", action), client=operator), 403
                )
            operator.do(calls.act("Anchor", h.RunSequence("wipe", {})), 60)
            self.assertEqual(
                self.refused("the right to manage people", requests.make_key("x", "manager"), client=operator), 403
            )  # type: ignore[arg-type]
        said = self.do("Anchor", h.SendLine("M115"))
        self.assertTrue(said[0].startswith("FIRMWARE_NAME:stand-in"), said)
        self.do("Anchor", h.RunSequence("deep", {}))

    def test_the_bed_is_measured_and_its_maps_are_kept(self) -> None:
        w = self.world
        for name in ("Anchor", "Pallet"):
            self.clear(name)
            self.assertEqual(w.client.do(calls.level_maps(name)), [])
            self.do(name, h.MeasureBed(measure=True))
            self.do(name, h.MeasureBed(measure=True))
            maps = eventually(lambda: len(m := w.client.do(calls.level_maps(name))) == 2 and m, "both are kept")  # noqa: B023
            self.assertEqual([len(row) for row in maps[0].rows], [5] * 5)
            self.assertTrue(0 < maps[0].range_mm < 1)
            self.assertGreater(maps[0].at, maps[1].at)

    def test_what_was_said_is_in_the_log_and_survives_whoever_reads_it(self) -> None:
        self.clear("Anchor")
        self.do("Anchor", h.SendLine("M117 a line to find"))
        found = self.world.client.do(calls.line_log("Anchor", search="a line to find"))
        self.assertEqual((found[0].kind, found[0].sent), ("own", True))
        self.assertEqual(len(found), 1, "it was sent once")
        later = self.world.client.do(calls.line_log("Anchor", after=found[0].number))
        self.assertTrue(all(line.number > found[0].number for line in later))

    def test_the_contact_tells_what_the_machine_is(self) -> None:
        w = self.world
        eventually(lambda: w.machine("Anchor").hands.contact.firmware == "stand-in 4.2", "it said so at first contact")
        self.assertTrue(eventually(lambda: w.machine("Anchor").hands.watchdog, "it has a watchdog"))
        self.assertFalse(w.machine("Anchor").hands.runs_file)
        self.assertTrue(eventually(lambda: w.machine("Pallet").hands.runs_file, "it runs files itself"))

    def test_a_device_has_one_link_and_secrets_stay_secret(self) -> None:
        w = self.world
        order = NewMachine(name="Copycat", model=MODEL, link=f"tcp://127.0.0.1:{w.ports['Anchor']}")
        self.assertEqual(self.refused("is Anchor's link already", requests.add_machine(order)), 409)
        assert w.broker is not None
        self.assertNotIn(w.broker.password, w.machine("Pallet").link)
        self.assertEqual(w.machine("Pallet").link, f"mqtt://shop:…@127.0.0.1:{w.broker.port}/Pallet")


class WhileBuilding(HandsCase):
    def test_adjustments_are_set_at_the_machine_and_kept_in_the_record(self) -> None:
        w = self.world
        for name in ("Anchor", "Pallet"):
            with self.subTest(name=name):
                build = self.building(name)
                self.do(name, h.Adjust(nozzle_c=70, speed_pct=150, flow_pct=95, fan_pct=50, z_offset_mm=0.05))
                standin = w.standin(name)
                self.assertEqual(
                    [standin[k] for k in ("nozzle_asked_c", "speed_pct", "flow_pct", "fan", "z_offset_mm")],
                    [70, 150, 95, 128, 0.05],
                )
                shown = eventually(
                    lambda: (s := w.machine(name).hands.settings).z_offset_mm and s,  # noqa: B023
                    "it is shown as set",
                )
                self.assertEqual((shown.speed_pct, shown.fan_pct), (150, 50))
                self.assertEqual(self.refused("while a build runs", calls.act(name, h.Home())), 422)
                changes = w.client.do(calls.build_changes(build.id))
                self.assertEqual([c.by for c in changes], ["tests (key 1)"])
                self.assertIn("z offset +0.050 mm", changes[0].text)
                w.client.do(requests.stop(build.id))
                w.until(name, MachineState.UNCLEARED)
                eventually(lambda: w.standin(name)["speed_pct"] == 100, "what was set is taken back")  # noqa: B023

    def test_a_planned_pause_comes_before_its_layer(self) -> None:
        w = self.world
        build = self.building("Anchor")
        layer = (w.machine("Anchor").build or self.fail()).layer + 2  # type: ignore[func-returns-value]
        w.client.do(calls.pause_before(build.id, layer))
        w.client.do(calls.pause_before(build.id, layer + 5))
        eventually(lambda: w.machine("Anchor").hands.pauses_before == [layer, layer + 5], "both are shown")
        w.client.do(calls.no_pause_before(build.id, layer + 5))
        self.assertEqual(self.refused("has begun already", calls.pause_before(build.id, 1)), 409)
        paused = w.until("Anchor", MachineState.PAUSED)
        self.assertEqual(paused.reason, f"asked for before layer {layer}")
        stopped = BuildSearch(stop_reason=paused.reason)
        self.assertEqual([one.id for one in w.client.do(requests.history(stopped))], [build.id])
        self.assertEqual((paused.build or self.fail()).layer, layer - 1)  # type: ignore[func-returns-value]

    def test_filament_is_changed_step_by_step_and_the_build_goes_on(self) -> None:
        w = self.world
        build = self.building("Bezel")
        w.client.do(calls.filament_change(build.id, "teal ran low"))
        w.until("Bezel", MachineState.PAUSED)
        eventually(lambda: w.machine("Bezel").hands.moment == "paused", "the head is parked")
        for step in ("unload", "load", "purge"):
            self.do("Bezel", h.Filament(step))  # type: ignore[arg-type]
            eventually(lambda: w.machine("Bezel").hands.change == step, f"{step} is done")  # noqa: B023
        w.client.do(requests.resume(build.id))
        taken = w.standin("Bezel")["taken"]
        w.taken("Bezel", taken + 20)
        texts = [c.text for c in w.client.do(calls.build_changes(build.id))]
        self.assertEqual(texts, ["filament: unload", "filament: load", "filament: purge"])

    def test_an_emergency_stop_halts_the_machine_and_its_whole_log_can_be_had(self) -> None:
        w = self.world
        build = self.building("Bezel")
        w.client.do(requests.emergency_stop("Bezel"))
        eventually(lambda: w.standin("Bezel")["halted"] == "emergency stop", "the machine has it")
        self.assertIs(w.client.do(requests.build(build.id)).outcome, Outcome.STOPPED)
        eventually(lambda: w.client.do(requests.build(build.id)).has_log, "the tender hands the log over")
        log = w.client.do(calls.build_log(build.id)).decode()
        sent = [line.split(" > ")[1].split("*")[0].split(" ", 1)[1] for line in log.splitlines() if " > N" in line]
        of_file = [c for c in sent if c in commands(LONG)]
        self.assertEqual(of_file[:50], commands(LONG)[:50])
        self.assertIn(" < ok", log)
        self.assertEqual(self.refused("is not here", calls.build_log(99_999)), 404)


class LeavingOut(HandsCase):
    def picture(self, name: str) -> Image.Image:
        return Image.open(io.BytesIO(self.world.http.get(f"/machines/{name}/picture.png").content))

    def ink(self, picture: Image.Image, left: int, right: int) -> int:
        """Pixels laid between two x (mm); a pixel is a quarter of a mm."""
        part = picture.crop((left * 4, 0, right * 4, picture.height))
        return sum(part.histogram()[1:])

    def test_an_object_is_left_out_from_the_next_layer_and_the_other_is_unharmed(self) -> None:
        w = self.world
        build = self.building("Anchor", "boxes.gcode", at_least=120)
        plan = w.client.do(calls.preview_skip(build.id, ["box 2"]))
        self.assertEqual((plan.remaining, plan.layers), (["box 1"], 40))
        self.assertGreater(plan.saved_s, 0)
        self.assertEqual(w.client.do(requests.build(build.id)).skips, [], "a preview changes nothing")
        done = w.client.do(calls.skip(build.id, ["box 2"]))
        left_out = w.client.do(requests.build(build.id))
        self.assertEqual([(s.object, s.from_layer) for s in left_out.skips], [("box 2", done.from_layer)])
        self.assertEqual(left_out.fed_sha256, done.sha256)
        self.assertEqual(self.refused("Nothing would remain", calls.skip(build.id, ["box 1"])), 409)
        self.assertEqual(self.refused("no object 'mug'", calls.skip(build.id, ["mug"])), 422)
        self.do("Anchor", h.Adjust(speed_pct=300))
        w.until("Anchor", MachineState.UNCLEARED, 90)
        executed = w.http.get("/machines/Anchor/executed").text.splitlines()
        self.assertLess(len(executed), len(commands(BOXES)))
        shown = self.picture("Anchor")
        ended = w.client.do(requests.build(build.id))
        self.assertIs(ended.outcome, Outcome.COMPLETED)
        self.assertEqual(ended.acknowledged, len(executed))
        self.assertTrue(all(f"Z{0.2 * n:.2f}" in " ".join(executed) for n in (1, 20, 40)), "every layer was laid")
        # the same without leaving out: the first box must look alike, to the pixel
        w.client.do(requests.verdict(build.id, Verdict.GOOD))
        whole = w.build_of(w.submit("boxes.gcode", machine="Anchor"))
        w.until("Anchor", MachineState.BUILDING)
        self.do("Anchor", h.Adjust(speed_pct=300))
        w.until("Anchor", MachineState.UNCLEARED, 90)
        self.assertIs(w.client.do(requests.build(whole.id)).outcome, Outcome.COMPLETED)
        box = (58 * 4, 0, 92 * 4, shown.height)
        self.assertIsNone(ImageChops.difference(shown.crop(box), self.picture("Anchor").crop(box)).getbbox())
        later = [line for line in executed if line.startswith("G1 X1") and " E" in line]
        self.assertLess(len(later), sum(c.startswith("G1 X1") and " E" in c for c in commands(BOXES)))

    def test_it_can_be_undone_until_its_layer_begins_and_not_after(self) -> None:
        w = self.world
        build = self.building("Bezel", "boxes.gcode", at_least=60)
        w.client.do(requests.pause(build.id))
        w.client.do(calls.skip(build.id, ["box 1"]))
        back = w.client.do(calls.undo_skip(build.id, "box 1"))
        self.assertEqual((back.skips, back.fed_sha256), ([], back.sha256))
        done = w.client.do(calls.skip(build.id, ["box 1"]))
        eventually(lambda: w.machine("Bezel").hands.moment == "paused", "the head is parked")
        w.client.do(requests.resume(build.id))
        eventually(lambda: (w.machine("Bezel").build or self.fail()).layer > done.from_layer, "its layer has begun", 60)  # type: ignore[func-returns-value]
        self.assertEqual(self.refused("has begun", calls.undo_skip(build.id, "box 1")), 409)
        texts = [c.text for c in w.client.do(calls.build_changes(build.id))]
        self.assertIn("box 1 is laid after all", texts)

    def test_what_two_leave_out_at_once_does_not_undo_one_another(self) -> None:
        build = self.building("Anchor", "boxes.gcode")
        self.world.client.do(requests.pause(build.id))

        def leave(name: str) -> str:
            with suppress(RefusedByService):
                return self.world.client.do(calls.skip(build.id, [name])).objects[0]
            return ""

        with ThreadPoolExecutor(2) as people:
            left = [name for name in people.map(leave, ("box 1", "box 2")) if name]
        self.assertEqual(len(left), 1, "something must remain")
        self.assertEqual([s.object for s in self.world.client.do(requests.build(build.id)).skips], left)

    def test_a_machine_that_runs_the_file_itself_says_that_it_cannot(self) -> None:
        build = self.building("Pallet", "boxes.gcode", at_least=30)
        self.assertEqual(self.refused("runs the whole file itself", calls.skip(build.id, ["box 2"])), 409)
