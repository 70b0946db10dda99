"""What there is to tell people: the kinds of notices, how grave each is, and what can be done about it at once."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import timedelta
from enum import StrEnum


class Gravity(StrEnum):
    """`note`: worth knowing; `look`: somebody should look when there is time; `act`: hands are needed; `urgent`: at
    once."""

    NOTE = "note"
    LOOK = "look"
    ACT = "act"
    URGENT = "urgent"

    @property
    def rank(self) -> int:
        return list(Gravity).index(self)


class NoticeKind(StrEnum):
    BUILD_STARTED = "build-started"
    FIRST_LAYER = "first-layer"
    PROGRESS = "progress"
    HANDS_SOON = "hands-soon"
    BUILD_ENDED = "build-ended"
    BUILD_PAUSED = "build-paused"
    BUILD_FAILED = "build-failed"
    SUSPICION = "suspicion"
    UNWATCHED = "unwatched"
    BEDS_TOGETHER = "beds-together"
    ORDER_AT_RISK = "order-at-risk"
    ORDER_LATE = "order-late"
    ORDER_COMPLETE = "order-complete"
    NO_MACHINE = "no-machine"
    SPOOL_LOW = "spool-low"
    SPOOL_SHORT = "spool-short"
    MACHINE_DOWN = "machine-down"
    MACHINE_OFFLINE = "machine-offline"
    MACHINE_ASKS = "machine-asks"
    TENDER_AWAY = "tender-away"
    HEATERS = "heaters"
    RELEASE_STUCK = "release-stuck"
    POWER = "power"
    ODD_READINGS = "odd-readings"
    UPKEEP_DUE = "upkeep-due"
    SERVICE = "service"
    STORAGE = "storage"
    SIGN_IN = "sign-in"
    FILE_SAYS = "file-says"
    WORTH_A_LOOK = "worth-a-look"


class NoticeAct(StrEnum):
    """What a person may do about a notice at once."""

    GOING = "going"
    PAUSE = "pause"
    RESUME = "resume"
    LEAVE_OUT = "leave-out"
    STOP = "stop"
    FALSE_ALARM = "false-alarm"
    MISSED = "missed"


WHILE_IT_LASTS = None
AT_ONCE = timedelta(0)


@dataclass(frozen=True)
class KindFacts:
    """`open_for` says how long a notice of the kind stays open: None for as long as its cause lasts. `counted`: each
    person says of which figures (percent, or minutes) they want to hear."""

    gravity: Gravity
    text: str
    open_for: timedelta | None = WHILE_IT_LASTS
    acts: tuple[NoticeAct, ...] = ()
    counted: str = ""


_GOING = (NoticeAct.GOING,)
_HALTED = (NoticeAct.GOING, NoticeAct.RESUME, NoticeAct.STOP)
_UNDER_WAY = (NoticeAct.PAUSE, NoticeAct.STOP)
_SEEN = (*_UNDER_WAY, NoticeAct.MISSED)
KINDS: dict[NoticeKind, KindFacts] = {
    NoticeKind.BUILD_STARTED: KindFacts(Gravity.NOTE, "a build starts", AT_ONCE, _UNDER_WAY),
    NoticeKind.FIRST_LAYER: KindFacts(Gravity.NOTE, "its first layer is down", AT_ONCE, _SEEN),
    NoticeKind.PROGRESS: KindFacts(Gravity.NOTE, "a build has come so far", AT_ONCE, _SEEN, counted="%"),
    NoticeKind.HANDS_SOON: KindFacts(
        Gravity.NOTE, "hands are needed soon", WHILE_IT_LASTS, _GOING, counted="min before"
    ),
    NoticeKind.BUILD_ENDED: KindFacts(Gravity.NOTE, "a build ends", AT_ONCE, (NoticeAct.MISSED,)),
    NoticeKind.BUILD_PAUSED: KindFacts(Gravity.ACT, "a build is paused", WHILE_IT_LASTS, _HALTED),
    NoticeKind.BUILD_FAILED: KindFacts(
        Gravity.ACT, "a build fails", WHILE_IT_LASTS, (NoticeAct.GOING, NoticeAct.MISSED)
    ),
    NoticeKind.SUSPICION: KindFacts(
        Gravity.ACT,
        "the watch suspects that a build goes wrong",
        WHILE_IT_LASTS,
        (
            NoticeAct.GOING,
            NoticeAct.FALSE_ALARM,
            NoticeAct.RESUME,
            NoticeAct.LEAVE_OUT,
            NoticeAct.PAUSE,
            NoticeAct.STOP,
        ),
    ),
    NoticeKind.UNWATCHED: KindFacts(
        Gravity.LOOK, "the watch cannot judge what it sees", timedelta(hours=2), (NoticeAct.GOING, NoticeAct.PAUSE)
    ),
    NoticeKind.BEDS_TOGETHER: KindFacts(Gravity.LOOK, "several beds will be ready at once", WHILE_IT_LASTS, _GOING),
    NoticeKind.ORDER_AT_RISK: KindFacts(Gravity.LOOK, "an order may be late"),
    NoticeKind.ORDER_LATE: KindFacts(Gravity.ACT, "an order will be late"),
    NoticeKind.ORDER_COMPLETE: KindFacts(Gravity.NOTE, "an order is complete", AT_ONCE),
    NoticeKind.NO_MACHINE: KindFacts(Gravity.LOOK, "no machine can take a job"),
    NoticeKind.SPOOL_LOW: KindFacts(Gravity.LOOK, "little is left on a spool", WHILE_IT_LASTS, _GOING),
    NoticeKind.SPOOL_SHORT: KindFacts(
        Gravity.ACT, "a spool will run out before its build ends", WHILE_IT_LASTS, (NoticeAct.GOING, NoticeAct.PAUSE)
    ),
    NoticeKind.MACHINE_DOWN: KindFacts(Gravity.ACT, "a machine is down", WHILE_IT_LASTS, _GOING),
    NoticeKind.MACHINE_OFFLINE: KindFacts(Gravity.ACT, "a machine cannot be reached", WHILE_IT_LASTS, _GOING),
    NoticeKind.MACHINE_ASKS: KindFacts(Gravity.LOOK, "a machine wants somebody to look", timedelta(hours=2), _GOING),
    NoticeKind.TENDER_AWAY: KindFacts(Gravity.URGENT, "a tender is away", WHILE_IT_LASTS, _GOING),
    NoticeKind.HEATERS: KindFacts(Gravity.URGENT, "heaters were on with nobody in charge", timedelta(hours=4), _GOING),
    NoticeKind.RELEASE_STUCK: KindFacts(Gravity.ACT, "a machine could not release its part", WHILE_IT_LASTS, _GOING),
    NoticeKind.POWER: KindFacts(Gravity.LOOK, "the power that a machine draws is odd", timedelta(hours=4), _GOING),
    NoticeKind.ODD_READINGS: KindFacts(
        Gravity.LOOK,
        "layers take other times than planned, or heat swings",
        timedelta(hours=2),
        (NoticeAct.GOING, NoticeAct.PAUSE),
    ),
    NoticeKind.UPKEEP_DUE: KindFacts(Gravity.LOOK, "a machine is due for upkeep", WHILE_IT_LASTS, _GOING),
    NoticeKind.SERVICE: KindFacts(Gravity.URGENT, "disk, database, a clock or the service itself is in trouble"),
    NoticeKind.STORAGE: KindFacts(Gravity.ACT, "frames or films cannot be kept", timedelta(hours=4), _GOING),
    NoticeKind.SIGN_IN: KindFacts(Gravity.LOOK, "somebody signs in from a new place", timedelta(days=1)),
    NoticeKind.FILE_SAYS: KindFacts(Gravity.LOOK, "a file says something at the machine", timedelta(hours=1), _GOING),
    NoticeKind.WORTH_A_LOOK: KindFacts(Gravity.NOTE, "something in the records has changed beyond chance"),
}


def closed_by_hand(kind: NoticeKind) -> bool:
    """Whether a person may close an open notice of the kind: one that is open for a while, not for as long as its
    cause lasts."""
    return bool(KINDS[kind].open_for)


@dataclass(frozen=True)
class NoticeCause:
    """Why a notice is open: at most one notice is open for each cause."""

    kind: NoticeKind
    subject: str

    @property
    def key(self) -> str:
        return f"{self.kind} {self.subject}"[:120]
