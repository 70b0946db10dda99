"""People are invited, hold roles by themselves and by teams, and give no more than they have."""

from __future__ import annotations

import io
import re
import unittest
from typing import Any

from PIL import Image

from chronarch.client import Client, RefusedByService, requests
from chronarch.core.access.rights import Right
from chronarch.wire import access as w
from tests.support import processes
from tests.support.people import PASSWORD, browser, let_in, role, signed_in
from tests.support.world import PASSWORD as MAUDS
from tests.support.world import PERSON, WorldCase, eventually


class Access(WorldCase):
    @classmethod
    def prepare(cls) -> None:
        cls.world.start_service()

    def shell(self, code: int, *words: str) -> str:
        done = processes.run(*words, env=self.world.environment)
        self.assertEqual(done.returncode, code, done.stdout + done.stderr)
        return done.stdout + done.stderr

    def person(self, login: str) -> w.PersonShown:
        return next(one for one in self.world.client.do(requests.people()) if one.login == login)


class Invites(Access):
    def test_somebody_joins_by_a_link_once_and_has_what_it_says(self) -> None:
        said = self.shell(
            0, "people", "invite", "Tilda Moss", "--mail", "tilda@shop.example", "--role", "operator@site:Harbour",
            "--role", "viewer",
        )  # fmt: skip
        found = re.search(r"http://\S+/join#(\S+)", said)
        assert found is not None, said
        token = found[1]
        with browser(self.world) as client:
            shown = client.get("/invited", headers={"X-Invite": token}).raise_for_status().json()
            self.assertEqual((shown["name"], shown["shop"], shown["login"]), ("Tilda Moss", "A shop for tests", ""))
            self.assertEqual([one["place"] for one in shown["roles"]], ["Harbour", ""])
            order = {"token": token, "login": "tilda", "password": "tilda1234"}
            weak = client.post("/invited", json=order)
            self.assertEqual(weak.status_code, 422)
            self.assertIn("Take a longer one", weak.json()["detail"])
            self.assertEqual(client.post("/invited", json={**order, "login": PERSON}).status_code, 409)
            me = client.post("/invited", json={**order, "password": PASSWORD}).raise_for_status().json()
            self.assertEqual((me["name"], me["mail"]), ("Tilda Moss", "tilda@shop.example"))
            self.assertEqual(client.get("/me").json()["login"], "tilda", "they are signed in at once")
            again = client.post("/invited", json={**order, "login": "wilf"})
            self.assertEqual(again.status_code, 404)
            self.assertIn("ask for another one", again.json()["detail"])
        self.assertNotIn("Tilda", self.shell(0, "people", "invites"))
        self.assertIn("operator for the site Harbour, viewer", self.shell(0, "people", "list"))

    def test_an_invite_that_is_taken_back_or_over_lets_nobody_in(self) -> None:
        do = self.world.client.do
        first = do(requests.invite(w.NewInvite(name="Wilf", roles=[role("viewer")])))
        second = do(requests.invite(w.NewInvite(name="Joan", roles=[role("viewer")])))
        self.assertIn("Wilf", self.shell(0, "people", "invites"))
        self.assertIn("taken back", self.shell(0, "people", "take-back", str(first.id)))
        self.world.sql("update invite set expires_at = '2020-01-01' where id = :id", id=second.id)
        for made in (first, second):
            with browser(self.world, "127.0.2.1") as client:
                token = made.path.partition("#")[2]
                self.assertEqual(client.get("/invited", headers={"X-Invite": token}).status_code, 404)
                order = {"token": token, "login": "wilf", "password": PASSWORD}
                self.assertEqual(client.post("/invited", json=order).status_code, 404)
        self.assertTrue({first.id, second.id}.isdisjoint(one.id for one in do(requests.invites())))
        self.shell(1, "people", "take-back", str(first.id))
        with self.assertRaisesRegex(RefusedByService, "no role 'king'"):
            do(requests.invite(w.NewInvite(name="Wilf", roles=[role("king")])))

    def test_links_are_not_to_be_guessed(self) -> None:
        with browser(self.world, "127.0.2.2") as client:
            for _ in range(10):
                self.assertEqual(client.get("/invited", headers={"X-Invite": "guess"}).status_code, 404)
            self.assertEqual(client.get("/invited", headers={"X-Invite": "guess"}).status_code, 429)

    def test_who_is_here_chooses_a_new_password_and_is_signed_out_elsewhere(self) -> None:
        let_in(self.world, "ada", role("operator"))
        old = signed_in(self.world, "ada")
        said = self.shell(0, "people", "new-password", "ada")
        token = said.strip().rpartition("#")[2]
        with browser(self.world) as client:
            shown = client.get("/invited", headers={"X-Invite": token}).json()
            self.assertEqual((shown["login"], shown["roles"]), ("ada", []))
            client.post("/invited", json={"token": token, "password": "eleven brass lanterns"}).raise_for_status()
        eventually(lambda: old.get("/me").status_code == 401, "the old session is ended")
        signed_in(self.world, "ada", "eleven brass lanterns").close()
        self.assertEqual(self.person("ada").roles, [role("operator")])


class Giving(Access):
    def test_roles_and_teams_say_what_somebody_may_do_from_then_on(self) -> None:
        let_in(self.world, "bert", role("viewer"))
        bert, folder = signed_in(self.world, "bert"), {"path": "Berts"}
        self.assertEqual(bert.post("/folders", json=folder).status_code, 403)
        self.shell(0, "roles", "set", "filing", "--right", "see", "--right", "change_files")
        self.assertIn(
            "people in it: 1", self.shell(0, "teams", "set", "Filers", "--role", "filing", "--member", "bert")
        )
        eventually(lambda: bert.post("/folders", json=folder).status_code == 201, "the team's role counts")
        self.assertEqual(self.person("bert").rights, [Right.SEE, Right.CHANGE_FILES])
        self.assertIn("filing", self.shell(1, "roles", "remove", "filing"), "it is held")
        self.shell(0, "roles", "set", "filing", "--right", "see")
        eventually(lambda: bert.post("/folders", json=folder).status_code == 403, "the role is less now")
        self.assertIn("Filers", self.shell(0, "teams", "list"))
        self.shell(0, "teams", "remove", "Filers")
        self.shell(0, "roles", "remove", "filing")
        self.assertNotIn("filing", self.shell(0, "roles", "list"))
        self.assertIn("technician", self.shell(0, "people", "give", "bert", "--role", "technician"))
        eventually(lambda: bert.post("/folders", json=folder).status_code in (201, 409), "their own role counts")
        self.shell(1, "roles", "set", "manager", "--right", "see")
        self.shell(2, "roles", "set", "none")
        self.shell(2, "people", "give", "bert", "--role", "viewer@room:3")

    def test_nobody_gives_or_takes_what_they_do_not_have(self) -> None:
        do = self.world.client.do
        do(requests.set_role("porter", [Right.SEE, Right.MANAGE_PEOPLE]))
        let_in(self.world, "cora", role("porter"))
        let_in(self.world, "dora", role("operator"))
        cora = signed_in(self.world, "cora")
        for method, path, body in (
            ("PUT", "/people/cora/roles", {"roles": [{"role": "manager"}]}),
            ("PUT", "/people/dora/roles", {"roles": []}),
            ("PUT", f"/people/{PERSON}/roles", {"roles": [{"role": "viewer"}]}),
            ("DELETE", f"/people/{PERSON}", None),
            ("DELETE", f"/people/{PERSON}/sessions", None),
            ("POST", "/invites", {"name": "x", "roles": [{"role": "operator", "kind": "site", "place": "Harbour"}]}),
            ("POST", "/invites", {"again": PERSON}),
            ("PUT", "/roles/porter", {"rights": ["see", "manage_people", "set_up"]}),
            ("PUT", "/teams/Owners", {"roles": [{"role": "manager"}], "members": ["cora"]}),
            ("POST", "/keys", {"name": "x", "role": "operator"}),
            ("POST", f"/keys/{do(requests.keys())[0].id}/change", {}),
            ("POST", "/keys", {"name": "x", "role": "tender"}),
            ("POST", "/keys", {"name": "x", "rights": ["set_up"], "own": True}),
        ):
            with self.subTest(method=method, path=path, body=body):
                answer = cora.request(method, path, json=body)
                self.assertEqual(answer.status_code, 403, answer.text)
                self.assertIn("which you do not have", answer.text)
        self.assertEqual(cora.post("/invites", json={"name": "x", "roles": [{"role": "viewer"}]}).status_code, 201)
        self.assertEqual(self.person(PERSON).roles, [role("manager")])

    def test_somebody_always_manages_people(self) -> None:
        do, last = self.world.client.do, "the last who may manage people"
        for person in do(requests.people()):
            if person.login != PERSON:
                do(requests.remove_person(person.login))
        with self.assertRaisesRegex(RefusedByService, last):
            do(requests.set_person_roles(PERSON, w.PersonRoles(roles=[role("viewer")])))
        do(requests.set_team("Owners", w.TeamSet(roles=[role("manager")], members=[PERSON])))
        do(requests.set_person_roles(PERSON, w.PersonRoles(roles=[], teams=["Owners"])))
        for call in (requests.remove_team("Owners"), requests.set_team("Owners", w.TeamSet(members=[PERSON]))):
            with self.assertRaisesRegex(RefusedByService, last):
                do(call)
        do(requests.set_person_roles(PERSON, w.PersonRoles(roles=[role("manager")])))
        do(requests.remove_team("Owners"))


class Oneself(Access):
    def test_one_sets_what_is_ones_own_and_sees_where_one_is_signed_in(self) -> None:
        let_in(self.world, "edna", role("viewer"))
        agent = "Mozilla/5.0 (X11; Linux x86_64; rv:140.0) Gecko/20100101 Firefox/140.0"
        edna = signed_in(self.world, "edna", place="127.0.3.1", agent=agent)
        other = signed_in(self.world, "edna", place="127.0.3.2")
        change = {"mail": "edna@shop.example", "zone": "Europe/Berlin", "theme": "dark"}
        self.assertLessEqual(change.items(), edna.patch("/me", json=change).json().items())
        for wrong in ({"zone": "Mars/Base"}, {"theme": "pink"}, {"mail": "no mail"}, {"zone": "../../etc/passwd"}):
            self.assertEqual(edna.patch("/me", json=wrong).status_code, 422, wrong)
        shown = edna.get("/me/sessions").json()
        self.assertEqual(
            {(one["device"], one["place"], one["this"]) for one in shown if one["place"] != "127.0.0.1"},
            {("Firefox on Linux", "127.0.3.1", True), ("python-httpx", "127.0.3.2", False)},
        )
        number = next(one["id"] for one in shown if one["place"] == "127.0.3.2")
        maud = signed_in(self.world, PERSON, MAUDS)
        self.assertEqual(maud.delete(f"/me/sessions/{number}").status_code, 404, "it is not hers")
        self.assertEqual(edna.delete(f"/me/sessions/{number}").status_code, 200)
        eventually(lambda: other.get("/me").status_code == 401, "the session is ended")
        self.assertIn("Firefox on Linux", self.shell(0, "people", "sessions", "edna"))
        self.assertIn("signed out everywhere", self.shell(0, "people", "sign-out", "edna"))
        eventually(lambda: edna.get("/me").status_code == 401, "she is signed out")

    def test_a_password_is_changed_by_who_knows_it_and_must_be_strong(self) -> None:
        let_in(self.world, "fay", role("viewer"))
        fay, other = signed_in(self.world, "fay"), signed_in(self.world, "fay", place="127.0.3.3")
        strong = "nine copper kettles"
        for old, new, status, why in (
            ("wrong", strong, 403, "not the password"), (PASSWORD, "short", 422, "at least 8"),
            (PASSWORD, "password123", 422, "Take a longer one"), (PASSWORD, "fayfayfay1", 422, "Take a longer one"),
        ):  # fmt: skip
            answer = fay.post("/me/password", json={"old": old, "new": new})
            self.assertEqual(answer.status_code, status, new)
            self.assertIn(why, answer.json()["detail"])
        self.assertEqual(fay.post("/me/password", json={"old": PASSWORD, "new": strong}).status_code, 200)
        self.assertEqual(fay.get("/me").status_code, 200, "this session goes on")
        eventually(lambda: other.get("/me").status_code == 401, "the others are ended")
        signed_in(self.world, "fay", strong).close()

    def test_a_picture_is_kept_small_without_what_the_camera_wrote_and_goes_with_its_person(self) -> None:
        let_in(self.world, "gus", role("viewer"), name="Gus")
        gus = signed_in(self.world, "gus")
        photo, exif = io.BytesIO(), Image.Exif()
        exif[0x010E] = "taken at home"
        Image.new("RGB", (900, 600), "teal").save(photo, "JPEG", exif=exif)
        self.assertIsNotNone(gus.put("/me/picture", content=photo.getvalue()).json()["pictured_at"])
        kept = gus.get("/people/gus/picture").content
        self.assertNotIn(b"taken at home", kept)
        self.assertEqual(Image.open(io.BytesIO(kept)).size, (256, 256))
        for wrong in (b"no picture", b"\xff\xd8\xff cut short"):
            self.assertEqual(gus.put("/me/picture", content=wrong).status_code, 422)
        self.assertIsNone(gus.delete("/me/picture").json()["pictured_at"])
        self.assertEqual(gus.get("/people/gus/picture").status_code, 404)

    def test_a_device_of_ones_own_stays_signed_in_for_long(self) -> None:
        let_in(self.world, "hal", role("viewer"))
        for trusted, hours in ((False, 14), (True, 90 * 24)):
            with browser(self.world) as client:
                order = {"login": "hal", "password": PASSWORD, "trusted": trusted}
                answer = client.post("/sign-in", json=order).raise_for_status()
                self.assertIn(f"max-age={hours * 3600}", answer.headers["set-cookie"].lower())
                (this,) = [one for one in client.get("/me/sessions").json() if one["this"]]
                self.assertEqual(this["trusted"], trusted)


class Keys(Access):
    def test_a_key_of_ones_own_may_no_more_than_oneself_and_goes_with_its_person(self) -> None:
        do = self.world.client.do
        let_in(self.world, "ida", role("operator"))
        ida = signed_in(self.world, "ida")
        made = ida.post("/keys", json={"name": "script", "rights": ["change_files", "see"], "own": True}).json()
        self.assertEqual((made["owner"], made["rights"]), ("Ida", ["see", "change_files"]))
        with Client(self.world.address, made["secret"]) as script:
            script.do(requests.add_folder("Idas"))
            self.assertEqual([one.name for one in script.do(requests.keys())], ["script"])
            do(requests.set_person_roles("ida", w.PersonRoles(roles=[role("viewer")])))
            eventually(lambda: self.refused(script, requests.add_folder("More")) == 403, "it may no more than she")
            self.assertEqual(ida.get("/keys").json()[0]["last_at"] is not None, True, "it says when it was used")
            do(requests.remove_person("ida"))
            eventually(lambda: self.refused(script, requests.me()) == 401, "it goes with her")
        self.assertNotIn("script", [one.name for one in do(requests.keys())])

    def refused(self, client: Client, call: requests.Call[Any]) -> int:
        try:
            client.do(call)
        except RefusedByService as error:
            return error.problem.status
        return 0

    def test_a_secret_is_changed_with_an_overlap_and_a_key_expires(self) -> None:
        do, env = self.world.client.do, self.world.environment
        old = self.shell(0, "keys", "make", "evening script", "--right", "see", "--for", "site:Harbour", "--days", "2")
        number = do(requests.keys())[-1].id
        self.assertIn("the site Harbour", self.shell(0, "keys", "list"))
        new = self.shell(0, "keys", "change", str(number), "--overlap", "1")
        for secret in (old, new):
            self.assertIn("evening script", processes.run("me", env={**env, "CHRONARCH_KEY": secret.strip()}).stdout)
        self.world.sql("update access_key set old_until = '2020-01-01' where id = :id", id=number)
        newer = self.shell(0, "keys", "change", str(number), "--overlap", "0")
        for secret, why in ((old, "not known"), (new, "not known")):
            with Client(self.world.address, secret.strip()) as client, self.assertRaisesRegex(RefusedByService, why):
                client.do(requests.me())
        self.world.sql("update access_key set expires_at = '2020-01-01' where id = :id", id=number)
        do(requests.set_role("whatever", [Right.SEE]))  # what is known of callers is forgotten
        with Client(self.world.address, newer.strip()) as client, self.assertRaisesRegex(RefusedByService, "expired"):
            client.do(requests.me())
        self.shell(2, "keys", "make", "x", "--role", "viewer", "--right", "see")
        with self.assertRaisesRegex(RefusedByService, "does nothing else"):
            do(requests.make_key("x", rights=[Right.TENDER, Right.SEE]))


class Guessing(Access):
    def test_who_guesses_from_elsewhere_does_not_lock_out_who_comes_from_where_they_were_before(self) -> None:
        let_in(self.world, "jan", role("viewer"))  # from 127.0.0.1
        order = {"login": "jan", "password": "wrong"}
        with browser(self.world, "127.0.4.1") as stranger:
            for _ in range(10):
                self.assertEqual(stranger.post("/sign-in", json=order).status_code, 401)
            self.assertEqual(stranger.post("/sign-in", json={**order, "password": PASSWORD}).status_code, 429)
        signed_in(self.world, "jan").close()


if __name__ == "__main__":
    unittest.main()
