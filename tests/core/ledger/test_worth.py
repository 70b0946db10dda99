"""Is it worth a machine? Told from small shops of which it is plain what keeps work waiting."""

from __future__ import annotations

import unittest
from datetime import UTC, datetime, timedelta

import numpy as np

from chronarch.core.ledger.calendar import StateChanges
from chronarch.core.ledger.measures import STATES
from chronarch.core.ledger.turnaround import microseconds
from chronarch.core.ledger.worth import (
    RecordedJob,
    RecordedWait,
    month,
    more_hands,
    one_less,
    one_more,
    outcome,
    waited_for,
)
from chronarch.core.machines.states import MachineState
from chronarch.core.planning.shifts import Span
from chronarch.core.planning.snapshot import Costs, MachineSlot, Snapshot, Strategy

MONDAY = datetime(2026, 10, 5, tzinfo=UTC)
DAY, HOUR = timedelta(days=1), timedelta(hours=1)
WEEK = MONDAY + 7 * DAY
ALWAYS = [(MONDAY, MONDAY + 60 * DAY)]
BY_DAY = [(MONDAY + n * DAY + 8 * HOUR, MONDAY + n * DAY + 16 * HOUR) for n in range(60)]


def shop(builds: int, hours: float, hands: list[Span], machines: int = 1) -> Snapshot:
    """Everything is there on Monday morning and due in two days."""
    jobs = [RecordedJob(n, builds, {"Lantern": hours * 3600}, MONDAY, MONDAY + 2 * DAY) for n in range(2)]
    slots = [MachineSlot(f"m{n}", "Lantern") for n in range(machines)]
    return month(MONDAY, slots, jobs, {"": (tuple(hands), 1)}, Costs(walk_s=0.0, clear_s=60.0), Strategy.FIRST_COME)


class WhatIf(unittest.TestCase):
    def test_where_machines_are_short_one_more_helps_and_an_hour_of_hands_does_not(self) -> None:
        now = shop(40, 4, ALWAYS)
        plain, more = outcome(now, WEEK), outcome(one_more(now, "m0"), WEEK)
        self.assertAlmostEqual(more.builds / plain.builds, 2, delta=0.1)
        self.assertLess(more.wait_h, plain.wait_h * 0.6)
        self.assertEqual(outcome(more_hands(now), WEEK), plain)
        self.assertEqual((plain.due, plain.in_time), (2, 0))

    def test_where_hands_are_short_an_hour_more_of_them_helps(self) -> None:
        now = shop(60, 0.9, BY_DAY)
        plain, more = outcome(now, WEEK), outcome(more_hands(now), WEEK)
        self.assertGreaterEqual(more.builds, plain.builds + 5)
        self.assertGreater(plain.beds_h, 24)

    def test_without_a_machine_less_is_made(self) -> None:
        now = shop(40, 4, ALWAYS, machines=2)
        self.assertAlmostEqual(outcome(one_less(now, "m1"), WEEK).builds / outcome(now, WEEK).builds, 0.5, delta=0.1)

    def test_work_that_came_later_begins_later(self) -> None:
        job = RecordedJob(1, 1, {"Lantern": 3600.0}, MONDAY + DAY, MONDAY + 2 * DAY)
        hands = {"": (tuple(ALWAYS), 1)}
        now = month(MONDAY, [MachineSlot("m0", "Lantern")], [job], hands, Costs(), Strategy.DUE_FIRST)
        found = outcome(now, WEEK)
        self.assertEqual((found.builds, found.in_time), (1, 1))
        self.assertLess(found.wait_h, 0.2)
        self.assertEqual(outcome(now, MONDAY + DAY).builds, 0)


class Waited(unittest.TestCase):
    def ledger(self, *states: tuple[float, MachineState]) -> StateChanges:
        begins = np.array([microseconds(MONDAY + hour * HOUR) for hour, _ in states], np.int64)
        codes = np.array([STATES.index(state) for _, state in states], np.int8)
        return StateChanges(begins, codes, microseconds(MONDAY + DAY))

    def test_each_hour_is_waited_for_what_machines_that_fit_did(self) -> None:
        building, uncleared, idle = MachineState.BUILDING, MachineState.UNCLEARED, MachineState.IDLE
        ledgers = {
            "Lantern": [
                self.ledger((0, building), (6, uncleared), (8, building)),
                self.ledger((0, building), (7, uncleared), (9, idle), (10, building)),
            ],
            "Kiln": [self.ledger((0, idle))],
        }

        def of(begin: float, end: float, *models: str) -> tuple[float, float, float]:
            span = [microseconds(MONDAY + hour * HOUR) for hour in (begin, end)]
            found = waited_for([RecordedWait(span[0], span[1], frozenset(models))], ledgers, MONDAY, MONDAY + DAY)
            return found.machines_h, found.hands_h, found.other_h

        self.assertEqual(of(0, 12, "Lantern"), (8, 3, 1))
        self.assertEqual(of(6.5, 7.5, "Lantern"), (0, 1, 0))
        self.assertEqual(of(0, 12, "Lantern", "Kiln"), (0, 0, 12))
        self.assertEqual(of(3, 4, "nothing like it"), (1, 0, 0))
