"""A shop's set-up as a file: written, applied, applied again, and taken to another shop."""

from __future__ import annotations

import re
import tomllib
from decimal import Decimal
from pathlib import Path
from typing import Any

from chronarch.client import RefusedByService, requests
from chronarch.core.ledger.costs import RateKind
from chronarch.core.machines.states import Intake
from chronarch.core.watching.camera_settings import CameraSettings
from chronarch.wire.ledger.costs import NewRate
from chronarch.wire.notices.channels import ChannelKind, MailServer, NewChannel, NoticeSettingsUpdate
from chronarch.wire.planning.settings import SiteHours, StaffedMinutes
from chronarch.wire.watching.cameras import NewCamera
from tests.support import processes
from tests.support.restoring import give_place
from tests.support.world import MODEL, World, WorldCase, eventually

EDITS = (
    ('name = "A shop for tests"', 'name = "Brass & Sons"'),
    ('currency = "EUR"', 'currency = "CHF"'),
    ("clear_min = 3", "clear_min = 7.5"),
    ('"08:00-12:00"', '"07:30-12:00"'),
    ("cold_extrusion_c = 0", "cold_extrusion_c = 0\nbed_ceiling_c = 95"),
    ('place = "A2"', 'place = "B1"\npools = ["steady"]'),
    ('price = "24.9"', 'price = "26.50"'),
    ("monthly = 12", "monthly = 3"),
    ('place = "over the door"', 'place = "over the shelf"'),
    ("turn = 90", "turn = 180"),
    ("spool_low_g = 100", "spool_low_g = 150"),
    ("port = 587", "port = 465"),
    ('name = "office"', 'name = "front desk"'),
)
WRONG = (
    ("[shop]\n= 1", "not TOML: .* line 2"),
    ("[shop]\nnmae = 'x'", r"shop\.nmae|nmae"),
    ("[[hours]]\nmon = ['8-12']", "hours.*mon"),
    ("[[hours]]\nmon = ['12:00-08:00']", "end .* before they begin"),
    ("[[hours]]\nzone = 'Europe/Atlantis'", "no time zone"),
    ("[[machines]]\nname='Bezel'\nmodel='None such'\nlink='tcp://127.0.0.1:1'", "no model named 'None such'"),
    ("[[machines]]\nname='Anchor'\nmodel='{model}'\nlink='tcp://127.0.0.1:1'\ntender='shed'", "tender is .* stays so"),
    ("[[machines]]\nname='Bezel'\nmodel='{model}'\nlink='mqtt://shop:…@127.0.0.1/Bezel'", "passwords are not written"),
    ("[[prices]]\nkind='material'\nprice='-1'", "price"),
    ("[backups]\ndaily = 0.5", "daily"),
    ("[[cameras]]\nname='A'\nmachine='None such'\naddress='http://127.0.0.1:1/a'", "no machine named 'None such'"),
    ("[[cameras]]\nname='A'\nmachine='Anchor'\naddress='http://127.0.0.1:1/a?key=…'", "passwords are not written"),
    ("[[cameras]]\nname='Door'\ntender='shed'\naddress='{camera}'", "its tender stays"),
    ("[[cameras]]\nname='A'\naddress='http://127.0.0.1:1/a'", "say which machine it looks at"),
    ("[[channels]]\nkind='mail'\naddress='nobody'", "nobody"),
    ("[[channels]]\nkind='webhook'\naddress='http://127.0.0.1:1/'", "channels"),
    (2 * "[[channels]]\nkind='mail'\naddress='a@shop.example'\n", "is there twice"),
    ("[notices]\nwithout = ['mail']", "without"),
)  # fmt: skip


DOOR = NewCamera(
    name="Door", address="http://127.0.0.1:7999/door.jpg", login="shop", password="a word", place="over the door",
    tender="tender", settings=CameraSettings(turn=90),
)  # fmt: skip


class SetupFiles(WorldCase):
    own_database = True

    @classmethod
    def prepare(cls) -> None:
        super().prepare()
        do = cls.world.client.do
        day, dark = [StaffedMinutes(begin="08:00", end="12:00"), StaffedMinutes(begin="13:00", end="17:00")], []
        week = [day, [], [], [], [], [], dark]
        do(requests.set_hours(SiteHours(zone="Europe/Lisbon", week=week, people=2)))
        do(requests.set_cost_rate(NewRate(kind=RateKind.MATERIAL, subject="PLA", price=Decimal("24.90"))))
        do(requests.change_machine("Anchor", place="A2"))
        do(requests.add_camera(DOOR))
        mail = MailServer(host="mail.shop.example", port=587, sender="prints@shop.example", password="open sesame")
        do(requests.change_notice_settings(NoticeSettingsUpdate(mail=mail)))
        do(
            requests.add_channel(
                NewChannel(person="", kind=ChannelKind.MAIL, name="office", address="office@shop.example")
            )
        )
        give_place(cls.world)

    def shell(self, world: World, *words: str, code: int = 0) -> str:
        done = processes.run("setup", *words, env=world.environment)
        self.assertEqual(done.returncode, code, done.stdout + done.stderr)
        return done.stdout if code == 0 else done.stderr

    def file(self, text: str) -> str:
        path = self.world.folder / "shop.toml"
        path.write_text(text)
        return str(path)

    def exported(self, world: World) -> dict[str, Any]:
        return tomllib.loads(self.shell(world, "export"))

    def test_what_is_written_changes_nothing_and_what_is_edited_changes_once(self) -> None:
        w, do = self.world, self.world.client.do
        path = w.folder / "written.toml"
        self.shell(w, "export", str(path))
        self.assertIn("All is as the file says", self.shell(w, "apply", str(path)))
        text = path.read_text()
        for old, new in EDITS:
            self.assertEqual(text.count(old), 1, old)
            text = text.replace(old, new)
        before, edited = self.exported(w), self.file(text)
        would = self.shell(w, "apply", edited, "--dry-run")
        for line in ("name: A shop for tests → Brass & Sons", "currency: EUR → CHF", r"clear_min: 3 → 7\.5",
                     "mon: 08:00-12:00, .* → 07:30-12:00", "bed_ceiling_c: 110 → 95",
                     "place: A2 → B1; pools: nothing → steady", "price of PLA +price: 24.9 → 26.5",
                     "monthly: 12 → 3", "place: over the door → over the shelf; settings turn: 90 → 180",
                     "spool_low_g: 100 → 150; mail port: 587 → 465",
                     "channel office@shop.example +name: office → front", "would change; nothing was"):  # fmt: skip
            self.assertRegex(would, line)
        self.assertEqual(self.exported(w), before)

        do(requests.change_machine("Anchor", intake=Intake.CLOSED))
        self.assertIn("things changed", self.shell(w, "apply", edited))
        self.assertEqual(do(requests.shop()).name, "Brass & Sons")
        self.assertEqual(do(requests.cost_settings()).currency, "CHF")
        machine = do(requests.machine("Anchor"))
        self.assertEqual((machine.place, machine.pools, machine.model_detail.bed_ceiling_c), ("B1", ["steady"], 95))
        self.assertEqual((machine.intake, machine.tools[0].material), (Intake.CLOSED, "PLA"), "as people left it")
        eventually(lambda: "Brass" in self.shell(w, "export"), "it is written")
        after = self.exported(w)
        self.assertIn("All is as the file says", self.shell(w, "apply", edited))
        self.assertEqual(self.exported(w), after)
        camera = do(requests.camera("Door"))
        self.assertEqual((camera.place, camera.has_password, camera.settings.turn), ("over the shelf", True, 180))
        mail = do(requests.notice_settings()).mail
        self.assertEqual((mail and mail.port, mail and mail.has_password), (465, True))
        self.shell(w, "apply", str(path))
        self.assertEqual(self.exported(w), before)

    def test_another_shop_becomes_the_same(self) -> None:
        other = World(machines=())
        self.addCleanup(other.close)
        other.start_service()
        text = re.sub(r"(?s)\[backups\].*", "", self.shell(self.world, "export"))
        first = self.shell(other, "apply", self.file(text))
        self.assertRegex(first, f"model {MODEL} +is added")
        self.assertRegex(first, r"machine Anchor +is added, at tcp://127\.0\.0\.1:")
        self.assertIn("All is as the file says", self.shell(other, "apply", self.file(text)))
        told = self.exported(other)
        self.assertEqual(told, {k: v for k, v in self.exported(self.world).items() if k != "backups"})

    def test_what_makes_no_sense_changes_nothing_and_says_where(self) -> None:
        before = self.exported(self.world)
        for text, words in WRONG:
            with self.subTest(text), self.assertRaisesRegex(RefusedByService, words) as refused:
                self.world.client.do(requests.apply_setup_file(text.format(model=MODEL, camera=DOOR.address)))
            self.assertEqual(refused.exception.problem.status, 422)
        self.assertEqual(self.exported(self.world), before)
        self.assertIn("over 800,000 characters", self.shell(self.world, "apply", self.file("#" * 900_000), code=2))
        Path(self.file("")).write_bytes(b"\xff\xfe\x00")
        path = self.world.folder / "shop.toml"
        self.assertIn("is not text", self.shell(self.world, "apply", str(path), code=2))

    def test_first_steps_are_read_from_the_records_skipped_and_taken_up(self) -> None:
        told = self.shell(self.world, "steps")
        done = r"hours .* done +the shop", r"machines .* done +\d machine", r"backups .* done +/"
        for line in (*done, r"spools .* open +chronarch spools add"):
            self.assertRegex(told, line)
        self.assertRegex(self.shell(self.world, "steps", "--skip", "spools"), "spools .* skipped")
        self.assertRegex(self.shell(self.world, "steps", "--take-up", "spools"), "spools .* open")
        self.assertIn('"over": true', self.shell(self.world, "steps", "--over", "--json"))
        self.assertIn("de-DE", self.shell(self.world, "shop", "--dates", "de-DE"))
        self.assertIn("dates", self.shell(self.world, "shop", "--dates", "no language!", code=2))
        self.shell(self.world, "shop", "--dates", "en-GB")

    def test_a_model_is_begun_from_what_it_is(self) -> None:
        def models(code: int, *words: str) -> str:
            done = processes.run("models", *words, env=self.world.environment)
            self.assertEqual(done.returncode, code, done.stdout + done.stderr)
            return done.stdout + done.stderr

        self.assertRegex(models(0, "reference"), r"Delta 200 +200 x 200 x 300 mm .* A delta")
        models(0, "add", "--like", "delta 200", "--name", "Tripod")
        self.assertIn("200 200 300", models(0, "show", "Tripod"))
        self.assertIn("There is no model 'none'", models(1, "add", "--like", "none"))
        self.assertIn("one of both", models(2, "add"))

    def test_what_was_changed_before_a_refusal_is_said(self) -> None:
        links = {"Twin A": "tcp://127.0.0.1:1", "Twin B": f"tcp://127.0.0.1:{self.world.port}"}
        twins = [f"[[machines]]\nname='{name}'\nmodel='{MODEL}'\nlink='{link}'" for name, link in links.items()]
        text = "\n".join(("[planning]\nwalk_min = 9", *twins))
        with self.assertRaisesRegex(RefusedByService, r"machine Twin B: .* is the service itself.*2 of 3 changes are"):
            self.world.client.do(requests.apply_setup_file(text))
        self.assertEqual(self.world.client.do(requests.planning()).walk_min, 9)
