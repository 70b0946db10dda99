"""Backups in each way: by the commands, with a public key, to storage that speaks S3; and those that were damaged."""

from __future__ import annotations

import json
import logging
import re
from pathlib import Path
from typing import Any, ClassVar

import boto3
from moto.server import ThreadedMotoServer

from chronarch.client import RefusedByService, requests
from chronarch.wire.system.backups import BackupPlace, BackupSettingsChange
from tests.service.system.test_backup import BackupCase
from tests.support import processes
from tests.support.restoring import LATE_S, PASSPHRASE, Installation, ended


class ByTheCommands(BackupCase):
    def test_from_the_first_to_a_shop_that_is_restored(self) -> None:
        place = self.world.folder / "by-command"
        place.mkdir()
        secret = self.world.folder / "secret"
        secret.write_text(PASSPHRASE)
        words = ("--to", str(place), "--passphrase-file", str(secret), "--at", "03:15", "--daily", "3")
        shown = self.shell(0, "schedule", *words)
        for said in (
            str(place),
            "with a passphrase",
            "off",
            "3 of days, 4 of weeks",
            "Sunday",
        ):
            self.assertIn(said, shown)
        self.assertIn("There are no backups yet; `chronarch backup create`", self.shell(0, "list"))
        self.assertRegex(self.shell(0, "create"), r"^2\d{3}-\d\d-\d\dt[\d-]+z: \d+ files, .* were new; in ")
        self.assertRegex(self.shell(0, "verify"), "is whole: .* and a ledger without a fault. A restore takes about")
        listed = json.loads(self.shell(0, "list", "--json"))
        self.assertEqual(listed["settings"]["daily"], 3)
        self.assertIn(listed["backups"][0]["stamp"], self.shell(0, "list"))
        self.assertIn("There is no backup 2020", self.shell(1, "verify", "2020-01-01t00-00-00z"))
        self.assertIn("each day at 03:15 (UTC), next", self.shell(0, "schedule", "--on"))
        self.assertIn("off", self.shell(0, "schedule", "--off"))

        other = Installation(self.world)
        absent = other.restore(place, "--backup", "2020-01-01t00-00-00z")
        self.assertIn("There is no backup 2020-01-01t00-00-00z", absent.stderr)
        other.passphrase.write_text("not the right one at all")
        self.assertIn("not the passphrase of these backups", other.restore(place).stderr)
        other.passphrase.write_text(PASSPHRASE)
        done = other.restore(place)
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("is restored as it was on", done.stdout)
        again = other.restore(place)
        self.assertEqual(again.returncode, 1)
        self.assertIn("has files already. A restore wants an empty folder; nothing was changed", again.stderr)
        fresh = Installation(self.world)
        fresh.environment["CHRONARCH_DATABASE"] = other.database
        self.assertIn("The database has tables already", fresh.restore(place).stderr)
        self.assertIn("There are no backups at", fresh.restore(self.world.folder).stderr)

    def test_for_a_public_key_that_only_the_private_one_opens(self) -> None:
        key, place = self.world.folder / "private.key", self.world.folder / "sealed-for-a-key"
        place.mkdir()
        public = self.shell(0, "make-keys", str(key)).strip()
        self.assertRegex(public, "^[0-9a-f]{64}$")
        self.assertEqual(key.stat().st_mode & 0o777, 0o600)
        self.assertIn("is there already", self.shell(1, "make-keys", str(key)))
        self.assertIn("for a public key", self.shell(0, "schedule", "--to", str(place), "--public-key", public))
        self.shell(0, "create")
        self.assertIn("give the private key", self.shell(1, "verify"))
        self.assertIn("is whole", self.shell(0, "verify", "--private-key", str(key)))
        other = Installation(self.world)
        self.assertIn("sealed for a public key", other.restore(place).stderr)
        stranger = self.world.folder / "another.key"
        self.shell(0, "make-keys", str(stranger))
        self.assertIn("another public key", other.restore(place, "--private-key", str(stranger)).stderr)
        done = other.restore(place, "--private-key", str(key))
        self.assertEqual(done.returncode, 0, done.stderr)


class Damaged(BackupCase):
    """What was damaged at the place is found by a trial, refused by a restore, and copied anew by the next backup."""

    def test_a_file(self) -> None:
        self.take()
        for hurt, said in ((_flip, "it was damaged"), (_cut, "it was damaged"), (Path.unlink, "it is missing")):
            with self.subTest(said, hurt=hurt.__name__):
                for path in self.contents():
                    hurt(path)
                other = Installation(self.world)
                refused = other.restore(self.place)
                self.assertEqual(refused.returncode, 1)
                self.assertRegex(refused.stderr, r"\d files of this backup are missing or damaged, so .*--leave-out")
                self.assertRegex(refused.stderr, "the content [0-9a-f]{64}")
                tables = self.world.server.connect(re.split(r"[/?]", other.database)[3])
                with tables, tables.cursor() as cursor:
                    self.assertEqual(cursor.execute("show tables"), 0, "the records were not loaded")
                self.do(requests.try_backup())
                found = ended(self.world)
                self.assertGreaterEqual(found.backups[0].faults, 1)
                self.assertIn(said, str(found.backups[0].first_faults))
                self.assertRegex(str(found.troubles), r"was tried and has \d faults?; the first: the ")
                done = other.restore(self.place, "--leave-out")
                self.assertEqual(done.returncode, 0, done.stderr)
                self.assertIn("left out: the content", done.stderr)
                self.take()
                self.do(requests.try_backup())
                self.assertEqual(ended(self.world).backups[0].first_faults, [], "it was copied anew")

    def test_its_records_or_its_list(self) -> None:
        for file, said in (("records", "The records of the backup"), ("list", "The list of the backup")):
            with self.subTest(file):
                stamp = self.take().stamp
                _flip(self.place / "backups" / stamp / file)
                refused = Installation(self.world).restore(self.place, "--backup", stamp)
                self.assertEqual(refused.returncode, 1)
                self.assertIn(said, refused.stderr)
                self.do(requests.try_backup())
                self.assertIn(f"its {file}: it was damaged", str(ended(self.world).backups[0].first_faults))

    def test_the_head(self) -> None:
        head = self.place / "chronarch-backup.json"
        whole = head.read_text()
        self.addCleanup(head.write_text, whole)
        for text, said in (
            ("{", "is damaged"), (json.dumps({**json.loads(whole), "format": 2}), "this version reads format 1"),
        ):  # fmt: skip
            head.write_text(text)
            self.do(requests.take_backup())
            self.assertIn(said, ended(self.world).backups[0].problem)
            self.assertIn(said, Installation(self.world).restore(self.place).stderr)


def _flip(path: Path) -> None:
    data = bytearray(path.read_bytes())
    data[len(data) // 2] ^= 1
    path.write_bytes(data)


def _cut(path: Path) -> None:
    path.write_bytes(path.read_bytes()[:-3])


class ToS3(BackupCase):
    storage: ClassVar[ThreadedMotoServer]
    endpoint: ClassVar[str]
    s3: ClassVar[Any]

    @classmethod
    def prepare(cls) -> None:
        super().prepare()
        logging.getLogger("werkzeug").setLevel(logging.ERROR)
        cls.storage = ThreadedMotoServer(ip_address="127.0.0.1", port=0, verbose=False)
        cls.storage.start()
        cls.addClassCleanup(cls.storage.stop)
        host, port = cls.storage.get_host_and_port()
        cls.endpoint = f"http://{host}:{port}"
        cls.s3 = boto3.client(
            "s3", endpoint_url=cls.endpoint, region_name="us-east-1", aws_access_key_id="maud",
            aws_secret_access_key="of the store",
        )  # fmt: skip
        cls.s3.create_bucket(Bucket="shop")

    def test_it_is_taken_tried_cleared_up_and_restored_there(self) -> None:
        address = f"s3+{self.endpoint}/shop/marrow/lane"
        place = BackupPlace(address=address, login="maud", password="of the store", passphrase=PASSPHRASE)
        self.do(requests.change_backup_settings(BackupSettingsChange(place=place, daily=1, weekly=0, monthly=0)))
        first = self.take()
        names = self.names()
        self.assertIn(f"marrow/lane/backups/{first.stamp}/list", names)
        self.assertTrue(all(name.startswith("marrow/lane/") for name in names))
        large = self.world.folder / "blobs" / "logs" / "999999.log.gz"  # sent in parts
        large.write_bytes(bytes(range(256)) * 160_000)
        half = {"Bucket": "shop", "Key": "marrow/lane/contents/00/half"}
        self.s3.create_multipart_upload(**half)  # of one that was killed while it sent
        self.s3.create_multipart_upload(**half | {"Key": "another/half"})
        second = self.take()
        left = self.s3.list_multipart_uploads(Bucket="shop").get("Uploads", ())
        self.assertEqual([one["Key"] for one in left], ["another/half"], "what is not ours stays")
        self.assertEqual(second.items, first.items + 1)
        self.assertNotIn(f"marrow/lane/backups/{first.stamp}/list", self.names(), "one a day is kept")
        self.do(requests.try_backup())
        self.assertEqual(ended(self.world).backups[0].first_faults, [])
        other, secret = Installation(self.world), self.world.folder / "s3-secret"
        secret.write_text("of the store")
        words = other.words(Path("/"), "--login", "maud", "--password-file", str(secret))
        done = processes.run(*words[:2], address, *words[3:], env=other.environment, within_s=LATE_S)
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertEqual((other.blobs / "logs" / large.name).read_bytes(), large.read_bytes())
        large.unlink()
        place = place.model_copy(update={"address": f"s3+{self.endpoint}/nobody"})
        with self.assertRaisesRegex(RefusedByService, "NoSuchBucket"):
            self.do(requests.change_backup_settings(BackupSettingsChange(place=place)))

    def names(self) -> list[str]:
        return [one["Key"] for one in self.s3.list_objects_v2(Bucket="shop").get("Contents", ())]
