"""What people want to hear of."""

from __future__ import annotations

from pydantic import Field, TypeAdapter

from chronarch.core.notices.notice_rules import NextStep, NoticeRule, Quiet
from chronarch.wire.common import Time, Wire, as_is
from chronarch.wire.notices.notices import Notice

as_is(NoticeRule, Quiet, NextStep)
notice_rule: TypeAdapter[NoticeRule] = TypeAdapter(NoticeRule)


class NewNoticeRule(Wire):
    """A rule, and whose it is to be."""

    person: str | None = Field(default=None, max_length=120)
    """What the person signs in with who hears; empty for the shop. Without it: who asks."""
    rule: NoticeRule


class NoticeRuleView(Wire):
    """A rule, and whose it is."""

    id: int
    person: str = ""
    """Who hears; empty for the shop's own channels."""
    mine: bool = False
    """Whether that is who asks."""
    rule: NoticeRule


class RuleTrial(Wire):
    """What a rule would have told in the week before."""

    since: Time
    notices: int
    """How many notices it would have told of."""
    messages: int
    """In how many messages, as far as its pace gathers them."""
    newest: list[Notice]
    """Some of them, newest first."""
