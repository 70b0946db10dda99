"""Chat through a real server: what is told to people and rooms, and what is done when somebody writes."""

from __future__ import annotations

import tempfile
from pathlib import Path

import httpx

from chronarch.client import RefusedByService, requests
from chronarch.core.machines.states import BuildState, MachineState
from chronarch.core.notices.kinds import NoticeKind
from chronarch.core.notices.notice_rules import NoticeRule
from chronarch.wire.notices import channels as wc
from tests.support.chat_server import ROOMS, ChatServer, Chatter
from tests.support.gcode import squares
from tests.support.inbox import have_mail, told_over, write_notices
from tests.support.world import PERSON, WorldCase, eventually

SECRET, ROOM = "of the chat alone", f"floor@{ROOMS}"
LATE_S = 150.0


class Chatting(WorldCase):
    machines = ("Anchor",)
    cameras = True
    server: ChatServer
    maud: Chatter
    stranger: Chatter

    @classmethod
    def prepare(cls) -> None:
        super().prepare()
        folder = tempfile.TemporaryDirectory(ignore_cleanup_errors=True)
        cls.addClassCleanup(folder.cleanup)
        cls.server = ChatServer(Path(folder.name))
        for user in ("prints", "maud", "stranger"):
            cls.server.add(user, SECRET)
        cls.server.start()
        cls.addClassCleanup(lambda: cls.server.stop())
        cls.maud = Chatter("maud@chat.shop.example", SECRET, cls.server.port)
        cls.addClassCleanup(lambda: cls.maud.close())
        cls.stranger = Chatter("stranger@chat.shop.example", SECRET, cls.server.port)
        cls.addClassCleanup(lambda: cls.stranger.close())
        cls.maud.make_room(ROOM)
        have_mail(cls.world)  # links lead somewhere
        cls.sign_in()
        cls.world.add_file("long.gcode", squares(layers=40, rounds=90, feed=1100))

    @classmethod
    def sign_in(cls) -> None:
        account = wc.ChatAccount(
            address="prints@chat.shop.example", password=SECRET, host="127.0.0.1", port=cls.server.port, security="none"
        )
        cls.world.client.do(requests.change_notice_settings(wc.NoticeSettingsUpdate(chat=account)))
        eventually(lambda: not cls.world.client.do(requests.notice_settings()).chat_problem, "the shop is in the chat")

    def setUp(self) -> None:
        self.do = self.world.client.do
        self.clear("Anchor")
        for channel in self.do(requests.channels()):
            if channel.kind is not wc.ChannelKind.PAGE:
                self.do(requests.remove_channel(channel.id))
        self.maud.heard.clear()

    def channel(self, kind: str, address: str, rule: NoticeRule) -> wc.Channel:
        return told_over(self.world, kind, address, rule, PERSON if kind == "chat" else "")

    def ask(self, text: str, words: str) -> str:
        """Write to the shop; what it answers, which says `words`."""
        before = len(self.maud.heard)
        self.maud.say("prints@chat.shop.example", text)
        found = eventually(lambda: [t for _, t, _ in self.maud.heard[before:] if words in t], f"{text}: {words}")
        return found[0]

    def building(self) -> int:
        job = self.world.submit("long.gcode", machine="Anchor")
        build = self.world.build_of(job)
        self.world.until("Anchor", MachineState.BUILDING)
        self.do(requests.act_on_job(job.id, "withdraw"))
        return build.id

    def told(self, words: str, sender: str = "prints@") -> list[tuple[str, str, str]]:
        def look() -> list[tuple[str, str, str]]:
            return [one for one in self.maud.heard if words in one[1] and one[0].startswith(sender)]

        return eventually(look, f"Maud hears {words!r}", LATE_S)

    def test_a_person_and_a_room_are_told_with_a_picture_and_what_can_be_done(self) -> None:
        rule = NoticeRule(kinds=(NoticeKind.BUILD_PAUSED,))
        self.channel("chat", "Maud@chat.shop.example", rule)
        self.channel("room", ROOM, rule)
        self.building()
        self.world.fault("Anchor", "filament-out")
        ((_, text, _),) = self.told("filament ran out")
        self.assertIn("Resume: http", text)
        ((_, in_room, _),) = self.told("filament ran out", ROOM)
        self.assertNotIn("Resume: http", in_room, "a room is nobody in particular")
        link = eventually(lambda: [u for _, _, u in self.maud.heard if u], "a picture comes with it")[0]
        picture = httpx.get(link)
        self.assertEqual((picture.status_code, picture.content[:2]), (200, b"\xff\xd8"))
        number = text.partition("[")[2].partition("]")[0]
        self.ask(f"going {number}", "The others are told that you go.")
        self.assertIn("Maud", self.do(requests.notice(int(number))).taken_by)
        self.ask("resume anchor", "is building")
        self.assertNotIn(SECRET, self.do(requests.notice_settings()).model_dump_json())

    def test_what_somebody_writes_is_answered_with_their_rights(self) -> None:
        self.channel("chat", "maud@chat.shop.example", NoticeRule())
        self.ask("hello there", "I do not understand")
        self.ask("What next?", "Nothing")
        self.ask("pause Anchor", "Anchor builds nothing")
        build = self.building()
        self.assertIn("Anchor: building, long.gcode at", self.ask("status", "Anchor"))
        waiting = self.world.submit("long.gcode", machine="Anchor")
        self.ask(f"why {waiting.id}", f"Job {waiting.id}, long.gcode:")
        self.do(requests.act_on_job(waiting.id, "withdraw"))
        self.ask("picture Nobody", "no machine named 'Nobody'")
        self.ask("Picture Anchor.", "Anchor at ")
        eventually(lambda: [u for _, _, u in self.maud.heard if u], "the picture comes")
        self.ask("pause Anchor", f"Build {build} on Anchor is paused")
        self.ask("yes", "nothing to say yes to")
        self.ask("stop Anchor", "Say yes within two minutes")
        self.ask("status Anchor", "paused")
        self.ask("yes", "nothing to say yes to")
        self.assertIs(self.do(requests.build(build)).state, BuildState.PAUSED, "another word takes it back")
        self.ask("stop Anchor", "Say yes within two minutes")
        self.ask("yes", f"Build {build} on Anchor is")
        over = eventually(lambda: (b := self.do(requests.build(build))).outcome and b, "it is over")
        self.assertEqual(over.outcome, "stopped")
        self.ask("missed tangle Anchor", f"the watch missed tangle in build {build}")
        self.assertTrue(any(s.missed for s in self.do(requests.suspicions(build=build))))

    def test_a_stranger_gets_no_answer_and_whoever_may_only_look_changes_nothing(self) -> None:
        self.channel("chat", "maud@chat.shop.example", NoticeRule())
        build = self.building()
        self.stranger.say("prints@chat.shop.example", "stop Anchor")
        self.world.sql("update role_held set role = 'viewer'")
        self.addCleanup(self.world.sql, "update role_held set role = 'manager'")
        self.ask("pause Anchor", "You may only look")
        self.ask("status", "Anchor: building")
        self.assertEqual(self.stranger.heard, [])
        self.assertIs(self.do(requests.build(build)).state, BuildState.BUILDING)

    def test_what_was_written_while_the_shop_was_away_is_not_done_later(self) -> None:
        self.channel("chat", "maud@chat.shop.example", NoticeRule())
        build = self.building()
        self.ask("status", "Anchor: building")
        self.do(requests.change_notice_settings(wc.NoticeSettingsUpdate(without=["chat"])))
        eventually(lambda: not self.server.is_there("prints"), "the shop has left the chat")
        self.maud.say("prints@chat.shop.example", "pause Anchor")
        self.sign_in()
        self.told("You wrote 'pause Anchor' while I was away. Nothing was done")
        self.assertIs(self.do(requests.build(build)).state, BuildState.BUILDING)

    def test_two_words_at_once_are_answered_one_after_the_other(self) -> None:
        self.channel("chat", "maud@chat.shop.example", NoticeRule())
        build = self.building()
        for text in ("stop Anchor", "yes"):
            self.maud.say("prints@chat.shop.example", text)
        self.told(f"Build {build} on Anchor is")

    def test_an_address_is_one_persons_and_a_room_must_be_there(self) -> None:
        self.channel("chat", "maud@chat.shop.example", NoticeRule())
        for kind, address, words in (
            ("chat", "nobody", "is no chat address"),
            ("chat", "maud@chat.shop.example", "somebody else's"),
            ("chat", "\uff2dAUD@chat.shop.example", "somebody else's"),
        ):
            asked = wc.NewChannel.model_validate({"kind": kind, "address": address, "person": ""})
            with self.assertRaisesRegex(RefusedByService, words):
                self.do(requests.add_channel(asked))
        nowhere = self.channel("room", f"nowhere@{ROOMS}", NoticeRule())
        tried = self.do(requests.try_channel(nowhere.id))
        self.assertFalse(tried.good)
        self.assertIn("somebody has to make it first", tried.answer)
        unknown = self.channel("chat", "nobody@chat.shop.example", NoticeRule())
        self.assertIn("cannot be reached", self.do(requests.try_channel(unknown.id)).answer)

    def test_while_the_chat_server_is_away_everything_waits_and_then_comes_once(self) -> None:
        rule = NoticeRule(kinds=(NoticeKind.FILE_SAYS,))
        made = self.channel("chat", "maud@chat.shop.example", rule)
        self.assertTrue(self.do(requests.try_channel(made.id)).good)
        self.server.stop()
        write_notices(self.world, "the first", "the second")

        def failing() -> wc.Channel | None:
            found = next(c for c in self.do(requests.channels()) if c.id == made.id)
            return found if found.problem else None

        eventually(failing, "it says that it does not arrive", LATE_S)
        eventually(lambda: self.do(requests.notice_settings()).chat_problem, "the shop knows", LATE_S)
        self.server.start()
        self.maud.again()
        self.told("the first")
        self.told("the second")
        self.assertEqual(sum("the second" in text for _, text, _ in self.maud.heard), 1)
        eventually(lambda: not self.do(requests.notice_settings()).chat_problem, "it is back", LATE_S)
        self.ask("status", "Anchor")
