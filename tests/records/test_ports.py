"""Ports that are given stay free until the process that asked for them uses them."""

from __future__ import annotations

import socket
import subprocess
import sys
import unittest
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

    def test_no_outgoing_connection_takes_a_port_that_was_given(self) -> None:
        self.assertLessEqual(set(free_ports(50)), set(candidates()))
        with socket.create_server(("127.0.0.1", 0)) as server:
            for _ in range(100):
                with socket.create_connection(server.getsockname()) as connection:
                    self.assertNotIn(connection.getsockname()[1], candidates())

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
