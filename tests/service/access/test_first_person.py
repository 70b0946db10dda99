"""A new shop: the first person enters by the code that its computer shows, once."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor

from chronarch.client import Client, ClientError, RefusedByService, requests
from tests.support import processes
from tests.support.emptied import without_people
from tests.support.world import WorldCase

PASSWORD = "a fine long one"


class FirstPerson(WorldCase):
    own_database = True

    def test_the_code_lets_the_first_person_in_and_then_nobody(self) -> None:
        w = self.world
        code = without_people(w)
        self.assertRegex(code, r"^[2-9A-HJ-NP-Z]{4}-[2-9A-HJ-NP-Z]{4}-[2-9A-HJ-NP-Z]{4}$")
        self.assertEqual((w.folder / "blobs" / "first-code").stat().st_mode & 0o777, 0o600)
        with Client(w.address) as stranger:
            self.assertTrue(stranger.do(requests.first_standing()).open)
            for wrong in ("", "AAAA-AAAA-AAAA", code[:-1]):
                with self.subTest(wrong), self.assertRaisesRegex(RefusedByService, "That is not the code"):
                    stranger.do(requests.first_person(wrong, "maud", "Maud", PASSWORD))
            with self.assertRaisesRegex(RefusedByService, "at least 8"):
                stranger.do(requests.first_person(code, "maud", "Maud", "short"))
            with self.assertRaisesRegex(RefusedByService, "how the records name"):
                stranger.do(requests.first_person(code, "maud", "Maud (key 1)", PASSWORD))

        w.kill("service")
        w.start_service()  # the code is still the same

        def enter(login: str) -> str:
            with Client(w.address) as one:
                try:
                    return one.do(
                        requests.first_person(f" {code.lower().replace('-', ' ')} ", login, "", PASSWORD)
                    ).name
                except ClientError as error:
                    return str(error)

        with ThreadPoolExecutor() as several:
            answers = sorted(several.map(enter, ("maud", "tilda", "wilf")), key=len)
        self.assertIn(answers[0], ("maud", "tilda", "wilf"))
        self.assertEqual(["somebody already" in answer for answer in answers[1:]], [True, True])
        self.assertEqual(len(w.client.do(requests.people())), 1)
        with Client(w.address) as stranger:
            self.assertFalse(stranger.do(requests.first_standing()).open)
        gone = processes.run("service", "first-code", env=w.environment)
        self.assertEqual(gone.returncode, 1)
        self.assertIn("somebody can sign in already", gone.stderr)

    def test_codes_are_not_to_be_guessed(self) -> None:
        without_people(self.world)
        with Client(self.world.address) as stranger:
            said = []
            for _ in range(12):
                with self.assertRaises(RefusedByService) as refused:
                    stranger.do(requests.first_person("AAAA-AAAA-AAAA", "maud", "Maud", PASSWORD))
                said.append(str(refused.exception))
        self.assertIn("Too many tries", said[-1])
