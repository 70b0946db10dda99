"""The page of states, and the tables that it is drawn from."""

from __future__ import annotations

import unittest
from pathlib import Path

from chronarch.core.control import line_protocol, phases, states_page
from chronarch.core.control.build_feeder import STEPS
from chronarch.core.control.protocol_events import ProtocolState


class Page(unittest.TestCase):
    def test_the_page_is_drawn_from_the_tables(self) -> None:
        page = Path(__file__).parents[3] / "docs" / "states.md"
        self.assertEqual(page.read_text(), states_page.document())

    def test_every_phase_and_state_has_its_row_and_every_step_is_known(self) -> None:
        self.assertEqual(set(phases.PHASES), set(phases.FeedingPhase))
        self.assertEqual(set(line_protocol.RULES), set(ProtocolState))
        self.assertEqual(set(STEPS), set(phases.Step))
        used = {step for rule in phases.PHASES.values() for step in (rule.held, rule.finished)}
        self.assertEqual(used, set(phases.Step), "every step follows something")


if __name__ == "__main__":
    unittest.main()
