"""Answers that are older than what they seem to answer: on a wire that is late or doubles lines they come in swarms."""

from __future__ import annotations

import unittest

from chronarch.core.control.line_protocol import Drained, OutOfStep, ProtocolState
from tests.core.control.test_line_protocol import counted, started

WANTS_1 = b"Error:checksum mismatch, last line: 0\nResend: 1\nok\n"
WANTS_2 = b"Error:checksum mismatch, last line: 1\nResend: 2\nok\n"


class FromBefore(unittest.TestCase):
    def test_a_line_that_is_out_is_not_proved_untaken_by_an_answer_from_before_it(self) -> None:
        link = started()
        counted(link)
        self.assertIn(b"N1 ", link.outgoing())
        link.hold()
        events = link.receive(WANTS_1 + WANTS_1, 0.1)  # of the count, come late: line 1 may be taken
        self.assertFalse([e for e in events if isinstance(e, Drained)])
        asked = b""
        for n in range(20):
            asked = link.outgoing() or asked
            events += link.tick(n * 5.0)
        fence = asked.split()[0].decode()
        events += link.receive(b"ok\n" + WANTS_1, 101.0)
        self.assertFalse([e for e in events if isinstance(e, Drained)], "no fence has come back")
        events += link.receive(f'echo:Unknown command: "{fence}"\nok\n'.encode() + WANTS_2, 102.0)
        again = link.outgoing().split()[0].decode()  # this wire has shown trouble: it is asked twice
        events += link.receive(f'echo:Unknown command: "{again}"\nok\n'.encode() + WANTS_2, 103.0)
        self.assertEqual([e.count for e in events if isinstance(e, Drained)], [1])
        self.assertIs(link.state, ProtocolState.RESTING)

    def test_held_before_anything_went_out_nothing_needs_to_be_asked(self) -> None:
        link = started()
        link.hold()
        link.outgoing()
        events = link.receive(b"ok\n" + WANTS_1, 0.0)
        self.assertEqual([e.count for e in events if isinstance(e, Drained)], [0])
        self.assertEqual(link.outgoing(), b"")

    def test_no_line_goes_out_before_the_machine_says_that_it_wants_it(self) -> None:
        link = started()
        link.outgoing()
        for n in range(5):
            link.receive(b"ok\n", 0.1 * n)
            self.assertNotIn(b"N1 ", link.outgoing())
        link.receive(WANTS_1, 1.0)
        for n in range(3):  # the count was set more than once: what came before is flushed by a fence
            asked = link.outgoing()
            if b"N1 " in asked:
                break
            fence = asked.split()[0].decode()
            link.receive(f'echo:Unknown command: "{fence}"\nok\n'.encode() + WANTS_1, 2.0 + n)
        else:
            self.fail("the first line never goes out")

    def test_once_a_line_has_gone_out_the_count_is_never_set_again(self) -> None:
        link = started()
        counted(link)
        self.assertIn(b"N1 ", link.outgoing())
        events: list[object] = []
        for n in range(2000):
            sent = link.outgoing()
            self.assertNotIn(b"M110", sent)
            for line in sent.split(b"\n"):
                if line.startswith(b"Q"):
                    events += link.receive(b'echo:Unknown command: "%s"\nok\n' % line, n * 1.0)
            events += link.receive(b"Resend: 900006011\nok\n", n * 1.0)
            events += link.tick(n * 1.0 + 0.5)
        self.assertTrue([e for e in events if isinstance(e, OutOfStep)], "it is given up with a reason")

    def test_a_machine_that_always_says_no_is_not_asked_thousands_of_times_a_second(self) -> None:
        link = started()
        counted(link)
        sent = 0
        for n in range(1000):  # one second
            data = link.outgoing()
            sent += len(data.splitlines())
            if data:
                link.receive(b"Error:no\nResend: 1\nok\n", n / 1000)
            link.tick(n / 1000)
        self.assertLess(sent, 20)


if __name__ == "__main__":
    unittest.main()
