"""Second factors: codes of an app, recovery codes, roles that want one, and showing again who one is."""

from __future__ import annotations

from datetime import timedelta
from typing import Any
from urllib.parse import parse_qs, urlsplit

import httpx
import pyotp

from chronarch.client import RefusedByService, requests
from chronarch.service.access.second_factors import totp_step
from tests.support import processes
from tests.support.people import PASSWORD, browser, let_in, role, signed_in
from tests.support.world import PERSON, WorldCase, eventually


class SecondFactors(WorldCase):
    @classmethod
    def prepare(cls) -> None:
        cls.world.start_service()

    def code(self, secret: str, ahead: int = 0) -> str:
        """What an app shows now, or so many steps later; a clock may be a step ahead."""
        return pyotp.TOTP(secret).at(self.world.clock.real_now() + timedelta(seconds=30 * ahead))

    def with_app(self, login: str, *, place: str = "127.0.0.1") -> tuple[httpx.Client, str, list[str]]:
        """Somebody with an app: a browser in which they are signed in, the app's secret, and recovery codes."""
        let_in(self.world, login, role("technician"))
        client = signed_in(self.world, login, place=place)
        made = client.post("/me/second-factors/app", json={"name": "phone"}).raise_for_status().json()
        asked = {"code": self.code(made["secret"], -1)}
        added = client.post(f"/me/second-factors/{made['id']}/confirmed", json=asked).raise_for_status().json()
        return client, made["secret"], added["recovery_codes"]

    def enter(self, login: str, shown: str, place: str) -> httpx.Response:
        with browser(self.world, place) as client:
            return client.post("/sign-in", json={"login": login, "password": PASSWORD, "code": shown})

    def test_codes_are_those_of_rfc_6238(self) -> None:
        secret = "GEZDGNBVGY3TQOJQGEZDGNBVGY3TQOJQ"  # the RFC's own, "12345678901234567890"
        for at, shown in ((59, "287082"), (1111111109, "081804"), (1234567890, "005924"), (20000000000, "353130")):
            step = at // 30
            self.assertEqual(totp_step(secret, shown, at, 0), step)
            self.assertEqual(totp_step(secret, shown, at + 30, 0), step, "a clock that is behind")
            self.assertIsNone(totp_step(secret, shown, at + 60, 0), "too old")
            self.assertIsNone(totp_step(secret, shown, at, step), "used")
            self.assertIsNone(totp_step(secret, "", at, 0))

    def test_an_app_is_asked_for_from_then_on_and_each_code_opens_once(self) -> None:
        client, secret, recovery = self.with_app("ann", place="127.0.5.1")
        uri = client.post("/me/second-factors/app", json={"name": "other"}).json()["uri"]
        self.assertEqual(parse_qs(urlsplit(uri).query)["issuer"], ["A shop for tests"])
        self.assertEqual(len(set(recovery)), 10)
        without = self.enter("ann", "", "127.0.5.2")
        self.assertEqual((without.status_code, without.json()["type"]), (401, "urn:chronarch:second-factor"))
        wrong = browser(self.world, "127.0.5.2").post("/sign-in", json={"login": "ann", "password": "x", "code": "1"})
        self.assertEqual(wrong.json()["type"], "about:blank", "nobody learns of it without the password")
        now = self.code(secret)
        self.assertEqual(self.enter("ann", f"{now[:3]} {now[3:]}", "127.0.5.2").status_code, 200)
        again = self.enter("ann", now, "127.0.5.3")
        self.assertEqual(again.status_code, 401)
        self.assertIn("used already", again.json()["detail"])
        self.assertEqual(self.enter("ann", recovery[0].lower(), "127.0.5.4").status_code, 200)
        self.assertEqual(self.enter("ann", recovery[0], "127.0.5.5").status_code, 401)
        shown = client.get("/me/second-factors").json()
        self.assertEqual((shown["recovery_codes"], [one["name"] for one in shown["factors"]]), (9, ["phone"]))
        fresh = client.post("/me/recovery-codes").json()["recovery_codes"]
        self.assertEqual(self.enter("ann", recovery[1], "127.0.5.6").status_code, 401)
        self.assertEqual(self.enter("ann", fresh[0], "127.0.5.7").status_code, 200)
        number = shown["factors"][0]["id"]
        self.assertEqual(client.delete(f"/me/second-factors/{number}").json()["recovery_codes"], 0)
        self.assertEqual(self.enter("ann", "", "127.0.5.8").status_code, 200)

    def test_somebody_who_lost_theirs_is_let_in_without_by_who_manages_people(self) -> None:
        self.with_app("ben", place="127.0.5.9")
        env = self.world.environment
        self.assertIn("without a second factor", processes.run("people", "forget-factors", "ben", env=env).stdout)
        self.assertEqual(self.enter("ben", "", "127.0.5.10").status_code, 200)

    def test_a_guarded_role_counts_only_where_a_second_factor_was_shown(self) -> None:
        do, env = self.world.client.do, self.world.environment
        self.addCleanup(do, requests.guard_roles([]))
        client, _, _ = self.with_app("cam", place="127.0.5.11")
        let_in(self.world, "dee", role("technician"), role("viewer"))
        plain = signed_in(self.world, "dee", place="127.0.5.12")
        said = processes.run("roles", "guard", "technician", env=env)
        self.assertIn("technician", said.stdout, said.stderr)
        folder = {"path": "Guarded"}
        eventually(lambda: plain.post("/folders", json=folder).status_code == 403, "the role does not count")
        me = plain.get("/me").json()
        self.assertEqual(([one["right"] for one in me["rights"]], me["wants_second"]), (["see"], ["technician"]))
        self.assertEqual(client.post("/folders", json=folder).status_code, 201)
        made = plain.post("/me/second-factors/app", json={"name": "phone"}).json()
        shown = {"code": self.code(made["secret"])}
        plain.post(f"/me/second-factors/{made['id']}/confirmed", json=shown).raise_for_status()
        eventually(lambda: plain.get("/me").json()["wants_second"] == [], "it counts from now on")
        self.assertIn("No role wants", processes.run("roles", "guard", "--none", env=env).stdout)
        with self.assertRaisesRegex(RefusedByService, "no role 'king'"):
            do(requests.guard_roles(["king"]))

    def test_nobody_locks_themselves_out(self) -> None:
        let_in(self.world, "eve", role("manager"))
        eve = signed_in(self.world, "eve", place="127.0.5.13")
        answer = eve.put("/guarded-roles", json={"roles": ["manager"]})
        self.assertEqual(answer.status_code, 409)
        self.assertIn("Add a second factor of your own first", answer.json()["detail"])

    def test_what_is_dangerous_wants_who_one_is_shown_again(self) -> None:
        do, sql = self.world.client.do, self.world.sql
        client, secret, _ = self.with_app("fin", place="127.0.5.14")
        sql("update session set shown_at = '2020-01-01' where person_id = (select id from person where login = 'fin')")
        do(requests.set_role("whatever", do(requests.roles())[0].rights))  # what is known of callers is forgotten
        asked: dict[str, Any] = {"name": "mine", "rights": ["see"], "own": True}

        def refused() -> bool:
            answer = client.post("/keys", json=asked)
            return bool(answer.status_code == 403 and answer.json()["type"] == "urn:chronarch:show-yourself")

        eventually(refused, "a key is dangerous")
        self.assertEqual(client.get("/me").status_code, 200, "all else is as it was")
        for shown, why in (
            ({"password": "wrong"}, "not your password"), ({"password": PASSWORD}, "Type the code"),
            ({"password": PASSWORD, "code": "000000"}, "wrong"),
        ):  # fmt: skip
            answer = client.post("/me/shown", json=shown)
            self.assertEqual(answer.status_code, 403)
            self.assertIn(why, answer.json()["detail"])
        client.post("/me/shown", json={"password": PASSWORD, "code": self.code(secret)}).raise_for_status()
        eventually(lambda: client.post("/keys", json=asked).status_code == 201, "it is possible again")

    def test_a_passkey_wants_the_services_own_page_under_a_name(self) -> None:
        with browser(self.world) as client:
            for origin in ("", "https://evil.example", f"http://127.0.0.1:{self.world.port}"):
                answer = client.post("/sign-in/passkey/begin", headers={"Origin": origin} if origin else {})
                self.assertEqual(answer.status_code, 409, origin)
            name = {"Origin": f"http://localhost:{self.world.port}", "Host": f"localhost:{self.world.port}"}
            self.assertIn("challenge", client.post("/sign-in/passkey/begin", headers=name).json()["options"])
            for wrong in ("", "{}", '{"id": 3, "response": {"clientDataJSON": "e30"}}', "[" * 9000):
                answer = client.post("/sign-in/passkey", json={"credential": wrong}, headers=name)
                self.assertEqual(answer.status_code, 422, answer.text)
        self.assertTrue(self.world.client.do(requests.people()), PERSON)
