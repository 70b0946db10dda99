"""A database server of one's own: two of them do not get into each other's way."""

from __future__ import annotations

import unittest

import pymysql
from sqlalchemy.engine import make_url

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


if __name__ == "__main__":
    unittest.main()
