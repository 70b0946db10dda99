"""Links do not point at the service itself; what people and machines write never steers a terminal; a
command that is used wrongly says so in one sentence."""

from __future__ import annotations

import json
import os
import pty
import unittest
from pathlib import Path

import httpx
from websockets.sync.client import connect

from chronarch.client import requests
from chronarch.core.plain import plain
from chronarch.records.ports import free_port
from chronarch.wire.library import FileChange, NewPart
from tests.support import processes
from tests.support.gcode import squares
from tests.support.processes import run
from tests.support.world import MODEL, WorldCase, eventually

ESCAPES = "\x1b]0;owned\x07\x1b[31m\x9b2J‮ [bold]x[/]"
"""Sets a title, colours, clears the screen, turns the reading round; and what looks like markup."""


class Addresses(WorldCase):
    @classmethod
    def prepare(cls) -> None:
        cls.world.start_service()
        cls.world.add_machines()

    def ask(self, link: str) -> httpx.Response:
        order = {"name": "Odd", "model": MODEL, "link": link}
        heads = {"Authorization": f"Bearer {self.world.key}"}
        return httpx.post(f"{self.world.address}/api/machines", json=order, headers=heads, timeout=60)

    def test_nothing_points_at_the_service_its_database_or_the_segment(self) -> None:
        w, database = self.world, self.world.server.port
        rows = (
            (f"tcp://127.0.0.1:{w.port}", "service itself"),
            (f"tcp://localhost:{w.port}", "service itself"),
            (f"tcp://[::ffff:127.0.0.1]:{w.port}", "service itself"),
            (f"tcp://0.0.0.0:{w.port}", "service itself"),
            (f"tcp://127.1:{w.port}", "service itself"),
            (f"tcp://2130706433:{w.port}", "service itself"),
            (f"rfc2217://127.0.0.1:{database}", "database"),
            (f"mqtt://127.0.0.9:{database}/Odd", "database"),
            ("tcp://169.254.169.254:80", "link-local"),
            ("tcp://[fe80::1]:7101", "link-local"),
            ("tcp://[::ffff:169.254.1.1]:7101", "link-local"),
            ("tcp://224.0.0.1:7101", "group"),
        )
        for link, why in rows:
            with self.subTest(link=link):
                answer = self.ask(link)
                self.assertEqual(answer.status_code, 422, answer.text)
                self.assertIn(why, answer.json()["detail"])
        self.assertEqual(self.ask(f"tcp://127.0.0.1:{free_port()}").status_code, 201)


class Terminals(WorldCase):
    @classmethod
    def prepare(cls) -> None:
        w = cls.world
        w.start_service()
        w.add_machines()
        w.add_file("piece.gcode", squares(layers=2))
        w.client.do(requests.change_file(1, FileChange(notes=f"notes {ESCAPES}")))
        w.client.do(requests.add_part(NewPart(name="clip", notes=ESCAPES, files=[1])))

    def on_a_terminal(self, *arguments: str) -> str:
        """What a command writes to a terminal of its own."""
        ours, theirs = pty.openpty()
        with open(ours, "rb", buffering=0) as out, open(theirs, "wb", buffering=0) as end:  # noqa: PTH123
            environment = {**self.world.environment, "TERM": "xterm-256color", "COLUMNS": "200"}
            process = processes.start(*arguments, env=environment, out=end)
            said = b""
            os.set_blocking(ours, False)

            def ended() -> bool:
                nonlocal said
                while piece := out.read(65536):
                    said += piece
                return process.poll() is not None

            eventually(ended, f"{arguments} has ended", 60)
            ended()
        return said.decode()

    def test_what_people_wrote_does_not_steer_the_terminal(self) -> None:
        for command in (("files", "show", "1"), ("parts", "show", "clip"), ("files", "list"), ("parts", "list")):
            with self.subTest(command=command):
                said = self.on_a_terminal(*command)
                self.assertIn("piece" if command[0] == "files" else "clip", said)
                for bad in ("\x1b]0;", "\x07", "\x1b[31m", "\x9b", "‮"):
                    self.assertNotIn(bad, said)
        said = self.on_a_terminal("files", "show", "1")
        self.assertIn("\\x1b]0;owned\\x07\\x1b[31m\\x9b2J\\u202e [bold]x[/]", said)

    def test_a_file_that_is_printed_does_not_steer_it_either(self) -> None:
        path = self.world.folder / "odd.gcode"
        path.write_text("; \x1b]0;owned\x07\n" + squares(layers=1))
        self.world.client.add_file(path)
        said = self.on_a_terminal("files", "get", "odd.gcode", "--to", "-")
        self.assertIn("\\x1b]0;owned\\x07", said)
        self.assertNotIn("\x1b", said)
        piped = run("files", "get", "odd.gcode", "--to", "-", env=self.world.environment)
        self.assertEqual(piped.stdout, path.read_text(), "into a pipe it goes as it is")

    def test_what_a_wrong_argument_holds_does_not_steer_it_either(self) -> None:
        said = self.on_a_terminal("machines", "show", f"No{ESCAPES}?#")
        self.assertIn("There is no", said)
        for bad in ("\x1b]0;", "\x07", "\x9b", "‮"):
            self.assertNotIn(bad, said)

    def test_the_services_log_holds_no_control_characters(self) -> None:
        w, log = self.world, self.world.folder / "service.log"
        order = {"name": "Odd", "model": MODEL, "link": f"tcp://127.0.0.1:{free_port()}"}
        heads = {"Authorization": f"Bearer {w.key}"}
        tender = "shed\x9b31m"
        made = httpx.post(f"{w.address}/api/machines", json=order, params={"tender": tender}, headers=heads, timeout=60)
        self.assertEqual(made.status_code, 201, made.text)
        heads = {"Authorization": f"Bearer {w.tender_key}"}
        with connect(w.address.replace("http", "ws") + "/api/tender", additional_headers=heads, proxy=None) as socket:
            socket.send(json.dumps({"kind": "hello", "tender": tender, "epoch": "x"}))
            socket.send("nonsense")
            eventually(lambda: "shed\\x9b31m" in log.read_text(), "what it said badly is in the log")
        self.assertNotIn("\x9b", log.read_text())


class WrongUse(WorldCase):
    @classmethod
    def prepare(cls) -> None:
        cls.world.start_service()

    def test_each_ends_with_one_sentence_and_its_code(self) -> None:
        w = self.world
        away = f"mysql+asyncmy://root@127.0.0.1:{free_port()}/nothing"
        rows: tuple[tuple[tuple[str, ...], dict[str, str], int, str], ...] = (
            (("machines", "list"), {"CHRONARCH_KEY": "schlüssel"}, 2, "copy it again"),
            (("machines", "list"), {"CHRONARCH_KEY": "line\nbreak"}, 2, "copy it again"),
            (("machines", "list"), {"CHRONARCH_ADDRESS": "http://127.0.0.1:99999"}, 2, "http://HOST:PORT"),
            (("machines", "list"), {"CHRONARCH_ADDRESS": "nonsense"}, 2, "http://HOST:PORT"),
            (("machines", "list"), {"CHRONARCH_ADDRESS": f"http://127.0.0.1:{free_port()}"}, 3, "is it running"),
            (("machines", "move", "Anchor", "--x", "nan"), {}, 2, "not a number"),
            (("jobs", "submit", "piece.gcode", "--nozzle", "inf"), {}, 2, "not a number"),
            (("service", "run", "--port", "70000"), {}, 2, "70000"),
            (("standins", "run", "--port", "0"), {}, 2, "0"),
            (("standins", "run", "--machine", "A:7101", "--rate", "nan"), {}, 2, "rate"),
            (("demo", "run", "--folder", str(w.folder / "demo"), "--rate", "0"), {}, 2, "rate"),
            (("spools", "add", "PLA", "teal", "--grams", "nan"), {}, 2, "--grams"),
            (("spools", "weigh", "1", "--", "-5"), {}, 2, "grams_left"),
            (("builds", "show", "²"), {}, 1, "no machine named"),
            (("files", "bin", "²"), {}, 1, "no file"),
            (("what-if", "--more", "²", "Lantern 220"), {}, 2, "is no number"),
            (("orders", "add", "Loomfield", "clip=²"), {}, 2, "how many"),
            (("service", "run", "--host", "0.0.0.0"), {}, 2, "--beyond-loopback"),
            (
                ("service", "run", "--port", str(free_port())),
                {"CHRONARCH_DATABASE": away},
                3,
                "database does not answer",
            ),
            (("service", "make-key", "x"), {"CHRONARCH_DATABASE": away}, 3, "database does not answer"),
            (
                ("service", "add-person", "ann", "--password-stdin"),
                {"CHRONARCH_DATABASE": away},
                3,
                "database does not",
            ),
            (("service", "make-key", "x" * 200), {}, 1, "cannot hold"),
            (("service", "make-key", "x"), {"CHRONARCH_DATABASE": "nonsense"}, 2, "CHRONARCH_DATABASE"),
            (("service", "make-key", "x"), {"CHRONARCH_DATABASE": "odd+thing://x/y"}, 2, "CHRONARCH_DATABASE"),
            (("service", "make-key", "x"), {"CHRONARCH_LARGEST_FILE": "much"}, 2, "CHRONARCH_LARGEST_FILE"),
            (("service", "make-key", "x"), {"CHRONARCH_CLOCK": "noon"}, 2, "clock"),
            (("service", "add-person", "a/b", "--password-stdin"), {}, 2, "not allowed"),
            (("tender", "run", "--folder", str(w.folder / "t")), {"CHRONARCH_TENDER_KEY": "schlüssel"}, 2, "copy it"),
            (("links", "probe", "tcp://127.0.0.1:70000"), {}, 2, "port"),
        )
        for command, more, code, words in rows:
            with self.subTest(command=command, more=more):
                done = run(*command, env={**w.environment, **more}, stdin="a long password\n")
                self.assertEqual(done.returncode, code, done.stdout + done.stderr)
                self.assertIn(words, done.stderr)
                self.assertNotIn("Traceback", done.stderr)

    def test_beyond_loopback_it_runs_when_that_is_meant_and_says_what_it_means(self) -> None:
        w, port, log = self.world, free_port(), self.world.folder / "open.log"
        with log.open("wb") as out:
            command = ("service", "run", "--host", "0.0.0.0", "--port", str(port), "--beyond-loopback")
            process = processes.start(*command, env=w.environment, out=out)
        try:
            eventually(lambda: self.answers(port), "it serves")
            self.assertIn("not encrypted", Path(log).read_text())
        finally:
            process.send_signal(15)
            process.wait()

    def answers(self, port: int) -> bool:
        try:
            return httpx.get(f"http://127.0.0.1:{port}/api/me", timeout=5).status_code == 401
        except httpx.TransportError:
            return False


class Plain(unittest.TestCase):
    def test_only_what_moves_hides_or_turns_is_changed(self) -> None:
        for text in ("Pärt 3 – 0,4 mm °C", "one\ntwo\tthree", "日本 ½ 🙂", ""):
            self.assertEqual(plain(text), text)
        self.assertEqual(plain("a\x1b[2Jb\rc\x85⁦\u200b"), "a\\x1b[2Jb\\rc\\x85\\u2066\\u200b")
        self.assertEqual(plain("\0"), "\\x00")


if __name__ == "__main__":
    unittest.main()
