"""What arrived at the mail server and the webhooks' receiver of a world."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from chronarch.client import requests
from chronarch.core.notices.notice_rules import NoticeRule
from chronarch.wire.notices import channels as w
from tests.support.world import MAIL_LOGIN, World


def have_mail(world: World) -> None:
    """Have the shop's mail go through the world's mail server, links lead to its service, and webhooks to this
    computer be allowed."""
    login, _, password = MAIL_LOGIN.partition(":")
    server = w.MailServer(
        host="127.0.0.1", port=world.smtp_port, security="none", login=login, password=password,
        sender="prints@shop.example",
    )  # fmt: skip
    change = w.NoticeSettingsUpdate(address=world.address, local_webhooks=True, mail=server)
    world.client.do(requests.change_notice_settings(change))


def mails(world: World, to: str = "") -> list[dict[str, Any]]:
    found: list[dict[str, Any]] = world.http.get("/mail").json()
    return [one for one in found if to in one["to"]]


def mail_fault(world: World, text: str) -> None:
    world.http.post("/mail/fault", json={"text": text}).raise_for_status()


def hook_address(world: World, name: str) -> str:
    return f"http://127.0.0.1:{world.standins_port}/hooks/{name}"


def hooked(world: World, name: str) -> list[dict[str, Any]]:
    """What a webhook's receiver took: headers and body of each."""
    found: list[dict[str, Any]] = world.http.get(f"/hooks/{name}").json()
    return found


def hook_fault(world: World, name: str, **fault: object) -> None:
    world.http.post(f"/hooks/{name}/fault", json=fault).raise_for_status()


def told_over(world: World, kind: str, address: str, rule: NoticeRule, person: str = "") -> w.Channel:
    """A new channel of a person's, or of the shop, over which this rule tells and no other."""
    do = world.client.do
    made = do(requests.add_channel(w.NewChannel.model_validate({"kind": kind, "address": address, "person": person})))
    for one in do(requests.notice_rules()):
        if made.id in one.rule.channels:
            do(requests.change_notice_rule(one.id, replace(rule, channels=(made.id,))))
    return made


def write_notices(world: World, *texts: str) -> None:
    """Write notices into the records, as a transaction of another process would, and wake who is to hear."""
    for text in texts:
        world.sql(
            "insert into notice (at, kind, gravity, text, cause, tender, taken_by, closed_by, routed) values"
            " ('2026-10-19 09:00:00', 'file-says', 'look', :text, '', '', '', '', 0)", text=text,
        )  # fmt: skip
