"""`chronarch notices` and `chronarch channels`: who hears of what, over what, and what is done about it."""

from __future__ import annotations

import json
import subprocess

from chronarch.client import requests
from chronarch.core.machines.states import MachineState
from chronarch.core.notices.kinds import NoticeKind
from tests.support import processes
from tests.support.gcode import squares
from tests.support.inbox import hook_address, mails
from tests.support.world import MAIL_LOGIN, PERSON, WorldCase, eventually


class NoticeCommands(WorldCase):
    def run_(self, *arguments: str) -> subprocess.CompletedProcess[str]:
        return processes.run(*arguments, env=self.world.environment, within_s=120)

    def says(self, *arguments: str) -> str:
        done = self.run_(*arguments)
        self.assertEqual(done.returncode, 0, done.stderr)
        return done.stdout

    def refuses(self, *arguments: str, code: int = 1) -> str:
        done = self.run_(*arguments)
        self.assertEqual(done.returncode, code, done.stdout + done.stderr)
        return done.stderr

    def test_a_notice_is_found_taken_and_dealt_with(self) -> None:
        w = self.world
        w.add_file("long.gcode", squares(layers=20, rounds=90, feed=1100))
        job = w.submit("long.gcode")
        build = w.build_of(job)
        w.until("Anchor", MachineState.BUILDING)
        w.fault("Anchor", "filament-out")
        call = requests.notices(open=True, build=build.id, kind=NoticeKind.BUILD_PAUSED)
        number = str(eventually(lambda: w.client.do(call), "the pause is told")[0].id)
        listed = self.says("notices", "list", "--open", "--least", "act", "--search", "filament")
        self.assertIn("Anchor paused itself: filament ran out", listed)
        found = json.loads(self.says("notices", "list", "--build", str(build.id), "--json"))
        self.assertIn(int(number), [n["id"] for n in found])
        self.assertIn("the others are told that you go", self.says("notices", "take", number).lower())
        self.assertIn("goes already", self.refuses("notices", "take", number))
        shown = self.says("notices", "show", number)
        self.assertIn("resume, stop", shown)
        self.assertIn("Nobody goes", self.says("notices", "give-back", number))
        self.assertIn("closes by itself", self.refuses("notices", "close", number))
        self.assertIn("Done: resume", self.says("notices", "act", number, "resume"))
        self.assertIn("There is no notice 99999", self.refuses("notices", "show", "99999"))
        self.assertIn("machine-down", self.says("notices", "kinds"))
        w.client.do(requests.act_on_job(job.id, "withdraw"))

    def test_a_mail_address_a_rule_and_a_test(self) -> None:
        w = self.world
        login, _, password = MAIL_LOGIN.partition(":")
        self.assertIn("none", self.says("channels", "settings"))
        said = self.says(
            "channels", "mail-server", "127.0.0.1", "--port", str(w.smtp_port), "--security", "none", "--login", login,
            "--password", password, "--sender", "prints@shop.example",
        )  # fmt: skip
        self.assertIn("channels add mail", said)
        self.says("channels", "settings", "--address", w.address, "--local-webhooks", "--spool-low", "50")
        shown = self.says("channels", "settings")
        for words in (w.address, f"127.0.0.1:{w.smtp_port} (none) as prints", "allowed", "below 50 g"):
            self.assertIn(words, shown)
        self.assertNotIn(password, shown)
        self.assertIn("is no mail address", self.refuses("channels", "add", "mail", "nonsense", "--person", PERSON))
        self.assertIn("nobody who signs in", self.refuses("channels", "add", "mail", "a@b.example", "--person", "x"))
        made = self.says("channels", "add", "mail", "cli@shop.example", "--person", PERSON, "--name", "work mail")
        number = made.split()[1]
        self.assertIn("Arrived", self.says("channels", "test", number))
        self.assertTrue(mails(w, "cli@shop.example"))
        self.assertIn("taken", self.says("channels", "log", number))
        rules = self.says("notices", "rules")
        self.assertIn("Over work mail", rules)
        added = self.says(
            "notices", "add-rule", "--person", PERSON, "--name", "Nights", "--kind", "build-ended", "--over", number,
            "--daily", "08:00", "--quiet", "22:00-07:00", "--next", "10", PERSON,
        )  # fmt: skip
        rule = added.split()[1]
        rules = self.says("notices", "rules")
        for words in ("Nights", "at 08:00, quiet 22:00–07:00", f"after 10 min {PERSON}"):
            self.assertIn(words, rules)
        self.says("notices", "change-rule", rule, "--hours", "06:00-20:00", "--days", "mon,sat", "--quiet", "none")
        self.assertIn("06:00–20:00 mon sat", self.says("notices", "rules"))
        self.says("notices", "change-rule", rule, "--off")
        self.assertIn("off", self.says("notices", "rules"))
        for bad, why in (
            (("--days", "mun"), "names days like"),
            (("--quiet", "late"), "is a span like"),
            (("--daily", "8"), "daily_at"),
            (("--hours", "23:00-23:30", "--quiet", "22:00-07:00"), "would never speak"),
        ):
            self.assertIn(why, self.refuses("notices", "add-rule", "--person", PERSON, *bad, code=2))
        self.assertIn("it would have told of", self.says("notices", "try-rule", "--person", PERSON))
        self.assertIn("removed", self.says("notices", "remove-rule", rule))
        self.assertIn("removed", self.says("channels", "remove", number))

    def test_a_webhook_shows_its_secret_once_and_what_was_given_up_is_sent_again(self) -> None:
        w = self.world
        self.says("channels", "settings", "--local-webhooks")
        made = self.says("channels", "add", "webhook", hook_address(w, "cli"))
        number = made.split()[1]
        self.assertIn("whsec_", made)
        self.assertIn("whsec_", self.says("channels", "new-secret", number))
        listed = self.says("channels", "list")
        self.assertIn("/hooks/cli", listed)
        self.assertNotIn("whsec_", listed)
        self.assertIn("Nothing was given up", self.says("channels", "again", number))
        self.assertIn("off", self.says("channels", "change", number, "--off"))
        nowhere = self.says("channels", "add", "webhook", "http://127.0.0.1:1/nothing").split()[1]
        done = self.run_("channels", "test", nowhere)
        self.assertEqual(done.returncode, 1)
        self.assertIn("Did not arrive", done.stdout)

    def test_a_chat_account_is_set_up_and_told_why_it_does_not_arrive(self) -> None:
        said = self.says(
            "channels", "chat-account", "prints@chat.shop.example", "--host", "127.0.0.1", "--port", "1",
            "--password", "of the chat",
        )  # fmt: skip
        self.assertIn("channels add chat", said)
        self.assertIn("is no chat address", self.refuses("channels", "chat-account", "nobody"))
        made = self.says("channels", "add", "chat", "Maud@chat.shop.example", "--person", PERSON)
        self.assertIn("maud@chat.shop.example", made)
        tried = self.run_("channels", "test", made.split()[1])
        self.assertEqual(tried.returncode, 1)
        self.assertIn("chat server of prints@chat.shop.example", tried.stdout)
        shown = self.says("channels", "settings")
        self.assertIn("prints@chat.shop.example (starttls, by 127.0.0.1:1), not in the chat:", shown)
        self.assertNotIn("of the chat", shown)
        self.assertIn("Chat account: none", self.says("channels", "settings", "--without", "chat"))
        self.says("channels", "remove", made.split()[1])
