"""Ports that are given stay free until the process that asked for them uses them."""

from __future__ import annotations

import socket
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path
from unittest.mock import patch

from chronarch.records.ports import NoFreePort, candidates, free_ports

ASK = "from chronarch.records.ports import free_ports; print(*free_ports(100), flush=True); input()"


class Ports(unittest.TestCase):
    def test_processes_that_ask_at_once_are_given_different_ports(self) -> None:
        askers = [
            subprocess.Popen([sys.executable, "-c", ASK], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True)
            for _ in range(4)
        ]
        given = [int(port) for asker in askers if asker.stdout for port in asker.stdout.readline().split()]
        given += free_ports(100)
        for asker in askers:
            asker.communicate("\n")
        self.assertEqual(len(given), 500)
        self.assertEqual(len(set(given)), 500)

    def test_a_claim_is_for_as_many_as_were_asked_for_and_ends_with_its_process(self) -> None:
        asked = subprocess.run([sys.executable, "-c", ASK], input="\n", capture_output=True, text=True, check=True)
        free = [int(port) for port in asked.stdout.split()[:2]]
        with patch("chronarch.records.ports.candidates", return_value=free):
            self.assertEqual({*free_ports(1), *free_ports(1)}, set(free))

    def test_ports_that_the_kernel_gives_to_outgoing_connections_are_left_to_it(self) -> None:
        for theirs, ours in (
            ("32768\t60999\n", {*range(10_000, 32_768), *range(61_000, 65_536)}),
            ("1024\t65535\n", set(range(10_000, 65_536))),  # it leaves none
        ):
            with tempfile.NamedTemporaryFile("w") as file:
                file.write(theirs)
                file.flush()
                with patch("chronarch.records.ports._KERNELS_RANGE", Path(file.name)):
                    self.assertEqual(set(candidates()), ours)
        self.assertLessEqual(set(free_ports(50)), set(candidates()))

    def test_a_port_that_somebody_listens_on_is_not_given(self) -> None:
        with socket.create_server(("127.0.0.1", 0)) as server:
            taken = server.getsockname()[1]
            with (
                patch("chronarch.records.ports.candidates", return_value=[taken]),
                self.assertRaisesRegex(NoFreePort, r"^Only 0 of 1 ports on 127\.0\.0\.1 are free\."),
            ):
                free_ports(1)


if __name__ == "__main__":
    unittest.main()
