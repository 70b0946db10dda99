"""Who hears of what, over which channels, and when."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import datetime, time, timedelta, tzinfo
from enum import StrEnum
from typing import Annotated

from annotated_types import Interval, Len, Predicate

from chronarch.core.bounds import Label, Number, check_labels
from chronarch.core.notices.kinds import KINDS, Gravity, NoticeKind
from chronarch.core.planning.shifts import Staffing

DAY = timedelta(days=1)
MOST_STEPS = 60
"""So many times a moment is moved on at most until a rule may speak."""


def _is_clock(text: str) -> bool:
    hours, _, minutes = text.partition(":")
    figures = len(hours) == len(minutes) == 2 and (hours + minutes).isascii() and (hours + minutes).isdigit()
    return figures and int(hours) < 24 and int(minutes) < 60


ClockTime = Annotated[str, Len(5, 5), Predicate(_is_clock)]
"""A time of the day on the shop's clock, such as `08:00`."""
Weekday = Annotated[int, Interval(ge=0, le=6)]
Minutes = Annotated[int, Interval(ge=1, le=24 * 60)]


class Pace(StrEnum):
    """`at-once`; `gathered`: all of some minutes in one message; `daily`: all of a day in one message."""

    AT_ONCE = "at-once"
    GATHERED = "gathered"
    DAILY = "daily"


class During(StrEnum):
    """When a rule speaks: always, in hours of its own, or when somebody is at the notice's site."""

    ALWAYS = "always"
    OWN_HOURS = "own-hours"
    SHIFT = "shift"


@dataclass(frozen=True)
class Quiet:
    """Hours of the night in which only what is urgent is told; they may pass midnight."""

    begin: ClockTime = "22:00"
    end: ClockTime = "07:00"


@dataclass(frozen=True)
class NextStep:
    """Who is told when nobody has taken a notice so many minutes after it was opened: a person, by what they sign in
    with, over all their channels, or one more channel."""

    after_min: Minutes
    person: Annotated[str, Len(0, 120)] = ""
    channel: Number | None = None

    def __post_init__(self) -> None:
        if bool(self.person) == (self.channel is not None):
            raise ValueError("a next step names a person or a channel")


Few = Len(0, 40)


@dataclass(frozen=True)
class NoticeRule:
    """What somebody wants to hear of. Empty lists mean all of that sort."""

    name: Label = ""
    on: bool = True
    kinds: Annotated[tuple[NoticeKind, ...], Few] = ()
    least: Gravity = Gravity.NOTE
    machines: Annotated[tuple[Label, ...], Few] = ()
    pools: Annotated[tuple[Label, ...], Few] = ()
    sites: Annotated[tuple[Label, ...], Few] = ()
    orders: Annotated[tuple[Number, ...], Few] = ()
    percent: Annotated[tuple[Annotated[int, Interval(ge=1, le=99)], ...], Len(0, 10)] = (50,)
    """At how many percent of a build, where `kinds` has progress."""
    minutes_before: Annotated[tuple[Minutes, ...], Len(0, 10)] = (15,)
    """How many minutes before hands are needed."""
    channels: Annotated[tuple[Number, ...], Len(0, 20)] = ()
    during: During = During.ALWAYS
    begin: ClockTime = "08:00"
    end: ClockTime = "18:00"
    days: Annotated[tuple[Weekday, ...], Len(0, 7)] = (0, 1, 2, 3, 4)
    """Of its own hours; Monday is 0."""
    quiet: Quiet | None = None
    pace: Pace = Pace.AT_ONCE
    every_min: Minutes = 30
    """How long is gathered."""
    daily_at: ClockTime = "08:00"
    next_steps: Annotated[tuple[NextStep, ...], Len(0, 5)] = ()

    def __post_init__(self) -> None:
        check_labels(self, "name")
        if self.during is During.OWN_HOURS and not self.days:
            raise ValueError("a rule with hours of its own names at least one day")
        if self.during is During.OWN_HOURS and self.begin == self.end:
            raise ValueError("a rule's own hours end at another time than they begin")
        if self.quiet is not None and self.quiet.begin == self.quiet.end:
            raise ValueError("quiet hours end at another time than they begin; leave them out for none")
        if self.during is During.OWN_HOURS and self.quiet is not None and not self._ever_speaks(self.quiet):
            raise ValueError("the rule's own hours lie wholly within its quiet hours, so it would never speak")

    def _ever_speaks(self, quiet: Quiet) -> bool:
        every = (time(minute // 60, minute % 60) for minute in range(24 * 60))
        return any(_within(at, self.begin, self.end) and not _within(at, quiet.begin, quiet.end) for at in every)


DEFAULT_RULE = NoticeRule(name="What asks for hands", least=Gravity.ACT)
"""What somebody hears of who has set no rule."""


@dataclass(frozen=True)
class NoticeFacts:
    """What rules look at in a notice. `count` is its figure: percent, or minutes."""

    kind: NoticeKind
    gravity: Gravity
    machine: str = ""
    pools: frozenset[str] = field(default_factory=frozenset)
    site: str = ""
    order: int | None = None
    count: int | None = None
    person: int | None = None
    """For what concerns one person alone."""


def matches(rule: NoticeRule, notice: NoticeFacts) -> bool:
    """Whether a rule asks for a notice. What is about one machine or order is not what a rule about another asks for,
    and a kind that comes at several figures is told at those that were asked for, once each."""
    if not rule.on or notice.gravity.rank < rule.least.rank or (rule.kinds and notice.kind not in rule.kinds):
        return False
    if notice.count is not None:
        wanted = rule.percent if KINDS[notice.kind].counted == "%" else rule.minutes_before
        if notice.kind not in rule.kinds or notice.count not in wanted:
            return False
    return (
        (not rule.machines or notice.machine.casefold() in {m.casefold() for m in rule.machines})
        and (not rule.pools or bool(notice.pools & set(rule.pools)))
        and (not rule.sites or notice.site in rule.sites)
        and (not rule.orders or notice.order in rule.orders)
    )


def speaks_at(
    rule: NoticeRule, gravity: Gravity, at: datetime, zone: tzinfo, staffed: Staffing | None = None
) -> datetime | None:
    """When a rule tells of what happened at `at`: at once, or later with all that came meanwhile. `staffed` says when
    somebody is at the notice's site. None: never, because nobody comes there any more."""
    moment = _by_pace(rule, gravity, at, zone)
    for _ in range(MOST_STEPS):
        later = _free(rule, gravity, moment, zone, staffed)
        if later is None or later == moment:
            return later
        moment = later
    return None


def _by_pace(rule: NoticeRule, gravity: Gravity, at: datetime, zone: tzinfo) -> datetime:
    if rule.pace is Pace.AT_ONCE or gravity is Gravity.URGENT:
        return at
    if rule.pace is Pace.DAILY:
        return _next(at, rule.daily_at, zone)
    begin = at.astimezone(zone).replace(hour=0, minute=0, second=0, microsecond=0)
    every = timedelta(minutes=rule.every_min)
    return begin + ((at - begin) // every + 1) * every


def _free(rule: NoticeRule, gravity: Gravity, at: datetime, zone: tzinfo, staffed: Staffing | None) -> datetime | None:
    """The same moment when a rule may speak, else a later one to look at."""
    local = at.astimezone(zone)
    if rule.quiet and gravity is not Gravity.URGENT and _within(local.time(), rule.quiet.begin, rule.quiet.end):
        return _next(at, rule.quiet.end, zone)
    if rule.during is During.SHIFT and staffed is not None:
        return staffed.next(at)
    if rule.during is During.OWN_HOURS:
        # hours that pass midnight belong to the day they begin on
        after = rule.begin > rule.end and local.time() < _clock(rule.end)
        day = (local - DAY if after else local).weekday()
        if day not in rule.days or not _within(local.time(), rule.begin, rule.end):
            return _next(at, rule.begin, zone)
    return at


def _clock(text: str) -> time:
    return time(int(text[:2]), int(text[3:]))


def _within(at: time, begin: str, end: str) -> bool:
    a, b = _clock(begin), _clock(end)
    return a <= at < b if a < b else at >= a or at < b


def _next(at: datetime, clock: str, zone: tzinfo) -> datetime:
    """The next time after `at` that the shop's clock shows so."""
    local = at.astimezone(zone)
    found = datetime.combine(local.date(), _clock(clock), zone)
    return found if found > local else datetime.combine(local.date() + DAY, _clock(clock), zone)


def wanted_counts(rules: Sequence[NoticeRule], kind: NoticeKind) -> tuple[int, ...]:
    """The figures of a kind that any rule asks for."""
    asked = [rule for rule in rules if rule.on and kind in rule.kinds]
    percent = KINDS[kind].counted == "%"
    return tuple(sorted({n for rule in asked for n in (rule.percent if percent else rule.minutes_before)}))
