"""Calls about notices, who hears of them, and the ways people are reached."""

from __future__ import annotations

from datetime import datetime

from chronarch.client.call import Call, some
from chronarch.core.notices.kinds import Gravity, NoticeAct, NoticeKind
from chronarch.core.notices.notice_rules import NoticeRule
from chronarch.core.watching.suspicion import FailureMode
from chronarch.wire.common import RequestDone
from chronarch.wire.notices import channels as c
from chronarch.wire.notices import notices as w
from chronarch.wire.notices import rules as r


def notices(
    *, open: bool = False, least: Gravity | None = None, kind: NoticeKind | None = None, machine: str = "",
    build: int | None = None, order: int | None = None, search: str = "", begin: datetime | None = None,
    end: datetime | None = None,
) -> Call[list[w.Notice]]:  # fmt: skip
    """Notices, newest first. `open`: only what is not over; `least`: no less grave than that."""
    params = some(
        open=open or None, least=least, kind=kind, machine=machine or None, build=build, order=order,
        search=search or None, begin=begin, end=end,
    )  # fmt: skip
    return Call("GET", "/api/notices", list[w.Notice], params=params)


def notice(number: int) -> Call[w.Notice]:
    return Call("GET", f"/api/notices/{number}", w.Notice)


def notice_told(number: int) -> Call[list[w.Told]]:
    """Over which channels a notice was told, and how that went."""
    return Call("GET", f"/api/notices/{number}/told", list[w.Told])


def notices_standing() -> Call[w.NoticesStanding]:
    """How many notices are open, by gravity."""
    return Call("GET", "/api/notices/standing", w.NoticesStanding)


def notice_kinds() -> Call[list[w.NoticeKindView]]:
    """What there is to be told of."""
    return Call("GET", "/api/notice-kinds", list[w.NoticeKindView])


def act_on_notice(number: int, act: NoticeAct, mode: FailureMode | None = None) -> Call[w.Notice]:
    """Do something about a notice: say that one goes, pause its build, call it a false alarm … `mode`: what the watch
    has missed, where that is said."""
    return Call("POST", f"/api/notices/{number}/acts/{act}", w.Notice, params=some(mode=mode))


def not_going(number: int) -> Call[w.Notice]:
    """Nobody goes after all."""
    return Call("DELETE", f"/api/notices/{number}/acts/going", w.Notice)


def close_notice(number: int) -> Call[w.Notice]:
    """Say that a notice is dealt with."""
    return Call("POST", f"/api/notices/{number}/close", w.Notice)


def notices_read(up_to: int) -> Call[RequestDone]:
    """This person has read all notices up to this number."""
    return Call("POST", "/api/notices/read", RequestDone, params=some(up_to=up_to))


def notice_rules() -> Call[list[r.NoticeRuleView]]:
    """The rules of who asks and of the shop; all of them for a maintainer's key."""
    return Call("GET", "/api/notice-rules", list[r.NoticeRuleView])


def add_notice_rule(rule: NoticeRule, person: str | None = None) -> Call[r.NoticeRuleView]:
    """`person`: what they sign in with; empty for the shop; without it, who asks."""
    return Call("POST", "/api/notice-rules", r.NoticeRuleView, body=r.NewNoticeRule(person=person, rule=rule))


def change_notice_rule(number: int, rule: NoticeRule) -> Call[r.NoticeRuleView]:
    return Call("PUT", f"/api/notice-rules/{number}", r.NoticeRuleView, body=rule)


def remove_notice_rule(number: int) -> Call[RequestDone]:
    return Call("DELETE", f"/api/notice-rules/{number}", RequestDone)


def try_notice_rule(rule: NoticeRule, person: str | None = None) -> Call[r.RuleTrial]:
    """What a rule would have told in the week before. Nothing is kept."""
    return Call("POST", "/api/notice-rules/try", r.RuleTrial, body=r.NewNoticeRule(person=person, rule=rule))


def channels() -> Call[list[c.Channel]]:
    """The channels of who asks and of the shop; all of them for a maintainer's key."""
    return Call("GET", "/api/channels", list[c.Channel])


def add_channel(asked: c.NewChannel) -> Call[c.CreatedChannel]:
    return Call("POST", "/api/channels", c.CreatedChannel, body=asked)


def change_channel(number: int, change: c.ChannelChange) -> Call[c.Channel]:
    return Call("PATCH", f"/api/channels/{number}", c.Channel, body=change)


def remove_channel(number: int) -> Call[RequestDone]:
    return Call("DELETE", f"/api/channels/{number}", RequestDone)


def try_channel(number: int) -> Call[c.ChannelTried]:
    """Send a test message now."""
    return Call("POST", f"/api/channels/{number}/test", c.ChannelTried)


def channel_log(number: int) -> Call[list[c.DeliveryTry]]:
    """Each try to send over a channel and what was answered, newest first."""
    return Call("GET", f"/api/channels/{number}/log", list[c.DeliveryTry])


def send_again(number: int) -> Call[c.DeadLetters]:
    """Send what was given up on a channel once more."""
    return Call("POST", f"/api/channels/{number}/again", c.DeadLetters)


def new_channel_secret(number: int) -> Call[c.CreatedChannel]:
    """Give a webhook a new secret."""
    return Call("POST", f"/api/channels/{number}/secret", c.CreatedChannel)


def push_key() -> Call[c.PushKey]:
    """The public key that a browser wants to subscribe with."""
    return Call("GET", "/api/push-key", c.PushKey)


def notice_settings() -> Call[c.NoticeSettings]:
    """Where links in messages lead, and the server that takes the shop's mail."""
    return Call("GET", "/api/notice-settings", c.NoticeSettings)


def change_notice_settings(change: c.NoticeSettingsUpdate) -> Call[c.NoticeSettings]:
    return Call("PATCH", "/api/notice-settings", c.NoticeSettings, body=change)
