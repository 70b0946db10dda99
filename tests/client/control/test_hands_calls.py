"""The calls of hands as values, and what they refuse to send."""

from __future__ import annotations

import json
import unittest
from typing import Any

from pydantic import ValidationError

from chronarch.client import requests as c
from chronarch.client.requests import Call
from chronarch.core.control import actions as h
from chronarch.core.gcode.plan import Mark, TimePlan
from chronarch.wire.control import actions as w
from chronarch.wire.control.commands import Act, Skip
from chronarch.wire.control.upstream import Command, to_tender
from chronarch.wire.gcode import WirePlan

CALLS: tuple[tuple[Call[Any], str, str, dict[str, str]], ...] = (
    (c.act("Anchor", h.Home()), "POST", "/api/machines/Anchor/do", {}),
    (c.line_log("Anchor"), "GET", "/api/machines/Anchor/log", {"after": "0", "limit": "500", "search": ""}),
    (
        c.line_log("Anchor", 7, 20, "T:"),
        "GET",
        "/api/machines/Anchor/log",
        {"after": "7", "limit": "20", "search": "T:"},
    ),
    (c.level_maps("Anchor", 3), "GET", "/api/machines/Anchor/level-maps", {"limit": "3"}),
    (c.pause_before(4, 0), "PUT", "/api/builds/4/pauses/0", {}),
    (c.no_pause_before(4, 9), "DELETE", "/api/builds/4/pauses/9", {}),
    (c.filament_change(4, "it ran out"), "POST", "/api/builds/4/filament-change", {}),
    (c.preview_skip(4, ["cup"]), "POST", "/api/builds/4/skip/preview", {}),
    (c.skip(4, ["cup"]), "POST", "/api/builds/4/skip", {}),
    (c.undo_skip(4, "cup 1/2?"), "DELETE", "/api/builds/4/skip/cup%201%2F2%3F", {}),
    (c.build_changes(4), "GET", "/api/builds/4/changes", {}),
    (c.build_log(4), "GET", "/api/builds/4/log", {}),
)
ACTIONS: tuple[h.Action, ...] = (
    h.Home("xy"),
    h.Move(x=-5, z=0.1),
    h.Feed(-12.5),
    h.Adjust(nozzle_c=0, fan_pct=40, z_offset_mm=-0.02),
    h.Preset("PETG"),
    h.Switch("light", False),
    h.MotorsOff(),
    h.RunSequence("wipe", {"reach": 12.5}),
    h.Filament("purge"),
    h.SendLine("M500", sure=True),
    h.MeasureBed(measure=True),
    h.ReadSettings(),
    h.AnswerPrompt(1),
)


class Calls(unittest.TestCase):
    def test_each_call_says_what_it_asks(self) -> None:
        for call, method, path, params in CALLS:
            with self.subTest(path=path):
                self.assertEqual((call.method, call.path, call.params), (method, path, params))

    def test_every_action_crosses_both_wires_and_comes_back_the_same(self) -> None:
        self.assertEqual({type(action) for action in ACTIONS}, set(h.ALLOWED), "none is left out")
        for action in ACTIONS:
            with self.subTest(action=action):
                sent = c.act("Anchor", action).arguments()["content"]
                self.assertEqual(w.action.validate_json(sent), action)
                command = Command(id="1", machine="Anchor", body=Act(action=action), by="Maud")
                back = to_tender.validate_json(command.model_dump_json())
                assert isinstance(back, Command)
                self.assertEqual(back.body, Act(action=action))

    def test_an_adjustment_sends_what_was_set_and_nothing_else(self) -> None:
        sent = json.loads(c.act("Anchor", h.Adjust(bed_c=0)).arguments()["content"])
        self.assertEqual(sent, {"kind": "adjust", "bed_c": 0}, "0 is a value: the heater is turned off")

    def test_what_is_no_action_is_refused_before_anything_is_sent(self) -> None:
        for wrong, words in {
            '{"kind": "dance"}': "kind",
            '{"kind": "move", "x": 1, "w": 2}': "w",
            '{"kind": "feed"}': "mm",
            '{"kind": "feed", "mm": "much"}': "mm",
            '{"kind": "feed", "mm": NaN}': "finite",
            '{"kind": "adjust", "nozzle_c": Infinity}': "finite",
            '{"kind": "filament", "step": "knot"}': "step",
            '{"nozzle_c": 200}': "kind",
        }.items():
            with self.subTest(wrong=wrong), self.assertRaisesRegex(ValidationError, words):
                w.action.validate_json(wrong)
        with self.assertRaisesRegex(ValidationError, "at least 1"):
            c.skip(4, [])

    def test_a_wish_to_leave_out_carries_the_plan_of_what_remains(self) -> None:
        plan = WirePlan.of(TimePlan((Mark(0, 0.0, 0.0), Mark(10, 60.0, 5.0)), (2, 6)))
        wish = Skip(build=4, sha256="a" * 64, plan=plan, from_command=6, text="left out cup from layer 2 on")
        command = Command(id="1", machine="A", body=wish)
        back = to_tender.validate_json(command.model_dump_json())
        assert isinstance(back, Command) and isinstance(back.body, Skip)
        self.assertEqual(back, command)
        self.assertEqual(back.body.plan.core(), plan.core())


if __name__ == "__main__":
    unittest.main()
