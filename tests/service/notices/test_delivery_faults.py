"""Whatever mail servers and receivers do, and whenever the service is killed: every notice reaches its reader once, in
order, or says that it may be a repetition."""

from __future__ import annotations

import json
import signal
from dataclasses import replace
from typing import Any

from chronarch.client import requests
from chronarch.core.notices.kinds import NoticeKind
from chronarch.core.notices.notice_rules import NoticeRule, Pace
from chronarch.core.notices.pacing import FEW, MOST_IN_ONE
from chronarch.wire.notices import channels as wc
from tests.support.inbox import have_mail, hook_address, hook_fault, hooked, mail_fault, mails, told_over, write_notices
from tests.support.world import PERSON, WorldCase, eventually

SAID = NoticeRule(kinds=(NoticeKind.FILE_SAYS,))
LATE_S = 150.0
"""How long a second or third try may take to come."""


class DeliveryFaults(WorldCase):
    def setUp(self) -> None:
        self.do = self.world.client.do
        have_mail(self.world)
        self.name = self.id().rpartition("_")[2]

    def say(self, *texts: str) -> None:
        write_notices(self.world, *texts)

    def channel(self, kind: str, address: str, rule: NoticeRule = SAID) -> wc.Channel:
        made = told_over(self.world, kind, address, rule, PERSON if kind == "mail" else "")
        self.addCleanup(self.do, requests.remove_channel(made.id))
        return made

    def stand(self, channel: wc.Channel) -> wc.Channel:
        return next(c for c in self.do(requests.channels()) if c.id == channel.id)

    def fails(self, channel: wc.Channel, words: str) -> wc.Channel:
        def look() -> wc.Channel | None:
            stand = self.stand(channel)
            return stand if words in stand.problem else None

        found = eventually(look, f"it says {words!r}", LATE_S)
        assert found is not None
        return found

    def texts(self, hook: str) -> list[str]:
        events = [json.loads(one["body"]) for one in hooked(self.world, hook)]
        return [event["data"]["text"] for event in events if event["type"] == "notice.opened"]

    def came(self, user: str, *words: str) -> list[dict[str, Any]]:
        def look() -> list[dict[str, Any]] | None:
            found = mails(self.world, user)
            text = "".join(one["text"] for one in found)
            return found if all(word in text for word in words) else None

        return eventually(look, f"mail to {user} says {words}", LATE_S) or []

    def test_a_mail_server_that_wants_it_later_gets_it_later_once_and_all_in_one(self) -> None:
        mail_fault(self.world, "later")
        self.addCleanup(mail_fault, self.world, "")
        channel = self.channel("mail", "later@shop.example")
        self.say("the first")
        self.fails(channel, "451")
        self.say("the second", "the third")
        eventually(lambda: self.do(requests.channel_log(channel.id))[0].notices == 3, "all three are tried", LATE_S)
        mail_fault(self.world, "")
        found = self.came("later", "the first", "the second", "the third")
        self.assertEqual(len(found), 1, "what came meanwhile is one message")
        self.assertEqual("".join(m["text"] for m in found).count("the first"), 1)
        self.assertNotIn("repeated", found[0]["subject"])
        eventually(lambda: not self.stand(channel).problem, "the channel is well again")

    def test_a_mail_server_that_is_away_is_tried_until_it_is_there(self) -> None:
        channel = self.channel("mail", "away@shop.example")
        server = wc.MailServer(host="127.0.0.1", port=1, security="none", sender="prints@shop.example")
        self.do(requests.change_notice_settings(wc.NoticeSettingsUpdate(mail=server)))
        self.say("nobody home")
        self.fails(channel, "127.0.0.1:1")
        have_mail(self.world)
        self.assertEqual(len(self.came("away", "nobody home")), 1)
        log = eventually(lambda: (g := self.do(requests.channel_log(channel.id)))[0].good and g, "it is in the log")
        assert log
        self.assertFalse(log[-1].good)

    def test_an_address_that_the_mail_server_refuses_is_given_up_and_sent_again_by_hand(self) -> None:
        mail_fault(self.world, "refuses")
        self.addCleanup(mail_fault, self.world, "")
        channel = self.channel("mail", "unknown@shop.example")
        self.say("for nobody")
        dead = eventually(lambda: (c := self.stand(channel)).dead and c, "it is given up")
        self.assertEqual(dead.dead, 1)
        mail_fault(self.world, "")
        self.assertEqual(self.do(requests.send_again(channel.id)).again, 1)
        self.came("unknown", "for nobody")

    def test_a_mail_of_which_nobody_knows_whether_it_arrived_comes_again_and_says_so(self) -> None:
        mail_fault(self.world, "drops")
        self.addCleanup(mail_fault, self.world, "")
        channel = self.channel("mail", "unsure@shop.example")
        self.say("perhaps twice")
        self.fails(channel, "not known")
        mail_fault(self.world, "")
        found = eventually(lambda: len(f := mails(self.world, "unsure")) > 1 and f, "it comes again", LATE_S)
        self.assertEqual(len({one["id"] for one in found}), 1, "the very same message")
        self.assertIn("perhaps repeated", found[-1]["subject"])
        self.assertIn("may have reached you before", found[-1]["text"])

    def test_a_receiver_that_fails_moves_or_hangs_gets_each_event_once_in_order(self) -> None:
        for fault, words in (
            ({"status": 500}, "500"),
            ({"status": 301, "location": "http://elsewhere.example/"}, "it has moved to http://elsewhere.example/"),
        ):
            name = f"{self.name}{fault['status']}"
            hook_fault(self.world, name, **fault)
            channel = self.channel("webhook", hook_address(self.world, name))
            said = [f"{name} {n}" for n in range(4)]
            self.say(*said)
            self.fails(channel, words)
            self.assertEqual(self.texts(name), [])
            hook_fault(self.world, name)
            eventually(lambda name=name: len(self.texts(name)) == 4, "all come", LATE_S)  # type: ignore[misc]
            self.assertEqual(self.texts(name), said)

    def test_an_event_whose_answer_was_lost_comes_again_with_the_same_number(self) -> None:
        hook_fault(self.world, "lost", text="lost-answer")
        channel = self.channel("webhook", hook_address(self.world, "lost"))
        self.say("lost and found")
        self.fails(channel, "did not answer")
        hook_fault(self.world, "lost")
        eventually(lambda: len(hooked(self.world, "lost")) > 1, "it comes again", LATE_S)
        events = [json.loads(one["body"]) for one in hooked(self.world, "lost")[:2]]
        self.assertEqual(len({e["id"] for e in events}), 1)
        self.assertEqual((events[0]["repeated"], events[1]["repeated"]), (False, True))

    def test_an_event_that_is_refused_for_good_does_not_hold_up_the_next(self) -> None:
        hook_fault(self.world, "picky", status=422)
        channel = self.channel("webhook", hook_address(self.world, "picky"))
        self.say("bad")
        eventually(lambda: self.stand(channel).dead, "it is given up")
        hook_fault(self.world, "picky")
        self.say("good")
        eventually(lambda: self.texts("picky") == ["good"], "the next one comes")

    def test_a_message_that_cannot_be_written_does_not_hold_up_the_next(self) -> None:
        hook_fault(self.world, "unwritten", status=500)
        channel = self.channel("webhook", hook_address(self.world, "unwritten"))
        self.say("not to be written")
        self.fails(channel, "500")
        self.world.sql("update delivery set what = 'odd' where what = 'opened' and notice_id in"
                       " (select id from notice where text = 'not to be written')")  # fmt: skip
        hook_fault(self.world, "unwritten")
        self.say("written")
        eventually(lambda: self.texts("unwritten") == ["written"], "the next one comes", LATE_S)
        self.assertEqual(self.stand(channel).dead, 1)

    def test_killed_between_event_and_delivery_nothing_is_lost_or_doubled(self) -> None:
        mail_fault(self.world, "later")
        hook_fault(self.world, "killed", status=503)
        mail = self.channel("mail", "killed@shop.example")
        hook = self.channel("webhook", hook_address(self.world, "killed"))
        self.say("before it was killed")
        self.fails(hook, "503")
        self.fails(mail, "451")
        self.say("just as it is killed")
        self.world.kill("service", signal.SIGKILL)
        mail_fault(self.world, "")
        hook_fault(self.world, "killed")
        self.say("while it is away")
        self.world.start_service()
        said = ["before it was killed", "just as it is killed", "while it is away"]
        eventually(lambda: len(self.texts("killed")) >= 3, "all come", LATE_S)
        self.assertEqual(self.texts("killed"), said)
        found = self.came("killed", *said)
        text = "".join(one["text"] for one in found)
        self.assertEqual([text.count(one) for one in said], [1, 1, 1])

    def test_a_thousand_events_are_a_few_messages(self) -> None:
        channel = self.channel("mail", "many@shop.example")
        values = ", ".join(
            f"('2026-10-19 09:00:00', 'file-says', 'look', 'line {n} of many.', '', '', '', '', 0)" for n in range(1000)
        )
        self.world.sql(
            "insert into notice (at, kind, gravity, text, cause, tender, taken_by, closed_by, routed) values " + values
        )

        def text() -> str:
            return "".join(one["text"] for one in mails(self.world, "many"))

        eventually(lambda: text().count(" of many.") >= 1000, "all are told", LATE_S)
        eventually(lambda: self.stand(channel).waiting == 0, "nothing is left to tell")
        found, said = mails(self.world, "many"), text()
        self.assertLessEqual(len(found), FEW + 1000 // MOST_IN_ONE)
        self.assertEqual([n for n in range(1000) if said.count(f"line {n} of many.") != 1], [])
        self.assertIn("notices", found[0]["subject"])

    def test_what_is_gathered_comes_as_one(self) -> None:
        self.channel("mail", "gathered@shop.example", replace(SAID, pace=Pace.GATHERED, every_min=60))
        now = self.world.clock.now()
        for n in range(3):
            self.world.sql(
                "insert into notice (at, kind, gravity, text, cause, tender, taken_by, closed_by, routed) values"
                " (:at, 'file-says', 'look', :text, '', '', '', '', 0)", at=now.replace(tzinfo=None), text=f"item {n}.",
            )  # fmt: skip
        found = self.came("gathered", "item 0.", "item 1.", "item 2.")
        self.assertEqual(len(found), 1)
