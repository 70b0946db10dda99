"""What crosses a process boundary comes out as it went in, and nonsense does not get through."""

from __future__ import annotations

import unittest
from datetime import UTC, datetime, timedelta, timezone

from hypothesis import given
from hypothesis import strategies as st
from pydantic import TypeAdapter, ValidationError

from chronarch.core.control.events import BuildBegan, BuildEnded, BuildPaused, BuildResumed, Noticed, StateChanged
from chronarch.core.gcode.plan import Mark, TimePlan
from chronarch.core.machines.model import MachineModel
from chronarch.core.machines.states import MachineState, Outcome
from chronarch.core.machines.tools import Tool
from chronarch.wire.control.commands import Pause
from chronarch.wire.control.upstream import Command, Event, Hello, Sample, from_tender, to_tender
from chronarch.wire.gcode import WirePlan
from chronarch.wire.machines.machine import NewMachine
from chronarch.wire.machines.model import machine_model
from chronarch.wire.orders.builds import Clearing
from chronarch.wire.orders.jobs import NewJob

NINE = datetime(2026, 10, 19, 9, tzinfo=UTC)
BODIES = (
    StateChanged(MachineState.PAUSED, "filament ran out", 7),
    BuildBegan(7),
    BuildPaused(7, "filament ran out", True),
    BuildResumed(7),
    BuildEnded(7, Outcome.FAILED, "the machine restarted itself", 120, 60.5, 812.25),
    Noticed("odd noise", None),
)


read_tool: TypeAdapter[Tool] = TypeAdapter(Tool)


class Messages(unittest.TestCase):
    def test_every_happening_goes_over_the_wire_and_comes_back(self) -> None:
        for body in BODIES:
            with self.subTest(kind=body.kind):
                event = Event(sequence=3, machine="Anchor", at=NINE, body=body)
                back = from_tender.validate_json(event.model_dump_json())
                self.assertEqual(back, event)
                assert isinstance(back, Event)
                self.assertEqual(back.body, body)

    def test_messages_are_told_apart_by_their_kind(self) -> None:
        self.assertIsInstance(from_tender.validate_json('{"kind":"hello","tender":"t","epoch":"e"}'), Hello)
        sample = Sample(machine="Anchor", state=MachineState.IDLE, connected=True)
        self.assertEqual(from_tender.validate_json(sample.model_dump_json()), sample)
        command = Command(id="1", machine="Anchor", body=Pause(build=7))
        self.assertEqual(to_tender.validate_json(command.model_dump_json()), command)

    def test_nonsense_does_not_get_through(self) -> None:
        for text in (
            "",
            "[]",
            '{"kind":"dance"}',
            '{"kind":"event","sequence":"x"}',
            '{"kind":"event","sequence":1,"machine":"A","at":"noon","body":{"kind":"began","build":1}}',
            '{"kind":"event","sequence":1,"machine":"A","at":"2026-10-19T09:00:00Z","body":{"kind":"vanished"}}',
            '{"kind":"hello","tender":"t","epoch":"e","more":1}',
        ):
            with self.subTest(text=text), self.assertRaises(ValidationError):
                from_tender.validate_json(text)
        with self.assertRaises(ValidationError):
            to_tender.validate_json('{"kind":"command","id":"1","machine":"A","body":{"kind":"explode"}}')

    def test_times_are_one_instant_whatever_zone_they_come_in(self) -> None:
        east = timezone(timedelta(hours=9))
        body = BuildBegan(1)
        here = Event(sequence=1, machine="A", at=NINE, body=body)
        there = Event(sequence=1, machine="A", at=NINE.astimezone(east), body=body)
        naive = Event(sequence=1, machine="A", at=NINE.replace(tzinfo=None), body=body)
        self.assertEqual({here.at, there.at, naive.at}, {NINE})
        self.assertEqual(there.at.utcoffset(), timedelta(0))

    @given(st.lists(st.tuples(st.integers(1, 50), st.floats(0, 100), st.floats(0, 10)), max_size=30), st.data())
    def test_a_time_plan_means_the_same_on_the_other_side(
        self, steps: list[tuple[int, float, float]], data: st.DataObject
    ) -> None:
        marks = [Mark(0, 0.0, 0.0)]
        for commands, seconds, mm in steps:
            last = marks[-1]
            marks.append(Mark(last.command + commands, last.planned_s + seconds, last.filament_mm + mm))
        plan = TimePlan(tuple(marks), (0, 3))
        back = WirePlan.model_validate_json(WirePlan.of(plan).model_dump_json()).core()
        at = data.draw(st.integers(0, plan.commands + 5))
        self.assertEqual(back.at(at), plan.at(at))
        self.assertEqual(back.layer_at(at), plan.layer_at(at))


class Orders(unittest.TestCase):
    def test_what_makes_no_sense_is_refused_by_its_model(self) -> None:
        bad = (
            lambda: NewJob(file="x", copies=0),
            lambda: NewJob.model_validate({"file": "x", "colours": ["teal"]}),
            lambda: read_tool.validate_python({"nozzle_mm": float("nan")}),
            lambda: read_tool.validate_python({"nozzle_mm": 40}),
            lambda: read_tool.validate_python({"number": -1}),
            lambda: read_tool.validate_python({"material": "PLA\n"}),
            lambda: machine_model.validate_python({"name": "m", "volume_mm": (0, 1, 1)}),
            lambda: machine_model.validate_python({"name": ""}),
            lambda: machine_model.validate_python({"name": "m", "volume": 3}),
            lambda: NewMachine(name="a/b", model="m", link="tcp://h:1"),
            lambda: NewMachine(name="Anchor", model="m", link="http://h:1"),
            lambda: NewMachine(name="Anchor", model="m", link="tcp://h:1", tools=[]),
            lambda: Clearing(verdict="scrap", reason="   "),  # type: ignore[arg-type]
        )
        for n, make in enumerate(bad):
            with self.subTest(n=n), self.assertRaises(ValidationError):
                make()

    def test_a_models_figures_reach_the_core(self) -> None:
        core = MachineModel(name="Lantern 220", volume_mm=(1, 2, 3), release_c=35)
        self.assertEqual((core.name, core.volume_mm, core.release_c), ("Lantern 220", (1, 2, 3), 35))
