"""A shop whose tables are of an older version, or of a newer one, when its service starts."""

from __future__ import annotations

import io

import zstandard
from alembic import command

from chronarch.client import requests
from chronarch.core.orders.states import Verdict
from chronarch.records.database import alembic_config, head_revision, revision_of
from chronarch.service.system.backup.database_copy import load
from tests.support import processes
from tests.support.gcode import squares
from tests.support.world import WorldCase

OLDER = "0018"


class Upgrade(WorldCase):
    own_database = True

    def test_older_tables_are_copied_then_brought_up_to_date_and_newer_ones_refused(self) -> None:
        w = self.world
        w.add_file("block.gcode", squares(layers=2))
        build = w.made("block.gcode", "Anchor", Verdict.GOOD)
        w.kill("service")
        command.downgrade(alembic_config(w.database), OLDER)
        w.start_service()
        self.assertEqual(revision_of(w.database), head_revision())
        self.assertIs(w.client.do(requests.build(build)).verdict, Verdict.GOOD)
        self.assertEqual(w.client.do(requests.verify_ledger()).faults, [])

        (kept,) = (w.folder / "blobs" / "before-upgrades").iterdir()
        self.assertRegex(kept.name, rf"-revision-{OLDER}\.sql\.zst$")
        self.assertEqual(kept.stat().st_mode & 0o777, 0o600)
        before = w.server.another("before")
        load(before, zstandard.ZstdDecompressor().read_to_iter(io.BytesIO(kept.read_bytes())))
        self.assertEqual(revision_of(before), OLDER)

        w.kill("service")
        w.start_service()
        self.assertEqual(len(list(kept.parent.iterdir())), 1, "there was nothing to bring up to date")

        w.kill("service")
        command.downgrade(alembic_config(w.database), OLDER)
        w.sql("create table backup (id int)")
        refused = processes.run("service", "run", "--port", str(w.port), env=w.environment, within_s=60)
        self.assertEqual(refused.returncode, 1)
        self.assertRegex(refused.stderr, rf"could not be brought from revision {OLDER} to \d+, and may be half changed")
        self.assertRegex(refused.stderr, r"load \S+-revision-\d+\.sql\.zst into an empty database")
        self.assertNotIn("Traceback", refused.stderr)
        w.sql("drop table backup")
        w.start_service()
        self.assertEqual(revision_of(w.database), head_revision())

        w.kill("service")
        w.sql("update alembic_version set version_num = '9999'")
        refused = processes.run("service", "run", "--port", str(w.port), env=w.environment, within_s=60)
        self.assertEqual(refused.returncode, 1)
        self.assertIn("of a newer version of Chronarch than this one", refused.stderr)
        self.assertIn("revision 9999", refused.stderr)
        w.sql("update alembic_version set version_num = :head", head=head_revision())
        w.start_service()
