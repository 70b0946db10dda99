"""Who hears of what, and when: rules as the shop's clock shows the hours, in a zone that changes its own."""

from __future__ import annotations

import unittest
from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo

from hypothesis import given
from hypothesis import strategies as st

from chronarch.core.notices.kinds import AT_ONCE, KINDS, Gravity, NoticeKind
from chronarch.core.notices.notice_rules import (
    DEFAULT_RULE,
    During,
    NextStep,
    NoticeFacts,
    NoticeRule,
    Pace,
    Quiet,
    matches,
    speaks_at,
    wanted_counts,
)
from chronarch.core.notices.pacing import APART, FEW, MOST_IN_ONE, URGENT, Waiting, next_message
from chronarch.core.planning.shifts import Staffing

LISBON = ZoneInfo("Europe/Lisbon")


def at(text: str) -> datetime:
    return datetime.fromisoformat(text).replace(tzinfo=LISBON)


class Matching(unittest.TestCase):
    def test_everything_that_is_named_must_fit(self) -> None:
        down = NoticeFacts(NoticeKind.MACHINE_DOWN, Gravity.ACT, "Anchor", frozenset({"small"}), "hall", order=7)
        for rule in (
            NoticeRule(), DEFAULT_RULE, NoticeRule(kinds=(NoticeKind.MACHINE_DOWN,)), NoticeRule(machines=("anchor",)),
            NoticeRule(pools=("wide", "small")), NoticeRule(sites=("hall",)), NoticeRule(orders=(7, 8)),
        ):  # fmt: skip
            self.assertTrue(matches(rule, down), rule)
        for rule in (
            NoticeRule(on=False), NoticeRule(least=Gravity.URGENT), NoticeRule(kinds=(NoticeKind.BUILD_ENDED,)),
            NoticeRule(machines=("Bezel",)), NoticeRule(pools=("wide",)), NoticeRule(sites=("shed",)),
            NoticeRule(orders=(8,)),
        ):  # fmt: skip
            self.assertFalse(matches(rule, down), rule)

    def test_what_comes_at_several_figures_is_told_at_those_that_were_asked_for(self) -> None:
        half = NoticeFacts(NoticeKind.PROGRESS, Gravity.NOTE, count=50)
        self.assertFalse(matches(NoticeRule(), half), "whoever asks for everything did not ask for this")
        wish = NoticeRule(kinds=(NoticeKind.PROGRESS, NoticeKind.HANDS_SOON), percent=(25, 50), minutes_before=(10,))
        self.assertTrue(matches(wish, half))
        self.assertFalse(matches(wish, NoticeFacts(NoticeKind.PROGRESS, Gravity.NOTE, count=75)))
        off = NoticeRule(on=False, kinds=(NoticeKind.PROGRESS,), percent=(99,))
        self.assertEqual(wanted_counts([wish, off], NoticeKind.PROGRESS), (25, 50))
        self.assertEqual(wanted_counts([wish, off], NoticeKind.HANDS_SOON), (10,))

    def test_rules_that_mean_nothing_are_refused(self) -> None:
        for made in (
            lambda: NoticeRule(during=During.OWN_HOURS, days=()),
            lambda: NoticeRule(during=During.OWN_HOURS, begin="08:00", end="08:00"),
            lambda: NoticeRule(quiet=Quiet("07:00", "07:00")),
            lambda: NextStep(5),
            lambda: NextStep(5, person="maud", channel=3),
        ):
            with self.assertRaises(ValueError):
                made()


class Speaking(unittest.TestCase):
    def when(
        self, rule: NoticeRule, moment: str, gravity: Gravity = Gravity.ACT, staffed: Staffing | None = None
    ) -> str:
        found = speaks_at(rule, gravity, at(moment), LISBON, staffed)
        return f"{found.astimezone(LISBON):%a %H:%M}" if found else "never"

    def test_quiet_hours_hold_back_all_but_what_is_urgent(self) -> None:
        night = NoticeRule(quiet=Quiet("22:00", "07:00"))
        self.assertEqual(self.when(night, "2026-10-19 21:59"), "Mon 21:59")
        self.assertEqual(self.when(night, "2026-10-19 22:00"), "Tue 07:00")
        self.assertEqual(self.when(night, "2026-10-20 06:59"), "Tue 07:00")
        self.assertEqual(self.when(night, "2026-10-20 03:00", Gravity.URGENT), "Tue 03:00")

    def test_own_hours_belong_to_the_day_they_begin_on(self) -> None:
        late = NoticeRule(during=During.OWN_HOURS, begin="20:00", end="04:00", days=(0, 4))
        self.assertEqual(self.when(late, "2026-10-19 19:00"), "Mon 20:00")
        self.assertEqual(self.when(late, "2026-10-20 03:59"), "Tue 03:59")
        self.assertEqual(self.when(late, "2026-10-20 04:00"), "Fri 20:00")
        self.assertEqual(self.when(late, "2026-10-20 04:00", Gravity.URGENT), "Fri 20:00", "they hold for all")

    def test_a_shift_is_when_somebody_is_at_the_site(self) -> None:
        staffed = Staffing([(at("2026-10-20 08:00"), at("2026-10-20 17:00"))])
        shift = NoticeRule(during=During.SHIFT)
        self.assertEqual(self.when(shift, "2026-10-19 23:00", staffed=staffed), "Tue 08:00")
        self.assertEqual(self.when(shift, "2026-10-20 12:00", staffed=staffed), "Tue 12:00")
        self.assertEqual(self.when(shift, "2026-10-20 18:00", staffed=staffed), "never")
        early = NoticeRule(during=During.SHIFT, quiet=Quiet("22:00", "09:30"))
        self.assertEqual(self.when(early, "2026-10-19 23:00", staffed=staffed), "Tue 09:30")

    def test_digests_come_when_the_shops_clock_says_so_also_when_it_is_put_back(self) -> None:
        daily = NoticeRule(pace=Pace.DAILY, daily_at="08:00")
        self.assertEqual(self.when(daily, "2026-10-24 09:00"), "Sun 08:00")
        found = speaks_at(daily, Gravity.ACT, at("2026-10-24 09:00"), LISBON)
        assert found is not None
        self.assertEqual(found.astimezone(UTC) - at("2026-10-24 09:00").astimezone(UTC), timedelta(hours=24))
        self.assertEqual(self.when(daily, "2026-10-24 09:00", Gravity.URGENT), "Sat 09:00")
        self.assertEqual(self.when(NoticeRule(pace=Pace.GATHERED, every_min=30), "2026-10-19 10:10"), "Mon 10:30")

    @given(
        st.datetimes(datetime(2026, 1, 1), datetime(2027, 12, 31)), st.sampled_from(Pace), st.sampled_from(Gravity),
        st.booleans(), st.sampled_from(("00:00", "06:30", "12:00", "23:59")), st.sampled_from(("01:00", "18:00")),
    )  # fmt: skip
    def test_it_is_never_before_and_what_is_said_then_is_said_at_once(
        self, moment: datetime, pace: Pace, gravity: Gravity, quiet: bool, begin: str, end: str
    ) -> None:
        hours = {"pace": pace, "during": During.OWN_HOURS, "begin": begin, "end": end, "days": (1, 3, 6)}
        try:
            rule = NoticeRule(**hours, quiet=Quiet("21:00", "05:00") if quiet else None)
        except ValueError:
            self.assertEqual((quiet, begin in ("00:00", "23:59"), end), (True, True, "01:00"), "it would never speak")
            return
        now = moment.replace(tzinfo=UTC)
        found = speaks_at(rule, gravity, now, LISBON)
        assert found is not None
        self.assertGreaterEqual(found, now)
        again = speaks_at(NoticeRule(**{**vars(rule), "pace": Pace.AT_ONCE}), gravity, found, LISBON)
        self.assertEqual(again, found)


class Pacing(unittest.TestCase):
    NOW = datetime(2026, 10, 19, 9, tzinfo=UTC)

    def waiting(self, many: int, gravity: Gravity = Gravity.ACT) -> list[Waiting]:
        return [Waiting(n, gravity) for n in range(many)]

    def test_a_flood_is_a_few_messages_of_many(self) -> None:
        """Something new every second for an hour."""
        sent: list[datetime] = []
        told: list[int] = []
        queue: list[Waiting] = []
        for second in range(3600):
            now = self.NOW + timedelta(seconds=second)
            queue.append(Waiting(second, Gravity.ACT))
            chosen = next_message(queue, sent, now)
            if chosen:
                sent.append(now)
                told += chosen
                queue = [one for one in queue if one.id not in set(chosen)]
        self.assertLessEqual(len(sent), FEW + timedelta(hours=1) / APART)
        self.assertEqual(told, list(range(len(told))), "in order, each once")
        self.assertLess(len(queue), MOST_IN_ONE)

    def test_a_few_come_alone_and_at_once(self) -> None:
        sent: list[datetime] = []
        for n in range(FEW):
            now = self.NOW + timedelta(seconds=n)
            self.assertEqual(next_message([Waiting(n, Gravity.LOOK)], sent, now), [n])
            sent.append(now)
        self.assertEqual(next_message(self.waiting(1), sent, self.NOW + timedelta(seconds=9)), [])
        self.assertEqual(next_message(self.waiting(1), sent, self.NOW + APART + timedelta(seconds=9)), [0])
        self.assertEqual(next_message([], sent, self.NOW), [])

    def test_what_is_urgent_does_not_wait_for_the_rest(self) -> None:
        many = [self.NOW] * FEW
        self.assertEqual(next_message(self.waiting(3), many, self.NOW), [])
        self.assertEqual(next_message(self.waiting(3, Gravity.URGENT), many, self.NOW), [0, 1, 2])
        self.assertEqual(next_message(self.waiting(3, Gravity.URGENT), [self.NOW] * URGENT, self.NOW), [])


class Kinds(unittest.TestCase):
    def test_every_kind_says_what_it_is_and_what_is_over_at_once_offers_nothing_to_go_for(self) -> None:
        self.assertEqual(set(KINDS), set(NoticeKind))
        for kind, facts in KINDS.items():
            self.assertTrue(facts.text, kind)
            if facts.open_for == AT_ONCE:
                self.assertNotIn("going", facts.acts, kind)
