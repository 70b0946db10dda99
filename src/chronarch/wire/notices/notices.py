"""What people should know."""

from __future__ import annotations

from pydantic import Field

from chronarch.core.notices.kinds import Gravity, NoticeAct, NoticeKind
from chronarch.wire.common import Time, Wire


class Notice(Wire):
    """Something that people should know. Open until it is over; of each cause one is open at most."""

    id: int
    at: Time
    kind: NoticeKind
    gravity: Gravity
    text: str
    count: int | None = None
    """Its figure: percent, or minutes."""
    machine: str | None = None
    build: int | None = None
    order: int | None = None
    job: int | None = None
    spool: int | None = None
    suspicion: int | None = None
    frame: int | None = None
    """A kept frame that shows it."""
    tender: str = ""
    taken_at: Time | None = None
    taken_by: str = ""
    """Who has said that they go; empty while nobody has."""
    closed_at: Time | None = None
    """When it was over; None while it is open."""
    closed_by: str = ""
    """Who closed it; empty when its cause was gone."""
    by_hand: bool = False
    """Whether a person may say that it is dealt with; others close once their cause is gone."""
    acts: list[NoticeAct] = Field(default_factory=list)
    """What can be done about it at once, as long as it is open."""
    unread: bool = False
    """Whether it came after the newest that this person has read."""


class NoticesStanding(Wire):
    """How many notices are open, by gravity, and how many of them this person has not read."""

    note: int = 0
    look: int = 0
    act: int = 0
    urgent: int = 0
    unread: int = 0
    """Of those that ask for hands: `act` and `urgent`."""


class NoticeKindView(Wire):
    """A kind of notice."""

    kind: NoticeKind
    gravity: Gravity
    text: str
    counted: str
    """`%` or `min before` where each person says of which figures they want to hear; else empty."""
    acts: list[NoticeAct]


class Told(Wire):
    """How one channel was told of a notice."""

    channel: int
    name: str
    person: str
    """Whose channel it is; empty for the shop's."""
    what: str
    state: str
    sent_at: Time | None = None
    """Real time."""
    answer: str = ""
    repeated: bool = False
