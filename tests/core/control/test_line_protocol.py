"""The line protocol: whatever happens on the wire, the machine runs the program's commands once and in order."""

from __future__ import annotations

import random
import unittest

from hypothesis import given, settings
from hypothesis import strategies as st

from chronarch.core.control.line_protocol import (
    QUESTION,
    Acknowledged,
    CommandSequence,
    DamagedWire,
    Drained,
    Finished,
    LineProtocol,
    LostCount,
    NextLineWanted,
    OutOfStep,
    ProtocolState,
    Silent,
    numbered,
)
from chronarch.core.control.responses import (
    Accepted,
    AskedCancel,
    AskedResume,
    Continued,
    FaultReported,
    FilamentOut,
    Halted,
    LineComplaint,
    OtherText,
    Prompt,
    Resend,
    Restarted,
    Temperatures,
    WaitsForPerson,
    read_answer,
)
from tests.support.toy import SlowWire, ToyMachine

PROGRAM = CommandSequence(tuple(b"G1 X%d" % n for n in range(40)))


def converse(link: LineProtocol, machine: ToyMachine, most: int = 20_000) -> list[object]:
    """Let link and machine talk, time passing whenever the wire is quiet, until the program is over or given up."""
    events: list[object] = []
    now = 0.0
    for _ in range(most):
        data = link.outgoing()
        if data:
            now += 0.001
            events += link.receive(machine.take(data), now)
        else:
            now += 0.1
            events += link.tick(now)
        if any(isinstance(e, Finished | OutOfStep | Drained | LostCount) for e in events):
            break
    return events


def converse_slowly(link: LineProtocol, wire: SlowWire, most: int = 60_000) -> list[object]:
    """Let link and machine talk over a slow wire, from one arrival to the next."""
    events: list[object] = []
    now = 0.0
    for _ in range(most):
        now = max(now + 0.001, min(wire.next_at(), now + 0.1))
        arrived = wire.pass_on(link.outgoing(), now)
        events += link.receive(arrived, now) if arrived else []
        events += link.tick(now)
        if any(isinstance(e, Finished | OutOfStep | Drained | LostCount) for e in events):
            break
    return events


COUNTED = b"Error:checksum mismatch, last line: 0\nResend: 1\nok\n"


def counted(link: LineProtocol) -> None:
    """The machine takes the count and says that it wants the first line."""
    link.outgoing()
    link.receive(b"ok\n" + COUNTED, 0.0)


def story(events: list[object]) -> list[object]:
    """The events that say how it went."""
    return [e for e in events if isinstance(e, Finished | OutOfStep | Drained | LostCount)]


def started(program: CommandSequence = PROGRAM, **options: float) -> LineProtocol:
    link = LineProtocol(**options)  # type: ignore[arg-type]
    link.connected()
    link.load(program, own=False)
    return link


class Feeding(unittest.TestCase):
    def test_a_clean_wire_carries_each_line_once(self) -> None:
        link, machine = started(), ToyMachine(1)
        events = converse(link, machine)
        self.assertEqual(machine.ran, list(PROGRAM.commands))
        self.assertEqual([e.taken for e in events if isinstance(e, Acknowledged)], list(range(1, 41)))
        self.assertIsInstance(events[-1], Finished)
        self.assertEqual(link.resends, 0)

    def test_the_checksum_is_the_xor_of_all_bytes_before_the_asterisk(self) -> None:
        # 'N'^'1'^' '^'G'^'2'^'8' = 78^49^32^71^50^56 = 18
        self.assertEqual(numbered(1, b"G28"), b"N1 G28*18\n")

    @settings(max_examples=150)
    @given(
        seed=st.integers(0, 10**6),
        damage=st.floats(0, 0.25),
        lose=st.floats(0, 0.15),
        repeat=st.floats(0, 0.15),
        window=st.sampled_from([0, 60, 200]),
        numbered_oks=st.booleans(),
    )
    def test_whatever_the_wire_does_commands_run_once_in_order_or_it_stops_saying_so(
        self, seed: int, damage: float, lose: float, repeat: float, window: int, numbered_oks: bool
    ) -> None:
        machine = ToyMachine(seed, damage, lose, repeat, numbered_oks)
        link = started(window_bytes=window)
        events = story(converse(link, machine))
        self.assertTrue(events, "it neither finished nor was given up")
        if isinstance(events[-1], Finished):
            self.assertEqual(machine.ran, list(PROGRAM.commands))
        else:
            self.assertIsInstance(events[-1], OutOfStep | LostCount)
            self.assertEqual(machine.ran, list(PROGRAM.commands[: len(machine.ran)]))

    @settings(max_examples=60)
    @given(
        seed=st.integers(0, 10**6),
        trouble=st.floats(0, 0.1),
        late_s=st.sampled_from([0.05, 1.0, 5.0]),
        window=st.sampled_from([0, 120]),
        numbered_oks=st.booleans(),
    )
    def test_answers_that_come_late_take_no_line_twice_and_lose_none(
        self, seed: int, trouble: float, late_s: float, window: int, numbered_oks: bool
    ) -> None:
        machine = ToyMachine(seed, trouble, trouble, trouble, numbered_oks)
        events = story(converse_slowly(started(window_bytes=window), SlowWire(machine, late_s)))
        if isinstance(events[-1], Finished):
            self.assertEqual(machine.ran, list(PROGRAM.commands))
        else:
            self.assertIsInstance(events[-1], OutOfStep | LostCount)
            self.assertEqual(machine.ran, list(PROGRAM.commands[: len(machine.ran)]))

    def test_a_window_keeps_several_lines_on_their_way_and_never_more_bytes_than_it_holds(self) -> None:
        link = started(window_bytes=64)
        self.assertEqual(link.outgoing(), numbered(0, b"M110 N0") + QUESTION + b"\n")
        link.receive(b"ok\n" + COUNTED, 0.0)
        first = link.outgoing()
        self.assertEqual(first.count(b"\n"), 5)
        self.assertLessEqual(len(first), 64)
        link.receive(b"ok\n", 0.1)
        self.assertEqual(link.outgoing().count(b"\n"), 1, "one answered, one more sent")

    def test_a_number_tells_of_all_lines_before_it_and_an_old_one_of_none(self) -> None:
        link = started(window_bytes=64)
        counted(link)
        link.outgoing()
        self.assertEqual(link.receive(b"ok N3\n", 0.1), [Acknowledged(3)])
        self.assertEqual(link.receive(b"ok N2\nok N3\n", 0.1), [])

    def test_a_new_tender_asks_where_the_machine_stands_and_believes_it_once_said_twice(self) -> None:
        machine = ToyMachine(1)
        machine.last = 17
        link = LineProtocol()
        link.connected()
        link.ask()
        events: list[object] = []
        now = 0.0
        while not any(isinstance(e, NextLineWanted) for e in events):
            now += 0.3
            events += link.receive(machine.take(link.outgoing()), now)
            events += link.tick(now + 0.25)
        self.assertEqual(events[-1], NextLineWanted(18))
        self.assertEqual(machine.ran, [], "a question runs nothing")

    def test_a_machine_that_does_not_say_where_it_stands_is_not_guessed_at(self) -> None:
        link = LineProtocol()
        link.connected()
        link.ask()
        events: list[object] = []
        for second in range(0, 700, 4):
            link.outgoing()
            events += link.tick(float(second))
        self.assertEqual([e for e in events if isinstance(e, NextLineWanted)], [NextLineWanted(None)])

    def test_a_machine_that_restarted_unheard_is_not_fed_from_the_beginning(self) -> None:
        program = CommandSequence(tuple(b"G1 X%d" % n for n in range(300)))
        for resumed in (False, True):
            link, machine = LineProtocol(), ToyMachine(1)
            link.connected()
            link.load(program, own=False, until=150 if resumed else None)
            if resumed:
                converse(link, machine)
                machine.last = 0  # switched off and on while the build stood
                link.load(program, 150, own=False)
                machine.last = 0
            else:
                for _ in range(100):
                    link.receive(machine.take(link.outgoing()), 0.0)
            if resumed:
                link.receive(machine.take(link.outgoing()), 0.0)  # the count is set…
                link.receive(machine.take(link.outgoing()), 0.0)
            machine.last = 0
            ran = len(machine.ran)
            events: list[object] = []
            now = 0.0
            while not any(isinstance(e, LostCount) for e in events):
                now += 0.3
                self.assertLess(now, 60, "it notices")
                events += link.receive(machine.take(link.outgoing()), now)
                events += link.tick(now)
            self.assertLessEqual(len(machine.ran) - ran, 0, "nothing is run of it")

    def test_one_damaged_answer_is_no_lost_count(self) -> None:
        """A digit of the number that a machine wants arrives as another, whether it is asked with a program under way
        or at rest."""
        for rests in (False, True):
            for damaged in (b"Resend: 1\n", b"Resend: 2\n"):
                with self.subTest(rests=rests, damaged=damaged):
                    link, machine = LineProtocol(), ToyMachine(1)
                    link.connected()
                    link.load(PROGRAM, own=False, until=9)
                    converse(link, machine)
                    if rests:
                        link.drop()
                        link.ask()
                    else:
                        link.load(PROGRAM, 9, own=False)
                        machine.take(link.outgoing())  # the answer is lost
                        link.tick(10.0)
                    events: list[object] = []
                    for said in machine.take(link.outgoing()).splitlines(keepends=True):
                        events += link.receive(damaged if said.startswith(b"Resend") else said, 20.0)
                    now = 20.0
                    over = Finished | LostCount | NextLineWanted | OutOfStep
                    while not any(isinstance(e, over) for e in events):
                        now += 0.3
                        self.assertLess(now, 90)
                        events += link.receive(machine.take(link.outgoing()), now)
                        events += link.tick(now)
                    (told,) = [e for e in events if isinstance(e, over)]
                    self.assertEqual(told, NextLineWanted(10) if rests else Finished(40))

    def test_a_wire_that_damages_every_third_line_is_not_trusted(self) -> None:
        events = converse(started(CommandSequence(tuple(b"G1 X%d" % n for n in range(200)))), ToyMachine(1, damage=0.3))
        self.assertTrue(any(isinstance(e, DamagedWire) for e in events))
        events = converse(
            started(CommandSequence(tuple(b"G1 X%d" % n for n in range(200)))), ToyMachine(1, damage=0.02)
        )
        self.assertFalse(any(isinstance(e, DamagedWire) for e in events))

    def test_a_wire_on_which_hardly_a_line_arrives_whole_is_not_trusted(self) -> None:
        lot = random.Random(5)

        def through(data: bytes) -> bytes:
            return bytes(lot.randrange(33, 127) if b != 10 and lot.random() < 0.1 else b for b in data)

        link, machine, events = started(), ToyMachine(1), []
        for tenth in range(1200):
            answer = machine.take(through(link.outgoing()))
            events += link.receive(through(answer), tenth / 10) if answer else []
            events += link.tick(tenth / 10)
        self.assertTrue([e for e in events if isinstance(e, DamagedWire)], "within two minutes")

    def test_until_stands_before_a_line_and_goes_on_from_it(self) -> None:
        link, machine = LineProtocol(window_bytes=100), ToyMachine(1)
        link.connected()
        link.load(PROGRAM, own=False, until=7)
        self.assertEqual(converse(link, machine)[-1], Drained(7))
        self.assertEqual(len(machine.ran), 7)
        link.load(PROGRAM, 7, own=False)
        converse(link, machine)
        self.assertEqual(machine.ran, list(PROGRAM.commands))

    def test_a_machine_that_lets_lines_go_unanswered_is_suspected(self) -> None:
        link = started()
        link.outgoing()
        self.assertFalse(link.suspect)
        for second in (0.0, 4.0, 8.0, 12.0):
            link.tick(second)
            link.outgoing()
        self.assertTrue(link.suspect)

    def test_moderate_damage_is_survived_and_not_merely_noticed(self) -> None:
        for seed in range(30):
            machine = ToyMachine(seed, damage=0.05, lose=0.02)
            events = converse(started(), machine)
            self.assertIsInstance(events[-1], Finished, f"seed {seed}")
            self.assertEqual(machine.ran, list(PROGRAM.commands), f"seed {seed}")

    def test_a_line_that_came_twice_does_not_make_all_after_it_come_twice(self) -> None:
        link, machine, now = started(), ToyMachine(1), 0.0
        while len(machine.ran) < 5:
            link.receive(machine.take(link.outgoing()), now)
            now += 0.01
        sixth = link.outgoing()
        events: list[object] = [*link.receive(machine.take(sixth + sixth), now)]  # the wire doubles it
        resends = link.resends
        events += converse(link, machine)
        self.assertEqual(machine.ran, list(PROGRAM.commands))
        self.assertIsInstance(events[-1], Finished)
        self.assertFalse([e for e in events if isinstance(e, DamagedWire)])
        self.assertLessEqual(link.resends - resends, 2)

    def test_a_wire_that_doubles_lines_is_no_wire_that_damages_them(self) -> None:
        for seed in range(20):
            machine = ToyMachine(seed, repeat=0.2)
            events = converse(started(), machine)
            self.assertEqual(machine.ran, list(PROGRAM.commands))
            self.assertFalse([e for e in events if isinstance(e, DamagedWire)])

    def test_a_lost_answer_is_not_a_lost_line(self) -> None:
        link, machine = started(CommandSequence((b"G28", b"M84"))), ToyMachine(1)
        link.receive(machine.take(link.outgoing()), 0.0)
        machine.take(link.outgoing())  # the machine ran G28; its ok never arrives
        link.tick(5.0)
        events = converse(link, machine)
        self.assertEqual(machine.ran, [b"G28", b"M84"])
        self.assertIsInstance(events[-1], Finished)

    def test_busy_keeps_a_slow_line_from_being_sent_again(self) -> None:
        link, machine = started(CommandSequence((b"M109 S205", b"M84")), answer_timeout_s=3.0), ToyMachine(1)
        link.receive(machine.take(link.outgoing()), 0.0)
        self.assertIn(b"M109", link.outgoing())
        for second in range(1, 60):
            link.receive(b"echo:busy: processing\n", float(second))
            link.tick(second + 0.5)
            self.assertEqual(link.outgoing(), b"")

    def test_after_a_cut_the_outstanding_line_goes_out_again(self) -> None:
        link, machine = started(), ToyMachine(1)
        for _ in range(10):
            link.receive(machine.take(link.outgoing()), 0.0)
        machine.take(link.outgoing())
        link.disconnected()
        self.assertEqual(link.outgoing(), b"")
        link.connected()
        converse(link, machine)
        self.assertEqual(machine.ran, list(PROGRAM.commands))

    def test_a_machine_that_never_answers_is_given_up_with_a_reason(self) -> None:
        link = started()
        events: list[object] = []
        for second in range(700):
            link.outgoing()
            events += link.tick(float(second))
        self.assertTrue(any(isinstance(e, Silent) for e in events))
        self.assertIsInstance(events[-1], OutOfStep)

    def test_hold_lets_the_outstanding_line_end_and_sends_no_other(self) -> None:
        link, machine = started(), ToyMachine(1)
        for _ in range(5):
            link.receive(machine.take(link.outgoing()), 0.0)
        self.assertEqual(link.hold(), [])
        events = converse(link, machine)
        self.assertIn(Drained(5), events)
        self.assertEqual(link.outgoing(), b"")
        self.assertIs(link.state, ProtocolState.RESTING)
        link.load(CommandSequence((b"G91",)))
        converse(link, machine)
        link.load(PROGRAM, 5, own=False)
        converse(link, machine)
        self.assertEqual(machine.ran, [*PROGRAM.commands[:5], b"G91", *PROGRAM.commands[5:]])

    def test_an_urgent_command_goes_before_what_waits(self) -> None:
        link = started()
        link.urgent(b"M112")
        self.assertTrue(link.outgoing().startswith(b"M112\n"))

    def test_a_program_is_not_swapped_while_a_line_is_outstanding(self) -> None:
        link = started()
        with self.assertRaises(RuntimeError):
            link.load(PROGRAM)


class Answers(unittest.TestCase):
    def test_each_kind_of_answer_is_read(self) -> None:
        table = {
            "ok": [Accepted()],
            "ok N12": [Accepted(12)],
            "ok P15 B3": [Accepted()],
            "ok N:2": [OtherText("ok N:2")],
            "Resend: 7": [Resend(7)],
            "rs N7": [Resend(7)],
            "start": [Restarted()],
            "!! driver fault": [Halted("driver fault")],
            "Error:fan 0 stalled": [FaultReported("fan 0 stalled")],
            "error:Heating failed, system stopped! Heater_ID: 0": [
                Halted("Heating failed, system stopped! Heater_ID: 0")
            ],
            'Error:Unknown command: "M900"': [OtherText('Error:Unknown command: "M900"')],
            "OK": [Accepted()],
            "ok 12": [Accepted(12)],
            "RESEND:N7": [Resend(7)],
            "wait": [],
            "echo:busy: paused for user": [WaitsForPerson("paused for user")],
            "//action:paused": [WaitsForPerson("paused at the machine")],
            "// ACTION:RESUME": [AskedResume()],
            "//action:resumed": [Continued()],
            "//action:cancel": [AskedCancel()],
            "//action:prompt_begin Is the nozzle clean?": [Prompt("begin", "Is the nozzle clean?")],
            "//action:prompt_button Yes": [Prompt("choice", "Yes")],
            "echo:Filament ran out on E0": [FilamentOut()],
            "echo:Filament runout sensor: ON": [OtherText("echo:Filament runout sensor: ON")],
            "echo: External Reset": [Restarted()],
            "//action:out_of_filament T0": [FilamentOut()],
            "T:205.1 /205.0 B:60.2 /60.0 @:0": [Temperatures(205.1, 205.0, 60.2, 60.0)],
            "ok T:21.0 /0.0 B:20.0 /0.0": [Temperatures(21.0, 0.0, 20.0, 0.0), Accepted()],
            "T:205 /205 B:60 /60 T0:205 /205 T1:31.5 /0 C:40 /45 M:41 toolhead_board:39.5 @:0 B@:0": [
                Temperatures(
                    205,
                    205,
                    60,
                    60,
                    40,
                    45,
                    (("T0", 205, 205), ("T1", 31.5, 0), ("board", 41, None), ("toolhead board", 39.5, None)),
                )
            ],
            "T:200 /200 T0:200 /200 E:0 W:3": [Temperatures(200, 200)],
            "T:20 /0 B:20 /0 B@:0 Q@:1 xQ:3": [Temperatures(20, 0, 20, 0)],
            "echo: hello there": [OtherText("echo: hello there")],
            "": [],
        }
        for line, expected in table.items():
            with self.subTest(line=line):
                self.assertEqual(read_answer(line), expected)

    def test_a_complaint_is_known_as_one_though_every_fifth_byte_is_damaged(self) -> None:
        said = (
            "checksum mismatch, Last Line: 152",
            "Line Number is not Last Line Number+1, Last Line: 4",
            "line number is not the last line number + 1, last line: 88231",
            "No Checksum with line number, Last Line: 7",
            "No Line Number with checksum, Last Line: 990",
        )
        lot = random.Random(4)
        misread = 0
        for _ in range(200):
            for text in said:
                damaged = "".join(chr(lot.randrange(33, 127)) if lot.random() < 0.2 else c for c in text)
                misread += read_answer(f"Error:{damaged}") != [LineComplaint(out_of_turn=" not " in text)]
        self.assertLess(misread, 10, "of 1000")
        for text in ("chXcksu= mispntch, 5ast lfne: 152", "expected line 5, got 6, Last Line: 4", "Checksum mismatch"):
            self.assertEqual(read_answer(f"Error:{text}"), [LineComplaint()])

    def test_a_fault_is_not_taken_for_a_complaint(self) -> None:
        for text in (
            "fan 0 stalled",
            "Unexpected hot-end temperature jump",
            "Probing failed",
            "Homing Failed",
            "last layer failed its check",
        ):
            with self.subTest(text=text):
                self.assertEqual(read_answer(f"Error:{text}"), [FaultReported(text)])

    def test_a_fault_after_which_a_machine_takes_no_more_is_told_from_one_it_goes_on_after(self) -> None:
        for text in (
            "Heating failed, system stopped! Heater_ID: 0",
            "Thermal Runaway, system stopped! Heater_ID: bed",
            "MAXTEMP triggered, system stopped! Heater_ID: 0",
            "Printer halted. kill() called!",
        ):
            with self.subTest(text=text):
                self.assertEqual(read_answer(f"Error:{text}"), [Halted(text)])

    def test_whatever_words_come_with_a_wish_for_a_line_are_a_complaint_about_it(self) -> None:
        for words in ("Error:Bad line, expected 1", "error:CRC is wrong", "ERROR: what was that?"):
            link = started()
            counted(link)
            link.outgoing()
            events = link.receive(words.encode() + b"\nResend: 1\nok\n", 0.1)
            self.assertEqual(events, [])
            self.assertIn(b"N1 ", link.outgoing(), "it goes out again")

    def test_a_fault_is_told_at_once_with_all_that_came_with_it(self) -> None:
        link = started()
        counted(link)
        link.outgoing()
        events = link.receive(b"Error:Probing failed\necho:at X 20 Y 30\nError:Printer halted. kill() called!\n", 0.1)
        events += link.tick(0.5)
        self.assertEqual(events, [Halted("Probing failed; echo:at X 20 Y 30; Printer halted. kill() called!")])

    @given(st.binary(max_size=300))
    def test_no_bytes_from_a_machine_break_the_link(self, data: bytes) -> None:
        link = started()
        link.receive(data + b"\n", 0.0)

    def test_unknown_chatter_is_kept_for_the_log(self) -> None:
        link = started()
        self.assertEqual(link.receive(b"echo: SD card missing\n", 0.0), [OtherText("echo: SD card missing")])
        self.assertEqual(link.spoken()[-1][:2], (False, b"echo: SD card missing"))
