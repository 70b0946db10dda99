"""Names that look alike, and callers of one name: what identifies is compared byte by byte."""

from __future__ import annotations

import unicodedata
import unittest
from urllib.parse import quote

import httpx

from chronarch.client import Client, requests
from chronarch.core.access.rights import GivenRole
from chronarch.wire.library import NewPart
from tests.support.gcode import squares
from tests.support.world import WorldCase


class Names(WorldCase):
    @classmethod
    def prepare(cls) -> None:
        cls.world.start_service()

    def drop(self, name: str, layers: int, key: str = "", **headers: str) -> httpx.Response:
        headers |= {"Authorization": f"Bearer {key or self.world.key}", "Prefer": "wait=90"}
        content = squares(layers=layers)
        return httpx.put(f"{self.world.address}/api/drop/{quote(name)}", content=content, headers=headers, timeout=120)

    def test_files_whose_names_look_alike_are_other_files(self) -> None:
        for n, name in enumerate(("resume.gcode", "résumé.gcode", "Resume.gcode", "resumé.gcode"), start=2):
            answer = self.drop(name, n)
            self.assertEqual((answer.status_code, answer.json()["file"]["revision"]), (201, 1), name)
            alike = {"Resume.gcode": ["resume.gcode"]}
            self.assertEqual(answer.json()["alike"], alike.get(name, []), "what differs in case only is pointed out")
        for n, name in enumerate(("resume.gcode", "résumé.gcode", "Resume.gcode"), start=2):
            self.assertEqual(self.world.client.do(requests.file(name)).reading.layers, n, name)
        self.assertEqual(self.drop("RESUME.GCODE", 9).status_code, 201)

    def test_a_name_is_the_same_however_it_is_composed(self) -> None:
        composed, apart = "pärt.gcode", unicodedata.normalize("NFD", "pärt.gcode")
        self.assertNotEqual(composed, apart)
        self.assertEqual(self.drop(composed, 2).json()["file"]["revision"], 1)
        self.assertEqual(self.drop(apart, 3).json()["file"]["revision"], 2)
        headers = {"Authorization": f"Bearer {self.world.key}"}
        found = httpx.get(f"{self.world.address}/api/files/{quote(apart)}", headers=headers).json()
        self.assertEqual((found["name"], found["reading"]["layers"]), (composed, 3))

    def test_two_parts_whose_names_look_alike_are_two(self) -> None:
        client = self.world.client
        made = [client.do(requests.add_part(NewPart(name=name))) for name in ("part", "pärt", "Part")]
        self.assertEqual(len({part.id for part in made}), 3)
        self.assertEqual(made[2].alike, ["part"])
        self.assertEqual(client.do(requests.part("pärt")).id, made[1].id)

    def test_two_keys_of_one_name_do_not_share_their_replays(self) -> None:
        keys = [self.world.client.do(requests.make_key("press", GivenRole.OPERATOR)) for _ in "ab"]
        first, second = (self.drop(f"{n}.gcode", n, key.secret, **{"Idempotency-Key": "run-1"}) for n, key in
                         zip((4, 5), keys, strict=True))  # fmt: skip
        self.assertEqual((first.status_code, second.status_code), (201, 201))
        self.assertEqual(second.json()["file"]["name"], "5.gcode")
        other = self.drop("6.gcode", 6, keys[0].secret, **{"Idempotency-Key": "RUN-1"})
        self.assertEqual(other.status_code, 201, "a key in other letters is another key")
        with Client(self.world.address, keys[0].secret) as client:
            self.assertEqual(client.do(requests.me()).name, "press")


if __name__ == "__main__":
    unittest.main()
