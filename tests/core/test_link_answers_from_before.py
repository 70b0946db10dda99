"""Answers that are older than what they seem to answer: on a wire that doubles lines they come in swarms."""

from __future__ import annotations

import unittest

from chronarch.core.line_link import Drained, LinkState
from tests.core.test_line_link import started

OK, LATE = b"ok\n", 2.0


class FromBefore(unittest.TestCase):
    def test_a_line_that_is_out_is_not_proved_untaken_by_an_answer_from_before_it(self) -> None:
        link = started()
        link.receive(OK, 0.0)  # the count stands; line 1 goes out
        link.outgoing()
        link.hold()
        events = link.receive(b"Resend: 1\nok\n", 0.1)  # of the count, said twice: line 1 may be taken
        self.assertFalse([e for e in events if isinstance(e, Drained)])
        self.assertIn(b"N0 M105", link.outgoing(), "before the first line it asks by one no machine takes")
        events = link.receive(b"Error:checksum mismatch, last line: 1\nResend: 2\nok\n", 0.2)
        events += link.tick(0.2 + LATE)
        for n in range(1, 6):
            data = link.outgoing()
            if data:
                events += link.receive(b"Error:x, last line: 1\nResend: 2\nok\n" * data.count(b"\n"), 0.2 + n * LATE)
            events += link.tick(0.9 + n * LATE)
        self.assertEqual([e.count for e in events if isinstance(e, Drained)], [1])
        self.assertIs(link.state, LinkState.RESTING)

    def test_held_before_anything_went_out_nothing_needs_to_be_asked(self) -> None:
        link = started()
        link.hold()
        self.assertEqual([e.count for e in link.receive(OK, 0.0) if isinstance(e, Drained)], [0])
        self.assertNotIn(b"M105", link.outgoing())

    def test_a_wish_for_another_programs_line_is_waited_out_and_the_count_is_not_set_again(self) -> None:
        link = started()
        link.receive(OK, 0.0)
        self.assertIn(b"N1 ", link.outgoing())
        for n in range(6):
            link.receive(b"Resend: 900006011\nok\n", 0.01 * n)
        self.assertIs(link.state, LinkState.SETTLING)
        self.assertEqual(link.outgoing(), b"", "nothing goes out while answers from before still come")
        link.receive(b"Resend: 2\nok\n", 0.1)
        link.tick(0.1 + LATE)
        self.assertEqual(link.acknowledged, 1)
        self.assertNotIn(b"M110", link.outgoing())


if __name__ == "__main__":
    unittest.main()
