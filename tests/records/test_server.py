"""A database server of one's own: two of them do not get into each other's way."""

from __future__ import annotations

import unittest

import pymysql
from sqlalchemy.engine import make_url

from chronarch.records.server import free_ports
from tests.support.world import shared_server


class Server(unittest.TestCase):
    def test_each_has_a_folder_of_its_own_for_temporary_tables(self) -> None:
        server = shared_server()
        url = make_url(server.another("own_folder"))
        with (
            pymysql.connect(
                host=url.host or "", port=url.port or 0, user=url.username or "", password=str(url.password or "")
            ) as db,
            db.cursor() as cursor,
        ):
            cursor.execute("select @@tmpdir")
            self.assertEqual(cursor.fetchone(), (str(server.folder / "tmp"),))

    def test_ports_that_are_asked_for_together_are_all_others(self) -> None:
        self.assertEqual(len(set(free_ports(300))), 300)


if __name__ == "__main__":
    unittest.main()
