"""Every way in which files come: an address, the service's own drives, hot folders, a slicer's script."""

from __future__ import annotations

import base64
import os
import subprocess
import sys
import time
from pathlib import Path

from chronarch.client import RefusedByService, requests
from chronarch.core.machines.states import Intake, MachineState
from chronarch.core.orders.states import Verdict
from chronarch.wire import library as w
from tests.support import processes
from tests.support.file_host import FileHost
from tests.support.gcode import squares
from tests.support.world import WorldCase, eventually

TEXT = squares(layers=3)


class WaysIn(WorldCase):
    own_database = True

    @classmethod
    def prepare(cls) -> None:
        cls.drive = cls.world.folder / "drive"
        (cls.drive / "looms").mkdir(parents=True)
        cls.other = cls.world.folder / "other"
        cls.other.mkdir()
        folders = str(cls.drive), str(cls.other), "/nowhere at all"
        cls.world.environment["CHRONARCH_FOLDERS"] = os.pathsep.join(folders)
        super().prepare()
        cls.host = FileHost(
            {
                "/files/first%20one.gcode": (200, {}, squares(layers=8).encode()),
                "/files/clip%20one.gcode": (200, {}, TEXT.encode()),
                "/download?id=7": (200, {"Content-Disposition": 'attachment; filename="shuttle.gcode"'}, TEXT.encode()),
                "/moved": (302, {"Location": "/files/clip%20one.gcode"}, b""),
                "/round": (302, {"Location": "/round"}, b""),
                "/inside": (302, {"Location": f"{cls.world.address}/api/shop"}, b""),
                "/page": (200, {"Content-Type": "text/html; charset=utf-8"}, b"<p>Hello</p>"),
                "/letter.gcode": (200, {}, b"Dear sir,\n" * 40),
                "/vast.gcode": (200, {"Content-Length": str(10**13)}, b""),
                "/gone": (410, {}, b""),
                "/short.gcode": (200, {"Content-Length": "9000"}, b"G28\n"),
            }
        )
        cls.addClassCleanup(cls.host.close)

    def setUp(self) -> None:
        self.do = self.world.client.do

    def shell(self, *words: str, code: int = 0) -> str:
        done = processes.run("files", *words, env=self.world.environment)
        self.assertEqual(done.returncode, code, done.stdout + done.stderr)
        return done.stdout if code == 0 else done.stderr

    def fetch(self, path: str, **wish: object) -> w.Dropped:
        asked = w.AddressWish.model_validate({"address": self.host.at(path), **wish})
        return self.world.client.fetch_file(asked)

    def test_a_file_is_fetched_from_an_address(self) -> None:
        found = self.fetch("/files/first%20one.gcode", folder="fetched")
        self.assertEqual((found.file.name, found.file.folder, found.new), ("first one.gcode", "fetched", True))
        self.assertEqual(self.fetch("/download?id=7").file.name, "shuttle.gcode")
        self.assertEqual(self.fetch("/moved", name="again.gcode").file.name, "again.gcode")
        self.assertIn("was there already", self.shell("add", self.host.at("/files/first%20one.gcode")))

    def test_a_login_is_said_to_the_host_and_to_nobody_else(self) -> None:
        leads = FileHost({"/away": (307, {"Location": self.host.at("/moved")}, b"")})
        self.addCleanup(leads.close)
        address = leads.at("/away").replace("http://", "http://tilda:a%20word@")
        self.world.client.fetch_file(w.AddressWish(address=address, name="locked.gcode"))
        self.assertEqual(leads.logins, [f"Basic {base64.b64encode(b'tilda:a word').decode()}"])
        self.assertEqual(self.host.logins[-2:], ["", ""], "not to where it leads")
        self.assertNotIn("word", self.world.log("service"))

    def test_what_is_no_file_or_not_where_a_file_can_be_is_refused(self) -> None:
        for path, words in (
            ("/page", "There is a web page at this address"),
            ("/round", "leads elsewhere more than 3 times"),
            ("/inside", "is the service itself"),
            ("/letter.gcode", "not G-code"),
            ("/vast.gcode", "10,000,000,000,000 bytes"),
            ("/gone", "answers 410 Gone"),
            ("/short.gcode", "could not be fetched"),
        ):
            with self.subTest(path), self.assertRaisesRegex(RefusedByService, words):
                self.fetch(path)
        for address, words in (
            ("file:///etc/passwd", "begins with http"),
            ("http://", "begins with http"),
            ("http://169.254.169.254/latest", "link-local|metadata"),
            ("http://no-such-host.invalid/x.gcode", "is not known here"),
            ("http://127.0.0.1:9/x.gcode", "could not be fetched"),
        ):
            with self.subTest(address), self.assertRaisesRegex(RefusedByService, words):
                self.world.client.fetch_file(w.AddressWish(address=address))
        self.assertIn("answers 410", self.shell("add", self.host.at("/gone"), code=1))

    def test_a_file_begins_at_once_on_an_idle_machine_whatever_its_intake(self) -> None:
        world = self.world
        world.intake(Intake.MANUAL)
        self.addCleanup(world.intake, Intake.OPEN)
        self.assertIn("has begun as job", self.shell("add", self.host.at("/download?id=7"), "--start-on", "anchor"))
        build = world.machine("Anchor").build
        assert build is not None
        self.assertEqual(build.file, "shuttle.gcode")
        with self.assertRaisesRegex(RefusedByService, "nothing can begin there now. Queue it instead"):
            self.fetch("/moved", machine="Anchor", now=True)
        with self.assertRaisesRegex(RefusedByService, "on which machine"):
            self.do(requests.drop_from_address(w.AddressWish.model_construct(address=self.host.at("/moved"), now=True)))
        world.until("Anchor", MachineState.UNCLEARED)
        self.do(requests.verdict(build.id, Verdict.GOOD))
        world.until("Anchor", MachineState.IDLE)
        job = self.fetch("/files/clip%20one.gcode", queue=True).job
        assert job is not None
        done = processes.run("machines", "start-next", "Anchor", "--job", str(job), env=world.environment)
        self.assertIn("clip one.gcode", done.stdout)
        with self.assertRaisesRegex(RefusedByService, "Nothing was started: Anchor is not idle"):
            self.do(requests.start_job("Anchor", job))
        world.until("Anchor", MachineState.UNCLEARED)
        self.do(requests.verdict(self.do(requests.builds(job=job))[0].id, Verdict.GOOD))
        world.until("Anchor", MachineState.IDLE)

    def test_files_and_folders_are_taken_from_a_drive_and_nothing_else_is_seen(self) -> None:
        drive = self.drive
        (drive / "looms" / "heddle.gcode").write_text(squares(layers=4))
        (drive / "looms" / "letter.gcode").write_text("Dear sir,\n" * 40)
        (drive / "looms" / "notes.odt").write_text("x")
        (drive / "one.gcode").write_text(squares(layers=5))
        (drive / "away").symlink_to("/etc")
        (drive / "secret.gcode").symlink_to("/etc/passwd")
        self.assertIn(str(drive), self.shell("drives"))
        inside = self.do(requests.drive_entries(str(drive)))
        self.assertEqual([(one.name, one.folder) for one in inside.entries],
                         [("looms", True), ("one.gcode", False)])  # fmt: skip
        self.assertEqual(inside.above, "")
        looms = self.do(requests.drive_entries(inside.entries[-2].path))
        self.assertEqual(
            ([one.name for one in looms.entries], looms.above), (["heddle.gcode", "letter.gcode"], str(drive))
        )
        for path in ("/etc", f"{drive}/../", f"{drive}/away", f"{drive}/secret.gcode", f"{drive}/none", "\0"):
            with (
                self.subTest(path),
                self.assertRaisesRegex(RefusedByService, "not in a folder that may be looked into"),
            ):
                self.do(requests.drive_entries(path))
            with (
                self.subTest(path),
                self.assertRaisesRegex(RefusedByService, "not in a folder that may be looked into"),
            ):
                self.do(requests.drop_from_drive(w.DriveWish(paths=[path])))
        told = self.shell("take", f"{drive}/looms", f"{drive}/one.gcode", "--folder", "from a stick")
        self.assertIn("heddle.gcode: is being read", told)

        def there() -> bool:
            found = {f.name: f.folder for f in self.do(requests.files())}
            return (found.get("heddle.gcode"), found.get("one.gcode")) == ("from a stick/looms", "from a stick")

        eventually(there, "they are in the library")

    def test_a_hot_folder_takes_by_its_rule_or_refuses_with_a_text_that_says_why(self) -> None:
        hot = self.other / "hot"
        hot.mkdir()
        self.assertIn(
            "is looked into", self.shell("hot", "add", str(hot), "--folder", "inbox", "--queue", "--copies", "2")
        )
        with self.assertRaisesRegex(RefusedByService, "is a hot folder already"):
            self.do(requests.add_hot_folder(w.HotFolderRule(path=str(hot))))
        with self.assertRaisesRegex(RefusedByService, "may be looked into"):
            self.do(requests.add_hot_folder(w.HotFolderRule(path="/etc")))
        (hot / "looms").mkdir()
        (hot / "looms" / "treadle.gcode").write_text(squares(layers=6))
        (hot / "letter.gcode").write_text("Dear sir,\n" * 40)
        (hot / "notes.odt").write_text("x")
        growing = hot / "growing.gcode"
        with growing.open("w") as out:
            for line in squares(layers=9).splitlines():
                out.write(line + "\n")
                out.flush()
                time.sleep(0.004)
        says = lambda name: (p := hot / name).exists() and p.read_text()  # noqa: E731
        taken = eventually(lambda: says("taken/treadle.gcode.txt"), "it is taken")
        self.assertRegex(taken, r"as file \d+, treadle\.gcode\. It is queued as job \d+")
        self.assertIn("not G-code", eventually(lambda: says("refused/letter.gcode.txt"), "the letter is refused"))
        self.assertIn(".gcode", eventually(lambda: says("refused/notes.odt.txt"), "the note is refused"))
        eventually(lambda: says("taken/growing.gcode.txt"), "the grown file is taken")
        found = {f.name: f for f in self.do(requests.files())}
        self.assertEqual(
            (found["treadle.gcode"].folder, found["treadle.gcode"].added_by), ("inbox/looms", "hot folder")
        )
        self.assertEqual(found["growing.gcode"].reading.layers, 9)
        self.assertTrue((hot / "taken" / "growing.gcode").exists() and not growing.exists())
        jobs = [job for job in self.do(requests.jobs()) if job.file == "treadle.gcode"]
        self.assertEqual([job.copies for job in jobs], [2])
        (hot / "treadle.gcode").write_text(squares(layers=6))
        self.assertIn("already in the library", eventually(lambda: says("taken/treadle-2.gcode.txt"), "it is told"))
        (rule,) = self.do(requests.hot_folders())
        self.assertRegex(self.shell("hot", "list"), rf"{hot} +inbox +2 queued")
        self.shell("hot", "turn", str(rule.id), "off")
        hot.rename(self.other / "elsewhere")
        self.shell("hot", "list")
        (self.other / "elsewhere").rename(hot)
        self.shell("hot", "turn", str(rule.id), "on")
        hot.rename(self.other / "elsewhere")
        eventually(lambda: "may be looked into" in self.do(requests.hot_folders())[0].trouble, "its trouble is said")
        self.shell("hot", "turn", str(rule.id), "off")
        self.assertIn("stays", self.shell("hot", "remove", str(rule.id)))
        self.assertEqual(self.do(requests.hot_folders()), [])
        for job in self.do(requests.jobs()):
            self.do(requests.act_on_job(job.id, "withdraw"))

    def test_a_slicer_sends_its_file_with_the_script(self) -> None:
        script = self.world.folder / "from_slicer.py"
        self.shell("script", str(script))
        self.assertIn(self.world.address, script.read_text())
        path = self.world.folder / "bobbin.gcode"
        path.write_text(squares(layers=7))

        def send(*words: str, key: str = self.world.operate_key) -> subprocess.CompletedProcess[str]:
            environment = {"PATH": os.environ["PATH"], "CHRONARCH_KEY": key, "HOME": str(self.world.folder)}
            command = [sys.executable, "-I", str(script), *words, str(path)]
            return subprocess.run(command, env=environment, capture_output=True, text=True, timeout=300, check=False)

        done = send("--folder", "sliced", "--name", "bobbin-40.gcode")
        self.assertEqual((done.returncode, done.stdout), (0, "bobbin-40.gcode is in the library.\n"), done.stderr)
        self.assertEqual(self.do(requests.file("bobbin-40.gcode")).folder, "sliced")
        self.assertIn("no machine", send("--start-on", "Nobody").stderr)
        self.assertEqual((done := send(key="wrong")).returncode, 1)
        self.assertIn("key", done.stderr)
        self.assertIn("There is no key", send(key="").stderr)
        path.write_text("Dear sir,\n" * 40)
        self.assertIn("not G-code", send().stderr)

    drive: Path
    other: Path
    host: FileHost
