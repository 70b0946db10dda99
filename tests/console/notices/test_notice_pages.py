"""Notices in the console: what is open and what can be done, rules and channels, and what a link of a mail does."""

from __future__ import annotations

import json
import re
import tempfile
from pathlib import Path
from typing import Any

from playwright.sync_api import expect

from chronarch.client import requests
from chronarch.core.machines.states import MachineState
from chronarch.core.notices.kinds import Gravity, NoticeKind
from chronarch.core.notices.notice_rules import Pace
from chronarch.wire.notices import channels as wc
from chronarch.wire.notices.notices import Notice
from tests.support.browser import ConsoleCase
from tests.support.chat_server import ChatServer
from tests.support.gcode import squares
from tests.support.inbox import have_mail, hook_address, hooked, mails
from tests.support.world import PERSON, eventually

AT_ONCE = """([all, gravity]) => {
    all.click(); gravity.value = "act"; gravity.dispatchEvent(new Event("change", { bubbles: true })); }"""
"""Two choices so quickly one after the other that the page has not drawn the first yet."""
KEEP_SHOWN = """() => { self.shown = []; self.registration.showNotification = async (title, options) => {
    self.shown.push({ body: options.body, acts: options.actions.map((a) => a.title) }); } }"""
"""A browser without a screen shows no notifications: what it would show is kept."""


class NoticePages(ConsoleCase):
    machines = ("Anchor",)
    cameras = True

    @classmethod
    def prepare(cls) -> None:
        super().prepare()
        have_mail(cls.world)
        cls.world.add_file("long.gcode", squares(layers=40, rounds=90, feed=1100))

    def paused(self) -> Notice:
        w = self.world
        self.clear("Anchor")
        job = w.submit("long.gcode")
        build = w.build_of(job)
        w.until("Anchor", MachineState.BUILDING)
        w.client.do(requests.act_on_job(job.id, "withdraw"))
        w.fault("Anchor", "filament-out")
        call = requests.notices(open=True, build=build.id, kind=NoticeKind.BUILD_PAUSED)
        return eventually(lambda: w.client.do(call), "the pause is told")[0]

    def setUp(self) -> None:
        do = self.world.client.do
        for rule in do(requests.notice_rules()):
            do(requests.remove_notice_rule(rule.id))
        for channel in do(requests.channels()):
            if channel.kind is not wc.ChannelKind.PAGE:
                do(requests.remove_channel(channel.id))

    def tearDown(self) -> None:
        self.assertEqual(self.faults, [])

    def test_what_is_open_is_taken_resumed_and_then_found_in_the_history(self) -> None:
        one = self.paused()
        page = self.open("/notices")
        row = page.get_by_role("listitem").filter(has_text="Anchor paused itself: filament ran out")
        expect(row.get_by_role("img", name="hands are needed")).to_be_visible()
        row.get_by_role("button", name="I'm going").click()
        expect(row).to_contain_text("Maud goes")
        row.get_by_role("button", name="Nobody goes after all").click()
        expect(row).not_to_contain_text("Maud goes")
        row.get_by_role("button", name="Stop it").click()
        expect(page.get_by_role("dialog")).to_contain_text("What was laid down so far is lost")
        page.get_by_role("button", name="Cancel").click()
        row.get_by_role("button", name="whom it reached").click()
        expect(row).to_contain_text("told")
        row.get_by_role("button", name="Resume").click()
        expect(row).to_have_count(0)
        both = [page.get_by_role("button", name="All, with what is over"), page.get_by_label("Gravity")]
        page.evaluate(AT_ONCE, [one.element_handle() for one in both])
        page.get_by_label("Search notices").fill("filament ran")
        rows = page.get_by_role("main").get_by_role("listitem")
        expect(rows.first).to_contain_text("Anchor paused itself: filament ran out")
        expect(rows.first).to_contain_text("over")
        expect(page).to_have_url(re.compile(r"all=1.*least=act.*search=filament"))
        rows.first.get_by_role("link").click()
        expect(page).to_have_url(re.compile(f"/builds/{one.build}$"))
        small = self.open("/notices?all=1", width=390, height=844)
        expect(small.get_by_role("main").get_by_role("listitem").first).to_be_visible()
        self.assertLessEqual(small.evaluate("document.documentElement.scrollWidth"), 390)

    def test_somebody_is_mailed_by_a_rule_that_was_tried_first(self) -> None:
        page = self.open("/notices/rules")
        expect(page.get_by_text("Nothing is set: you hear on this page")).to_be_visible()
        page.get_by_role("button", name="Add a mail address").click()
        page.get_by_role("textbox", name="Address").fill("pages@shop.example")
        page.get_by_role("textbox", name="Name").fill("work mail")
        page.get_by_role("button", name="Add", exact=True).click()
        expect(page.get_by_text("pages@shop.example")).to_be_visible()
        expect(page.get_by_text("Over work mail", exact=True)).to_be_visible()
        page.get_by_role("button", name="Test", exact=True).click()
        expect(page.get_by_text("The test arrived")).to_be_visible()
        self.assertTrue(mails(self.world, "pages@"))
        page.get_by_role("button", name="Log", exact=True).click()
        expect(page.get_by_role("dialog")).to_contain_text("a test, nothing has happened")
        page.keyboard.press("Escape")
        page.get_by_role("button", name="Add a rule").click()
        dialog = page.get_by_role("dialog")
        expect(dialog).to_contain_text("In the last week it would have told of")
        dialog.get_by_label("Name").fill("Mornings")
        dialog.get_by_label("How grave at least").select_option(label="anything")
        dialog.get_by_label("a build ends").check()
        dialog.get_by_label("a build has come so far").check()
        dialog.get_by_label("At so many percent").fill("25, 75")
        dialog.get_by_label("Machines", exact=True).select_option(label="Anchor")
        expect(dialog.get_by_label("Pools", exact=True)).to_be_disabled()
        dialog.get_by_label("Without Anchor").click()
        dialog.get_by_label("Machines", exact=True).select_option(label="Anchor")
        dialog.get_by_label("work mail").check()
        dialog.get_by_role("button", name="Once a day").click()
        dialog.get_by_label("Told at").fill("07:30")
        dialog.get_by_text("Quiet hours").click()
        dialog.get_by_role("button", name="Tell somebody else").click()
        dialog.get_by_label("Who is told then").select_option(label="another person")
        dialog.get_by_label("What they sign in with").fill(PERSON)
        dialog.get_by_role("button", name="Add", exact=True).click()
        expect(dialog).to_be_hidden()
        line = page.get_by_role("listitem").filter(has_text="Mornings")
        expect(line).to_contain_text("every day at 07:30; 22:00–07:00 only what is urgent")
        found = next(r for r in self.world.client.do(requests.notice_rules()) if r.rule.name == "Mornings")
        self.assertEqual((found.person, found.rule.least, found.rule.pace), (PERSON, Gravity.NOTE, Pace.DAILY))
        self.assertEqual(set(found.rule.kinds), {NoticeKind.BUILD_ENDED, NoticeKind.PROGRESS})
        self.assertEqual((found.rule.machines, found.rule.pools), (("Anchor",), ()))
        self.assertEqual((found.rule.percent, found.rule.next_steps[0].person), ((25, 75), PERSON))
        line.get_by_role("button", name="Turn off").click()
        expect(line).to_contain_text("off")
        line.get_by_role("button", name="Remove").click()
        expect(line).to_have_count(0)
        page.get_by_role("button", name="Put it back").click()
        expect(line).to_have_count(1)
        small = self.open("/notices/rules", width=390, height=844)
        expect(small.get_by_text("Over work mail", exact=True)).to_be_visible()
        self.assertLessEqual(small.evaluate("document.documentElement.scrollWidth"), 390)

    def test_a_link_of_a_mail_shows_what_it_does_and_does_it_when_pressed(self) -> None:
        w = self.world
        asked = wc.NewChannel(person=PERSON, kind=wc.ChannelKind.MAIL, name="link", address="link@shop.example")
        w.client.do(requests.add_channel(asked))
        one = self.paused()
        mail = eventually(
            lambda: [m for m in mails(w, "link@") if "filament ran out" in m["text"]], "a mail tells of it"
        )[-1]
        link = next(url for url in re.findall(r"Resume: (\S+)", mail["text"]))
        path = link.removeprefix(w.address)
        page = self.open(path, signed_in=False, width=390, height=844)
        expect(page.get_by_text("Nothing happens before you press.")).to_be_visible()
        expect(page.get_by_text("it goes on with the very next line")).to_be_visible()
        self.assertIs(w.state("Anchor"), MachineState.PAUSED)
        page.get_by_role("button", name="Resume").click()
        expect(page.get_by_role("status")).to_contain_text("is building")
        w.until("Anchor", MachineState.BUILDING)
        again = self.open(path, signed_in=False)
        expect(again.get_by_role("status")).to_contain_text("it works once")
        expect(again.get_by_role("button", name="Resume")).to_have_count(0)
        forged = self.open("/act#nonsense", signed_in=False)
        expect(forged.get_by_role("alert")).to_contain_text("not one of ours")
        self.assertEqual(one.machine, "Anchor")

    def test_a_browser_is_reached_while_no_page_is_open(self) -> None:
        w = self.world
        keys = w.http.get("/push/browser/keys").json()
        given = {"endpoint": f"http://127.0.0.1:{w.standins_port}/push/browser", "keys": keys}
        page = self.open("/notices/rules")
        page.context.grant_permissions(["notifications"])
        # the push service of a browser's maker is out in the internet; ours stands for it
        page.evaluate("(given) => { PushManager.prototype.subscribe = async () => ({ toJSON: () => given }); }", given)
        page.get_by_role("button", name="Reach me here while no page is open").click()
        expect(page.get_by_text("This browser is one of your ways now.")).to_be_visible()
        self.paused()
        sent = eventually(lambda: w.http.get("/push/browser").json(), "it is pushed")
        worker = page.context.service_workers[0]
        worker.evaluate(KEEP_SHOWN)
        devtools, workers = page.context.new_cdp_session(page), list[str]()

        def note(event: dict[str, Any]) -> None:
            workers.extend(one["registrationId"] for one in event["registrations"])

        devtools.on("ServiceWorker.workerRegistrationUpdated", note)
        devtools.send("ServiceWorker.enable")
        eventually(lambda: page.wait_for_timeout(50) or workers, "the browser has the worker")
        devtools.send("ServiceWorker.deliverPushMessage", {
            "origin": w.address, "registrationId": workers[0], "data": json.dumps(sent[-1]),
        })  # fmt: skip
        shown = eventually(lambda: page.wait_for_timeout(50) or worker.evaluate("self.shown[0]"), "it is shown")
        self.assertIn("filament ran out", shown["body"])
        self.assertEqual(shown["acts"], ["I'm going", "Resume"])

    def test_the_shops_mail_server_and_webhooks_are_set_up(self) -> None:
        page = self.open("/setup")
        low = page.get_by_label("A spool is low below, g")
        low.fill("75")
        low.press("Enter")
        eventually(lambda: self.world.client.do(requests.notice_settings()).spool_low_g == 75, "it is set")
        mail = self.world.client.do(requests.notice_settings()).mail
        self.assertTrue(mail and mail.has_password, "the password stays")
        page.get_by_role("button", name="Add a webhook").click()
        page.get_by_role("textbox", name="URL").fill(hook_address(self.world, "pages"))
        page.get_by_role("textbox", name="Name").fill("office")
        page.get_by_role("button", name="Add", exact=True).click()
        expect(page.get_by_role("dialog")).to_contain_text("whsec_")
        page.get_by_role("button", name="I have it").click()
        expect(page.get_by_text("Over office", exact=True)).to_be_visible()
        page.get_by_role("button", name="Test", exact=True).click()
        expect(page.get_by_text("The test arrived")).to_be_visible()
        self.assertIn("notice.test", hooked(self.world, "pages")[0]["body"])

    def test_the_shop_joins_a_chat_and_somebody_is_told_there(self) -> None:
        folder = tempfile.TemporaryDirectory(ignore_cleanup_errors=True)
        self.addCleanup(folder.cleanup)
        server = ChatServer(Path(folder.name))
        shop, maud = server.add("prints", "of the shop"), server.add("maud", "of Maud")
        server.start()
        self.addCleanup(server.stop)
        page = self.open("/setup")
        form = page.locator("form").filter(has=page.get_by_label("The shop's chat address"))
        page.get_by_label("The shop's chat address").fill(shop)
        page.get_by_label("Its password").fill("wrong")
        page.get_by_label("Chat server, where the address does not say it").fill("127.0.0.1")
        page.get_by_label("Its port").fill(str(server.port))
        page.get_by_label("Chat kept secret by").select_option(label="nothing")
        form.get_by_role("button", name="Set", exact=True).click()
        expect(page.get_by_text("Not in the chat:")).to_contain_text("address or password is wrong")
        page.get_by_label("Its password").fill("of the shop")
        form.get_by_role("button", name="Set", exact=True).click()
        expect(page.get_by_text(f"It is signed in as {shop}.")).to_be_visible()
        page.goto(f"{self.world.address}/notices/rules")
        page.get_by_role("button", name="Add a chat address").click()
        page.get_by_role("textbox", name="Address").fill(maud)
        page.get_by_role("button", name="Add", exact=True).click()
        expect(page.get_by_text(maud)).to_be_visible()
        page.get_by_role("button", name="Test", exact=True).click()
        expect(page.get_by_text("The test arrived")).to_be_visible()
        page.goto(f"{self.world.address}/setup")
        page.get_by_label("The shop's chat address").fill("")
        page.get_by_role("button", name="Chat no more").click()
        eventually(lambda: page.wait_for_timeout(50) or not self.settings().chat, "the account is forgotten")

    def settings(self) -> wc.NoticeSettings:
        return self.world.client.do(requests.notice_settings())
