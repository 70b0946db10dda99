"""The command line as people and programs use it: real processes, their output and exit codes."""

from __future__ import annotations

import csv
import io
import json
import os
import re
import signal
import tempfile
import unittest
from pathlib import Path
from typing import Any

import click

from chronarch.cli.app import COMMANDS, root
from chronarch.client import requests
from chronarch.core.machines.states import MachineState
from chronarch.wire.machines import machine as wm
from tests.support.gcode import squares, write
from tests.support.processes import run, start
from tests.support.world import WorldCase, eventually


class WithoutService(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.env = {**os.environ, "HOME": folder.name, "CHRONARCH_ADDRESS": "http://127.0.0.1:9", "TZ": "UTC"}

    def test_inspect_reads_a_file_with_no_service_at_all(self) -> None:
        path = write(self.folder, "piece.gcode", squares(layers=3, nozzle=205))
        said = run("inspect", str(path), env=self.env)
        self.assertEqual(said.returncode, 0, said.stderr)
        for words in ("Planned time", "Layers", "3", "nozzle 205 °C"):
            self.assertIn(words, said.stdout)
        told = json.loads(run("inspect", str(path), "--json", env=self.env).stdout)
        self.assertEqual((told["reading"]["layers"], len(told["layer_table"])), (3, 3))

    def test_inspect_refuses_what_is_not_gcode_in_one_sentence(self) -> None:
        path = write(self.folder, "letter.gcode", "Dear sir,\n" * 10)
        said = run("inspect", str(path), env=self.env)
        self.assertEqual((said.returncode, said.stdout), (1, ""))
        self.assertRegex(said.stderr, r"^letter\.gcode: This is not G-code .*\.\n$")

    def test_help_says_of_each_command_what_the_command_itself_says(self) -> None:
        said = " ".join(run("--help", env=self.env).stdout.split())
        for name, (text, _, _) in COMMANDS.items():
            self.assertIn(f"{name} {text}", said)
            command = root.get_command(click.Context(root), name)
            assert command is not None and command.help is not None
            self.assertEqual(" ".join(command.help.split("\n\n")[0].split()), text)

    def test_a_service_that_cannot_be_reached_is_exit_3(self) -> None:
        said = run("machines", "list", env=self.env)
        self.assertEqual((said.returncode, said.stdout), (3, ""))
        self.assertRegex(said.stderr, r"^The service at http://127\.0\.0\.1:9 does not answer .*\n$")

    def test_wrong_use_is_exit_2(self) -> None:
        for arguments in (["machines", "dance"], ["jobs", "submit"], ["files", "add", "/no/such/file"],
                          ["builds", "clear", "1"], ["machines", "intake", "Anchor", "maybe"],
                          ["service", "run"], ["standins", "run"]):  # fmt: skip
            with self.subTest(arguments=arguments):
                said = run(*arguments, env=self.env)
                self.assertEqual(said.returncode, 2, said.stderr)
                self.assertNotIn("Traceback", said.stderr)

    def test_a_group_lists_its_commands_with_those_of_other_modules(self) -> None:
        said = run("machines", "--help", env=self.env)
        self.assertEqual(said.returncode, 0)
        for words in ("Commands:", "take-out", "level-map"):
            self.assertIn(words, said.stdout)


class WholeJob(WorldCase):
    machines = ("Anchor", "Bezel")

    def chronarch(self, *arguments: str, code: int = 0, stdin: str = "") -> str:
        said = run(*arguments, env=self.world.environment, stdin=stdin)
        self.assertEqual(said.returncode, code, f"{arguments}: {said.stdout}{said.stderr}")
        return said.stdout if code == 0 else said.stderr

    def json(self, *arguments: str) -> Any:
        return json.loads(self.chronarch(*arguments, "--json"))

    def test_a_file_becomes_a_finished_part(self) -> None:
        w = self.world
        piece = write(w.folder, "piece.gcode", squares())
        self.assertIn("3 layers", self.chronarch("files", "add", str(piece)))
        self.assertIn("piece.gcode", self.chronarch("files", "list"))
        submitted = self.chronarch("jobs", "submit", "piece.gcode", "--copies", "1", "--material", "PLA", "--colour",
                                   "teal", "--nozzle", "0.4", "--machine", "Anchor")  # fmt: skip
        self.assertIn("1 copy of piece.gcode", submitted)
        w.until("Anchor", MachineState.UNCLEARED)
        listed = self.chronarch("machines", "list")
        self.assertRegex(listed, r"Anchor +uncleared +piece\.gcode +100%")
        shown = self.chronarch("machines", "show", "Anchor")
        for words in ("uncleared since", "copy 1 of job", "teal PLA, 0.4 mm", "220 x 220 x 250 mm"):
            self.assertIn(words, shown)
        self.assertIn("good", self.chronarch("builds", "clear", "Anchor", "--good"))
        self.assertRegex(self.chronarch("builds", "list"), r"piece\.gcode .*completed .*good")
        number = re.match(r"Job (\d+):", submitted)
        assert number is not None
        self.assertIn("1 good", self.chronarch("jobs", "show", number[1]))
        self.assertIn("completed", self.chronarch("notices", "list"))
        self.assertIn("Nothing of the kind", self.chronarch("notices", "list", "--search", "xyzzy"))
        report = self.chronarch("report", "utilisation")
        self.assertRegex(report, r"Fleet +[\d.]+%")
        rows = list(csv.reader(io.StringIO(self.chronarch("report", "utilisation", "--csv"))))
        self.assertEqual([r[0] for r in rows], ["name", "Anchor", "Bezel", "Fleet"])
        self.assertEqual(rows[0][-1], "grams", "a row ends where it ends")
        as_json = self.json("report", "utilisation", "--from", "2026-10-01", "--to", "2026-12-01")
        self.assertEqual(as_json["fleet"]["good"], 1)

    def test_a_build_is_paused_resumed_and_stopped_by_its_machines_name(self) -> None:
        w = self.world
        long = write(w.folder, "long.gcode", squares(layers=30, rounds=40, feed=1000))
        self.chronarch("files", "add", str(long))
        self.chronarch("jobs", "submit", "long.gcode", "--machine", "Bezel", "--copies", "2")
        w.until("Bezel", MachineState.BUILDING)
        self.assertIn("is paused: too loud", self.chronarch("builds", "pause", "Bezel", "--reason", "too loud"))
        self.assertIn("paused already", self.chronarch("builds", "pause", "Bezel", code=1))
        self.assertIn("goes on", self.chronarch("builds", "resume", "Bezel"))
        asked = run("builds", "stop", "Bezel", env=w.environment, stdin="n\n")
        self.assertIn("What was laid down so far is lost", asked.stdout)
        self.assertIn("stops", self.chronarch("builds", "stop", "Bezel", "--yes"))
        w.until("Bezel", MachineState.UNCLEARED)
        self.chronarch("jobs", "withdraw", str(w.client.do(requests.builds(machine="Bezel"))[0].job))
        self.assertIn("scrap, stopped", self.chronarch("builds", "clear", "Bezel", "--scrap", "stopped"))
        w.until("Bezel", MachineState.IDLE)
        self.assertIn("has no build", self.chronarch("builds", "pause", "Bezel", code=1))
        self.assertIn("is in service", self.chronarch("machines", "take-out", "Bezel", "--reason", "new belt"))
        self.assertIn("is back", self.chronarch("machines", "put-back", "Bezel"))
        self.assertIn("intake manual", self.chronarch("machines", "intake", "bezel", "manual"))
        loaded = self.chronarch("machines", "load", "Bezel", "--material", "PETG", "--colour", "ochre")
        self.assertIn("ochre PETG", loaded)

    def test_bad_input_is_one_sentence_and_exit_1(self) -> None:
        w = self.world
        letter = write(w.folder, "letter.gcode", "Dear sir,\n" * 30)
        good = write(w.folder, "good.gcode", squares(layers=1))
        said = run("files", "add", str(letter), str(good), env=w.environment)
        self.assertEqual(said.returncode, 1)
        self.assertRegex(said.stderr, r"^letter\.gcode: This is not G-code .*\n$")
        self.assertIn("good.gcode", said.stdout, "the good one is added all the same")
        self.assertIn("no machine named 'Nobody'", self.chronarch("machines", "show", "Nobody", code=1))
        self.assertIn("no file 'none.gcode'", self.chronarch("jobs", "submit", "none.gcode", code=1))
        none = self.chronarch("jobs", "submit", "good.gcode", "--copies", "0", code=2)
        self.assertIn("greater than or equal to 1", none)
        self.assertIn("key is not known", run("--key", "chronarch_x", "machines", "list", env=w.environment).stderr)

    def test_connect_remembers_the_address_and_keys_can_be_made_and_revoked(self) -> None:
        w = self.world
        with tempfile.TemporaryDirectory() as home:
            env = {**os.environ, "HOME": home}
            env.pop("CHRONARCH_KEY", None)
            env.pop("CHRONARCH_ADDRESS", None)
            secret = self.chronarch("keys", "make", "for a script", "--role", "viewer").strip()
            said = run("connect", w.address, "--key", secret, env=env)
            self.assertIn("as for a script, who may look", said.stdout)
            self.assertIn("Anchor", run("machines", "list", env=env).stdout)
            self.assertEqual(run("machines", "take-out", "Anchor", env=env).returncode, 1)
            number = next(k["id"] for k in self.json("keys", "list") if k["name"] == "for a script")
            self.chronarch("keys", "revoke", str(number))
            self.assertEqual(run("machines", "list", env=env).returncode, 1)

    def test_follow_in_a_pipe_says_a_line_for_each_change(self) -> None:
        w = self.world
        path = w.folder / "followed"
        with path.open("wb") as out:
            process = start("follow", env=w.environment, out=out)
        try:
            eventually(lambda: "Anchor: " in path.read_text(), "the machines are told")
            w.until("Anchor", MachineState.IDLE)
            self.chronarch("machines", "take-out", "Anchor", "--reason", "new belt")
            eventually(lambda: "Anchor: service (new belt)" in path.read_text(), "the change is told")
            self.chronarch("machines", "put-back", "Anchor")
        finally:
            process.send_signal(signal.SIGINT)
            self.assertEqual(process.wait(10), 0)

    def test_programs_get_the_apis_own_shapes(self) -> None:
        listed = self.json("machines", "list")
        self.assertEqual([wm.Machine.model_validate(m).name for m in listed], ["Anchor", "Bezel"])
        for noun in ("machines", "files", "jobs", "builds"):
            self.assertIsInstance(self.json(noun, "list"), list)
            self.chronarch(noun, "list", "--csv")
