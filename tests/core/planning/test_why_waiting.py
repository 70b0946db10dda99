"""Why a job waits, in one sentence; and that the plan's own table of what fits says what the rules say."""

from __future__ import annotations

import unittest
from collections.abc import Sequence
from datetime import UTC, datetime

from hypothesis import given
from hypothesis import strategies as st

from chronarch.core.machines.model import MachineModel
from chronarch.core.machines.states import Intake, MachineState
from chronarch.core.machines.tools import Tool
from chronarch.core.orders.requirement import Requirement
from chronarch.core.planning.capability import Capability
from chronarch.core.planning.eligibility import JobNeed, MachineStatus, blocker
from chronarch.core.planning.fits import fits_of
from chronarch.core.planning.snapshot import LoadedSpool, MachineSlot, NeedRow, Nozzle, Snapshot, WaitingWork
from chronarch.core.planning.why_waiting import PlannedStart, why_waiting

NINE = datetime(2026, 10, 19, 9, tzinfo=UTC)
MODEL = MachineModel("toy")
NAMES = ("Anchor", "Arbor", "Bezel", "Crown")


def at(name: str, state: MachineState = MachineState.BUILDING, **more: object) -> MachineStatus:
    tools = (Tool(material="PLA", colour="teal"),)
    return MachineStatus(Capability(name, MODEL, tools), state, more.pop("intake", Intake.OPEN), **more)  # type: ignore[arg-type]


class Words(unittest.TestCase):
    def why(self, *fleet: MachineStatus, able: Sequence[str] = NAMES, start: PlannedStart | None = None) -> str:
        by_name = {one.capability.machine: one for one in fleet}
        return why_waiting(lambda _: [JobNeed(Requirement(material="PETG"))], "", by_name,
                           [name for name in able if name in by_name], list(by_name), start)  # fmt: skip

    def test_what_is_taken_says_until_when(self) -> None:
        start = PlannedStart("Bezel", "10:20")
        self.assertEqual(self.why(*map(at, NAMES), start=start), "All four machines that fit are taken until 10:20.")
        self.assertEqual(self.why(*map(at, NAMES[:2])), "Both machines that fit are taken.")
        one = self.why(*map(at, NAMES), able=["Crown"], start=PlannedStart("Crown", "Tue 10:20"))
        self.assertEqual(one, "Crown is building until Tue 10:20; no other machine fits.")

    def test_machines_that_do_no_work_are_told_apart(self) -> None:
        down = at("Anchor", MachineState.DOWN, since="08:10", reason="no heat")
        text = self.why(down, *map(at, NAMES[1:]), start=PlannedStart("Crown", "10:20"))
        self.assertEqual(text, "Three of the four machines that fit are taken until 10:20; the rest do no work.")
        text = self.why(down, at("Arbor"))
        self.assertEqual(text, "Of the two machines that fit, only Arbor works, and is taken.")
        out = [down, *(at(name, MachineState.OFFLINE) for name in NAMES[1:])]
        self.assertEqual(self.why(*out), "All four machines that fit are out of work: "
                         "Anchor is down since 08:10: no heat; Arbor is offline (and 2 more).")  # fmt: skip

    def test_what_hands_can_do_is_said(self) -> None:
        beds = [at(name, MachineState.UNCLEARED) for name in NAMES[:3]]
        self.assertEqual(self.why(*beds), "All three machines that fit wait for their beds to be cleared.")
        manual = [at(name, MachineState.IDLE, intake=Intake.MANUAL) for name in NAMES[:2]]
        self.assertEqual(self.why(*manual), "A person starts each build on Anchor and Arbor.")
        now = self.why(at("Anchor", MachineState.IDLE), at("Arbor"), start=PlannedStart("Anchor", "09:00", now=True))
        self.assertEqual(now, "Anchor is about to take it.")

    def test_what_no_machine_can_make_says_what_the_nearest_lack(self) -> None:
        text = self.why(*map(at, NAMES), able=[])
        self.assertEqual(text, "No machine fits: Anchor has teal PLA loaded; the job needs PETG; "
                         "Arbor has teal PLA loaded; the job needs PETG (and 2 more).")  # fmt: skip
        wanted = why_waiting(lambda _: [JobNeed(Requirement())], "Verge", {"Anchor": at("Anchor")}, [], [])
        self.assertEqual(wanted, "No machine fits: there is no machine named Verge.")


materials, colours = st.sampled_from(["", "PLA", "pla", "PETG"]), st.sampled_from(["", "teal", "Teal", "ochre"])
spools = st.builds(LoadedSpool, materials, colours, st.sampled_from([0.0, 20.0, float("inf")]))
nozzles = st.builds(Nozzle, st.sampled_from([0.4, 0.6]), st.booleans())
needs = st.builds(
    NeedRow, st.dictionaries(st.sampled_from([1, 2]), st.just(60.0)), materials, colours,
    st.sampled_from([None, 0.4, 0.6]), st.booleans(), st.sampled_from([0.0, 20.0, 30.0]),
)  # fmt: skip


class Fit(unittest.TestCase):
    @given(
        st.lists(st.tuples(st.sampled_from([1, 2]), spools, nozzles), max_size=5),
        st.lists(needs, max_size=5),
    )
    def test_the_table_says_what_the_rules_say(
        self, set_up: list[tuple[int, LoadedSpool, Nozzle]], rows: list[NeedRow]
    ) -> None:
        machines = tuple(MachineSlot(f"M{n}", kind, spool=s, nozzle=z) for n, (kind, s, z) in enumerate(set_up))
        work = tuple(WaitingWork(n, 1, need) for n, need in enumerate(rows))
        fits = fits_of(Snapshot(NINE, machines, work, {}))
        for w in work:
            r = w.need
            asked = JobNeed(
                Requirement(r.material, r.colour, r.nozzle_mm, r.hardened), grams={0: r.grams}
            )  # fmt: skip
            able = []
            for m in machines:
                left = None if m.spool.grams == float("inf") else m.spool.grams
                tool = Tool(0, m.nozzle.mm, m.nozzle.hardened, m.spool.material, m.spool.colour, None, left)
                status = MachineStatus(Capability(m.name, MODEL, (tool,)), MachineState.IDLE, Intake.OPEN)
                if m.kind in r.duration_s and blocker(asked, status) is None:
                    able.append(m.name)
            self.assertEqual(fits.able(w.job), able)
            self.assertEqual(fits.able(w.job, ever=True), [m.name for m in machines if m.kind in r.duration_s])
        self.assertEqual(fits.able(99), [])


if __name__ == "__main__":
    unittest.main()
