"""What a machine says besides its answers: greetings that are no restart, heat as the only sign of life, last words,
and what it asks of a person."""

from __future__ import annotations

import unittest

from chronarch.core.control.actions import AnswerPrompt
from chronarch.core.control.events import BuildEnded, BuildPaused, BuildResumed, Noticed
from chronarch.core.control.line_protocol import CommandSequence, LineProtocol
from chronarch.core.control.protocol_events import OutOfStep, Overdue, Silent
from chronarch.core.machines.states import MachineState, Outcome, WrongState
from tests.core.control.test_line_protocol import counted
from tests.support.bench import COMMANDS, Bench


class Greetings(unittest.TestCase):
    def test_a_greeting_without_a_restart_ends_nothing(self) -> None:
        b = Bench()
        b.begin()
        b.run(lines=20)
        b.say("start")
        b.say("echo: External Reset")
        b.run()
        self.assertEqual(b.ran, COMMANDS)
        self.assertEqual([e.outcome for e in b.of(BuildEnded)], [Outcome.COMPLETED])

    def test_a_greeting_on_connecting_ends_nothing_and_a_port_that_resets_the_board_does(self) -> None:
        for reset in (False, True):
            b = Bench()
            b.begin()
            b.run(lines=20)
            b.controller.disconnected(b.now())
            b.last = 0 if reset else b.last
            ran = len(b.ran)
            b.controller.connected(b.now())
            b.say("start")
            b.run()
            (ended,) = b.of(BuildEnded)
            self.assertEqual(ended.outcome, Outcome.FAILED if reset else Outcome.COMPLETED)
            self.assertEqual(b.ran, COMMANDS[:ran] if reset else COMMANDS)

    def test_a_machine_at_rest_that_greets_and_has_restarted_is_made_ready_anew(self) -> None:
        b = Bench()
        b.controller.connected(b.now())
        b.run()
        b.own.clear()
        b.last = 0
        b.say("start")
        b.run()
        self.assertIn(b"M104 S0", b.own)
        self.assertIn(b"M155 S1", b.own, "it is told again to report its heat")
        self.assertTrue(b.controller.ready)


class Waiting(unittest.TestCase):
    def heating(self, command: bytes) -> LineProtocol:
        link = LineProtocol()
        link.connected()
        link.load(CommandSequence((command, b"M84")), own=False)
        counted(link)
        link.outgoing()
        return link

    def test_heat_lines_alone_for_minutes_are_no_dead_machine(self) -> None:
        link, sent, events = self.heating(b"M190 S60"), 0, []
        for tenth in range(3000):
            now = tenth / 10
            if not tenth % 20:
                events += link.receive(b"T:21.0 /0.0 B:33.0 /60.0\n", now)
            events += link.tick(now)
            sent += len(link.outgoing().splitlines())
        self.assertFalse([e for e in events if isinstance(e, Silent | OutOfStep)])
        self.assertLess(sent, 30, "it is hardly asked")
        self.assertFalse(link.suspect)

    def test_homing_and_dwelling_without_a_word_are_no_dead_machine_and_a_move_is(self) -> None:
        for command, dead in ((b"G28", False), (b"G4 S90", False), (b"G1 X5", True)):
            link, events = self.heating(command), []
            for second in range(60):
                events += link.tick(float(second))
                link.outgoing()
            self.assertEqual(bool([e for e in events if isinstance(e, Silent)]), dead, command)

    def test_a_machine_at_one_command_for_longer_than_it_may_take_says_so_once(self) -> None:
        link, events = self.heating(b"M190 S60"), []
        for second in range(4000):
            events += link.receive(b"T:21.0 /0.0 B:33.0 /60.0\n", float(second))
            events += link.tick(float(second))
            link.outgoing()
        (overdue,) = [e for e in events if isinstance(e, Overdue)]
        self.assertEqual(overdue.command, "M190 S60")
        self.assertGreater(overdue.waited_s, 2400)


class LastWords(unittest.TestCase):
    def test_a_fault_and_then_silence_is_down_with_what_was_said_and_stays_so(self) -> None:
        b = Bench()
        b.begin()
        b.run(lines=20)
        b.controller.outgoing()
        b.say("Error:the left motor has given up")
        for _ in range(400):
            b.real_s += 0.1
            b.controller.tick(b.now())
            b.controller.outgoing()  # nobody answers
        b.run(lines=0)
        self.assertIs(b.controller.machine.state, MachineState.DOWN)
        self.assertIn("the left motor has given up", b.controller.machine.reason)
        (ended,) = [h for _, h in b.controller.machine.take_events() if isinstance(h, BuildEnded)] or b.of(BuildEnded)
        self.assertIn("the left motor has given up", ended.reason)
        b.last = 0
        b.say("start")  # somebody switched it off and on
        b.controller.disconnected(b.now())
        b.controller.connected(b.now())
        b.run(seconds=5)
        self.assertIs(b.controller.machine.state, MachineState.DOWN)
        self.assertIn("the left motor has given up", b.controller.machine.reason)

    def test_a_fault_at_rest_and_then_silence_is_down_too(self) -> None:
        b = Bench()
        b.controller.connected(b.now())
        b.run()
        b.say("Error:Probing failed")
        for _ in range(400):
            b.real_s += 0.1
            b.controller.tick(b.now())
            b.controller.outgoing()
        self.assertIs(b.controller.machine.state, MachineState.DOWN)
        self.assertIn("Probing failed", b.controller.machine.reason)


class AskingForHands(unittest.TestCase):
    def setUp(self) -> None:
        self.bench = b = Bench()
        b.begin()
        b.run(lines=20)

    def test_a_machine_that_waits_for_a_person_is_shown_paused_and_told_to_go_on(self) -> None:
        b = self.bench
        line = b.controller.outgoing()
        b.say("//action:paused")
        for _ in range(30):
            b.real_s += 2
            b.say("echo:busy: paused for user")
            b.controller.tick(b.now())
        b.run(lines=0)
        b.told += [h for _, h in b.controller.machine.take_events()]
        self.assertEqual(
            b.of(BuildPaused), [BuildPaused(7, "the machine waits for somebody: paused at the machine", True)]
        )
        self.assertIs(b.controller.machine.state, MachineState.PAUSED)
        b.controller.resume(b.now())
        self.assertEqual(b.controller.outgoing(), b"M108\n")
        b.say("//action:resumed")
        for sent in line.splitlines():
            b.take(sent)
        b.run()
        self.assertEqual(b.ran, COMMANDS)
        self.assertEqual(b.of(BuildResumed), [BuildResumed(7)])

    def test_trouble_while_the_machine_waits_parks_it_and_a_resume_goes_on(self) -> None:
        b = self.bench
        b.say("//action:paused")
        b.say("//action:out_of_filament T0")
        b.run(seconds=3)
        self.assertIs(b.controller.machine.state, MachineState.PAUSED)
        self.assertEqual((b.controller.machine.reason, b.controller.prompts.waits), ("filament ran out", ""))
        b.controller.resume(b.now())
        b.run()
        self.assertEqual(b.ran, COMMANDS)

    def test_a_question_is_answered_by_the_number_of_a_choice(self) -> None:
        b = self.bench
        b.say("//action:prompt_begin Is the plate in?")
        b.say("//action:prompt_choice Yes")
        b.say("//action:prompt_choice No")
        b.say("//action:prompt_show")
        self.assertEqual(
            (b.controller.prompts.question, b.controller.prompts.choices), ("Is the plate in?", ("Yes", "No"))
        )
        self.assertEqual(b.controller.machine.reason, "the machine asks: Is the plate in? (Yes / No)")
        with self.assertRaises(WrongState):
            b.controller.act(AnswerPrompt(2), b.now())
        self.assertTrue(b.controller.act(AnswerPrompt(1), b.now()).done)
        self.assertIn(b"M876 S1\n", b.controller.outgoing())
        b.say("//action:prompt_end")
        self.assertEqual(b.controller.prompts.choices, ())

    def test_what_somebody_wants_at_the_machine_is_done(self) -> None:
        b = self.bench
        b.say("//action:pause")
        b.run(seconds=3)
        self.assertIs(b.controller.machine.state, MachineState.PAUSED)
        b.say("//action:resume")
        b.run(lines=12, seconds=3)
        self.assertIsNot(b.controller.machine.state, MachineState.PAUSED)
        b.say("//action:cancel")
        b.run()
        (ended,) = b.of(BuildEnded)
        self.assertEqual((ended.outcome, ended.reason), (Outcome.STOPPED, "cancelled at the machine"))

    def test_a_slow_wire_and_an_overdue_command_are_notices(self) -> None:
        b = self.bench
        b.controller.take([Overdue("G28", 300.0)])
        b.run(lines=0)
        b.told += [h for _, h in b.controller.machine.take_events()]
        self.assertIn(Noticed("the machine has been at G28 for 5 min: look at it", 7), b.told)


if __name__ == "__main__":
    unittest.main()
