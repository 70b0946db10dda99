"""The service over HTTP and through the client: access, files, jobs, problems, reports, the live stream."""

from __future__ import annotations

import base64
import hashlib
import http.client
import itertools
import json
import socket
import threading
import time
from contextlib import suppress
from datetime import UTC, datetime, timedelta
from pathlib import Path
from urllib.parse import quote

import httpx

from chronarch.client import RefusedByService, Unreachable, requests
from chronarch.client.calls import IDLE_S, Client
from chronarch.core.access.rights import GivenRole
from chronarch.core.machines.states import Intake, MachineState
from chronarch.core.orders.states import JobState, Verdict
from chronarch.wire.machines import machine as wm
from tests.support.gcode import squares
from tests.support.talk import sent_away
from tests.support.world import PASSWORD, PERSON, WorldCase, eventually


class ServiceAlone(WorldCase):
    """No tender is there: machines are not reachable, so nothing is ever started."""

    @classmethod
    def prepare(cls) -> None:
        cls.world.environment["CHRONARCH_LARGEST_FILE"] = "2000000"
        cls.world.start_service()
        cls.world.add_machines()
        cls.world.add_file("piece.gcode", squares())

    def http(self, key: str | None = None) -> httpx.Client:
        headers = {"Authorization": f"Bearer {key or self.world.key}"} if key != "" else {}
        client = httpx.Client(base_url=self.world.address, headers={"Prefer": "wait=90", **headers}, timeout=120)
        self.addCleanup(client.close)
        return client

    def assert_problem(self, answer: httpx.Response, status: int, words: str) -> None:
        self.assertEqual(answer.status_code, status, answer.text)
        self.assertEqual(answer.headers["content-type"], "application/problem+json")
        body = answer.json()
        self.assertEqual((body["status"], body["type"]), (status, "about:blank"))
        self.assertIn(words, body["detail"])

    # Access --------------------------------------------------------------------------------------------------

    def test_nothing_is_told_to_strangers(self) -> None:
        paths = (
            "/api/machines",
            "/api/files",
            "/api/jobs",
            "/api/live",
            "/api/keys",
            "/api/report/utilisation",
            "/api/me",
        )
        for path in paths:
            self.assert_problem(self.http("").get(path), 401, "Sign in")
            self.assert_problem(self.http("chronarch_wrong").get(path), 401, "key")

    def test_a_key_does_what_its_rights_say_and_no_more(self) -> None:
        reading = self.http(self.world.read_key)
        self.assertEqual(reading.get("/api/machines").status_code, 200)
        self.assert_problem(reading.post("/api/jobs", json={"file": "piece.gcode"}), 403, "change the queue")
        self.assert_problem(self.http(self.world.tender_key).get("/api/machines"), 403, "look")
        self.assert_problem(self.http().put("/api/builds/1/log", content=b"x"), 403, "tender")

    def test_a_revoked_key_is_worthless_at_once(self) -> None:
        w = self.world
        made = w.client.do(requests.make_key("for a moment", GivenRole.VIEWER))
        self.assertEqual(self.http(made.secret).get("/api/me").json()["name"], "for a moment")
        w.client.do(requests.revoke_key(made.id))
        self.assert_problem(self.http(made.secret).get("/api/me"), 401, "revoked")
        self.assertNotIn(made.secret, self.http().get("/api/keys").text)

    def test_a_person_signs_in_changes_things_only_with_the_csrf_token_and_signs_out(self) -> None:
        browser = self.http("")
        self.assert_problem(browser.post("/api/sign-in", json={"login": PERSON, "password": "no"}), 401, "wrong")
        me = browser.post("/api/sign-in", json={"login": PERSON, "password": PASSWORD})
        cookie = me.headers["set-cookie"].lower()
        self.assertTrue("httponly" in cookie and "samesite=strict" in cookie, cookie)
        self.assertEqual(browser.get("/api/machines").status_code, 200)
        order = {"file": "piece.gcode", "held": True}
        self.assert_problem(browser.post("/api/jobs", json=order), 403, "CSRF")
        token = {"X-CSRF-Token": me.json()["csrf"]}
        self.assertEqual(browser.post("/api/jobs", json=order, headers=token).status_code, 201)
        browser.post("/api/sign-out", headers=token)
        self.assertEqual(browser.get("/api/machines").status_code, 401)

    def test_guessing_a_password_is_slowed_down(self) -> None:
        browser = self.http("")
        answers = [
            browser.post("/api/sign-in", json={"login": "nobody", "password": "x"}).status_code for _ in range(11)
        ]
        self.assertEqual(answers, [401] * 10 + [429])

    # Files ---------------------------------------------------------------------------------------------------

    def add(self, name: str, content: bytes | str, **headers: str) -> httpx.Response:
        return self.http().put(f"/api/drop/{quote(name, safe='')}", content=content, headers=headers)

    def kept(self) -> set[str]:
        return {p.name for p in (self.world.folder / "blobs").rglob("*") if p.is_file()}

    def test_a_file_is_kept_by_its_hash_and_given_back_byte_for_byte(self) -> None:
        text = squares(layers=2, nozzle=70)
        answer = self.add("kept.gcode", text)
        self.assertEqual(answer.status_code, 201)
        sha256 = hashlib.sha256(text.encode()).hexdigest()
        self.assertEqual(answer.json()["file"]["sha256"], sha256)
        self.assertIn(sha256, self.kept())
        self.assertEqual(self.http().get("/api/files/kept.gcode/content").text, text)
        self.assertEqual(self.add("kept.gcode", text).status_code, 200, "the same again changes nothing")
        changed = self.add("kept.gcode", squares(layers=3)).json()["file"]
        self.assertEqual((changed["revision"], changed["reading"]["layers"]), (2, 3))
        first = self.http().get("/api/files/kept.gcode/content", params={"revision": 1})
        self.assertEqual(first.text, text)

    def test_what_is_not_a_good_file_is_refused_and_nothing_kept(self) -> None:
        before, listed = self.kept(), len(self.world.client.do(requests.files()))
        bad = (
            ("empty.gcode", b"", 422, "empty"),
            ("letter.gcode", b"Dear sir,\nplease print this.\n" * 50, 422, "not G-code"),
            ("short.gcode", squares().encode()[:-2000].rsplit(b"\n", 1)[0] + b"\nG1 X12.3 Y", 422, "cut short"),
            ("picture.gcode", bytes(range(256)) * 10, 422, "zero byte"),
            ("huge.gcode", b"G1 X1\n" * 400_000, 413, "larger than"),
            ("../../etc/passwd", squares(), 422, "dot"),
            (".hidden", squares(), 422, "dot"),
            ("a" * 400, squares(), 422, "characters"),
            ("", squares(), 422, "empty"),
        )
        for name, content, status, words in bad:
            with self.subTest(name=name[:20]):
                self.assert_problem(self.add(name, content), status, words)
        self.assertEqual(self.kept(), before)
        self.assertEqual(len(self.world.client.do(requests.files())), listed)

    def test_who_does_not_want_to_wait_hears_how_far_the_reading_is(self) -> None:
        text = squares(layers=20, rounds=400)
        answer = self.add("patient.gcode", text, Prefer="respond-async, wait=0")
        self.assertEqual(answer.status_code, 202, answer.text)
        path = f"/api/arrivals/{answer.json()['id']}"
        eventually(lambda: self.http().get(path).json()["state"] == "done", "it has been read")
        self.assertEqual(self.add("patient.gcode", text, Prefer="wait=nonsense").status_code, 200)

    def test_a_file_that_does_not_arrive_whole_is_noticed_by_its_digest(self) -> None:
        text = squares().encode()
        digest = base64.b64encode(hashlib.sha256(text).digest()).decode()
        headers = {"Content-Digest": f"sha-256=:{digest}:"}
        self.assert_problem(self.add("whole.gcode", text[:-10], **headers), 422, "whole")
        self.assert_problem(self.add("whole.gcode", text, **{"Content-Digest": "md5=x"}), 400, "sha-256")
        self.assertEqual(self.add("whole.gcode", text, **headers).status_code, 201)

    def test_a_connection_that_breaks_off_leaves_nothing_behind(self) -> None:
        with socket.create_connection(("127.0.0.1", self.world.port)) as raw:
            raw.sendall(
                b"PUT /api/drop/cut.gcode HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer "
                + self.world.key.encode()
                + b"\r\nContent-Length: 100000\r\n\r\nG28\nG1 X1\n"
            )
        arriving = self.world.folder / "blobs" / "arriving"
        eventually(lambda: not list(arriving.iterdir()), "the half-sent file is gone")
        self.assert_problem(self.http().get("/api/files/cut.gcode"), 404, "no file")

    def test_a_connection_outlasts_the_time_for_which_clients_use_it(self) -> None:
        connection = http.client.HTTPConnection("127.0.0.1", self.world.port, timeout=60)
        self.addCleanup(connection.close)
        for idle_s in (0.0, 2 * IDLE_S):
            time.sleep(idle_s)
            connection.request("GET", "/api/me", headers={"Authorization": f"Bearer {self.world.key}"})
            answer = connection.getresponse()
            self.assertEqual((answer.status, json.load(answer)["name"]), (200, "tests"))

    def test_the_service_stays_small_while_a_large_file_streams_in(self) -> None:
        pid = self.world.processes["service"].pid
        before = _resident_kb(pid)
        big = ("G1 X10.000 Y10.000 E1.00000 F3000\n" * 55_000).encode()
        pieces = (big[i : i + 65536] for i in range(0, len(big), 65536))
        answer = self.http().put("/api/drop/large.gcode", content=pieces)
        self.assertEqual(answer.status_code, 201)
        self.assertLess(_resident_kb(pid) - before, 30_000)

    # Jobs ----------------------------------------------------------------------------------------------------

    def test_a_waiting_job_says_why_and_can_be_held_released_and_withdrawn(self) -> None:
        w = self.world
        job = w.submit("piece.gcode", 3, material="PLA", colour="teal", nozzle_mm=0.4)
        self.assertEqual((job.state, job.waiting), (JobState.WAITING, 3))
        self.assertIn("Anchor: its tender is not connected", job.why)
        impossible = w.submit("piece.gcode", material="PETG")
        self.assertIn("has teal PLA loaded; the job needs PETG", impossible.why)
        self.assertIs(w.client.do(requests.act_on_job(job.id, "hold")).state, JobState.HELD)
        self.assertIs(w.client.do(requests.act_on_job(job.id, "release")).state, JobState.WAITING)
        self.assertIs(w.client.do(requests.act_on_job(job.id, "withdraw")).state, JobState.WITHDRAWN)
        with self.assertRaises(RefusedByService) as refused:
            w.client.do(requests.act_on_job(job.id, "hold"))
        self.assertEqual(refused.exception.problem.status, 409)
        listed = [j.id for j in w.client.do(requests.jobs())]
        self.assertNotIn(job.id, listed)
        self.assertIn(job.id, [j.id for j in w.client.do(requests.jobs(ended=True))])

    def test_absurd_orders_are_refused_and_change_nothing(self) -> None:
        before = len(self.world.client.do(requests.jobs(ended=True)))
        bad: list[tuple[dict[str, object], str]] = [
            ({"file": "no-such.gcode"}, "no file"),
            ({"file": "piece.gcode", "copies": 0}, "copies"),
            ({"file": "piece.gcode", "copies": 10**9}, "copies"),
            ({"file": "piece.gcode", "copies": "many"}, "copies"),
            ({"file": "piece.gcode", "colour": "teal"}, "colour"),
            ({"file": "piece.gcode", "requirement": {"nozzle_mm": -1}}, "nozzle_mm"),
            ({"file": "piece.gcode", "requirement": {"nozzle_mm": 1e400}}, "nozzle_mm"),
            ({"file": "piece.gcode", "requirement": {"material": "x" * 100}}, "material"),
            ({"copies": 1}, "file"),
        ]
        for order, words in bad:
            with self.subTest(order=order):
                answer = self.http().post(
                    "/api/jobs", content=json.dumps(order), headers={"Content-Type": "application/json"}
                )
                self.assert_problem(answer, 422, words)
        self.assert_problem(self.http().post("/api/jobs", content=b"{nonsense"), 422, "")
        unknown = {"file": "piece.gcode", "requirement": {"machine": "Nobody"}}
        self.assert_problem(self.http().post("/api/jobs", json=unknown), 404, "Nobody")
        self.assertEqual(len(self.world.client.do(requests.jobs(ended=True))), before)

    # Machines, reports, the rest -----------------------------------------------------------------------------

    def test_a_machine_is_changed_only_in_ways_that_make_sense(self) -> None:
        http = self.http()
        self.assertEqual(http.patch("/api/machines/anchor", json={"intake": "manual"}).json()["intake"], "manual")
        self.assertEqual(http.patch("/api/machines/Anchor", json={"intake": "open"}).json()["intake"], Intake.OPEN)
        self.assert_problem(http.patch("/api/machines/Anchor", json={"intake": "sometimes"}), 422, "intake")
        self.assert_problem(http.patch("/api/machines/Anchor", json={"state": "idle"}), 422, "state")
        self.assert_problem(http.get("/api/machines/Nobody"), 404, "Nobody")
        order = {"name": "Anchor", "model": "Lantern 220", "link": "tcp://127.0.0.1:1"}
        self.assert_problem(http.post("/api/machines", json=order), 409, "already")
        self.assert_problem(http.post("/api/machines", json={**order, "name": "B", "link": "file:///etc"}), 422, "link")
        self.assert_problem(http.post("/api/machines", json={**order, "name": "B", "model": "?"}), 422, "no model")
        model = {"name": "Odd", "volume_mm": [0, 1, 1]}
        self.assert_problem(http.post("/api/models", json=model), 422, "volume_mm")

    def test_what_needs_a_tender_is_refused_while_it_is_away(self) -> None:
        self.assert_problem(self.http().post("/api/machines/Anchor/take-out", json={}), 503, "not connected")
        self.assert_problem(self.http().post("/api/machines/Anchor/start-next"), 409, "Nothing was started")

    def test_deeds_on_builds_that_are_not_there_are_refused(self) -> None:
        for deed in ("pause", "stop"):
            self.assert_problem(self.http().post(f"/api/builds/999/{deed}", json={}), 404, "no build 999")
        self.assert_problem(self.http().post("/api/builds/999/verdict", json={"verdict": "good"}), 404, "999")
        self.assert_problem(self.http().post("/api/builds/999/verdict", json={"verdict": "scrap"}), 422, "reason")
        self.assert_problem(self.http().post("/api/builds/999/verdict", json={"verdict": "fine"}), 422, "verdict")

    def test_the_ledger_covers_the_time_since_a_machine_was_added(self) -> None:
        w = self.world
        report = w.client.do(requests.utilisation())
        self.assertEqual([r.name for r in report.machines], ["Anchor"])
        self.assertAlmostEqual(report.fleet.seconds[MachineState.IDLE], report.fleet.recorded_s)
        entries = w.client.do(requests.ledger())
        self.assertEqual([(e.state, e.end) for e in entries], [(MachineState.IDLE, None)])
        later = datetime(2027, 1, 1, tzinfo=UTC)
        backwards = self.http().get(
            "/api/report/utilisation", params={"from": str(later), "to": str(later - timedelta(1))}
        )
        self.assert_problem(backwards, 422, "before it begins")
        self.assert_problem(self.http().get("/api/report/utilisation?from=yesterday"), 422, "from")
        table = w.client.do(requests.utilisation_csv()).split("\r\n")
        self.assertTrue(table[0].startswith("name,utilisation,printing_h"))
        self.assertTrue(table[2].startswith("Fleet,0.0000"))

    def test_wrong_addresses_and_methods_are_problems_too(self) -> None:
        self.assert_problem(self.http().get("/api/nothing"), 404, "nothing")
        self.assert_problem(self.http().delete("/api/machines"), 405, "")

    def test_the_document_of_the_api_names_problems_and_examples(self) -> None:
        document = self.http().get("/api/openapi.json").json()
        submit = document["paths"]["/api/jobs"]["post"]
        self.assertIn("4XX", submit["responses"])
        self.assertIn("examples", document["components"]["schemas"]["NewJob"]["properties"]["file"])

    def test_answers_tell_browsers_to_be_strict(self) -> None:
        headers = self.http().get("/").headers
        self.assertIn("default-src 'self'", headers["content-security-policy"])
        self.assertEqual(headers["x-content-type-options"], "nosniff")

    def test_the_live_stream_begins_with_the_clock_and_tells_of_changes(self) -> None:
        heard: list[str] = []

        def listen() -> None:
            with Client(self.world.address, self.world.read_key) as client:
                for event in client.live():
                    heard.append(f"{event.name} {event.data}")
                    if event.name == "changed":
                        return

        listener = threading.Thread(target=listen, daemon=True)
        listener.start()
        eventually(lambda: any(h.startswith("machine") for h in heard), "the machines are told")
        self.world.submit("piece.gcode")
        listener.join(60)
        self.assertTrue(heard[0].startswith("shop"), heard)
        self.assertTrue(any(h.startswith('changed {"what": "jobs"') for h in heard), heard)

    def test_a_stranger_on_the_tenders_socket_is_sent_away(self) -> None:
        from websockets.exceptions import ConnectionClosed
        from websockets.sync.client import connect

        url = self.world.address.replace("http", "ws") + "/api/tender"
        talks = (
            ({}, '{"kind":"hello","tender":"tender","epoch":"x"}', 4401),
            ({"Authorization": f"Bearer {self.world.key}"}, '{"kind":"hello","tender":"tender","epoch":"x"}', 4401),
            ({"Authorization": f"Bearer {self.world.tender_key}"}, "{nonsense", 4400),
            ({"Authorization": f"Bearer {self.world.tender_key}"}, '{"kind":"hello","tender":"?","epoch":"x"}', 4400),
        )
        for headers, first, code in talks:
            with connect(url, additional_headers=headers, proxy=None) as socket_:
                with suppress(ConnectionClosed):
                    socket_.send(first)
                self.assertEqual(sent_away(socket_)[0], code)

    def test_an_address_where_nobody_answers_is_said_to_be_so(self) -> None:
        with Client("http://127.0.0.1:9", "x") as client, self.assertRaisesRegex(Unreachable, "is it running"):
            client.do(requests.machines())


def _resident_kb(pid: int) -> int:
    status = Path(f"/proc/{pid}/status").read_text()
    return int(next(line for line in status.splitlines() if line.startswith("VmRSS")).split()[1])


class WholeJob(WorldCase):
    """The thread through every part: queued, handed out, fed, followed, judged."""

    machines = ("Anchor", "Bezel")
    cameras = True

    @classmethod
    def prepare(cls) -> None:
        super().prepare()
        cls.world.add_file("piece.gcode", squares())
        cls.world.add_file("warm.gcode", squares(layers=2, bed=60))
        cls.world.add_file("long.gcode", squares(layers=8, rounds=90, feed=1200))

    def test_copies_are_made_judged_and_made_again_when_scrap(self) -> None:
        w = self.world
        job = w.submit("piece.gcode", 2, material="PLA", colour="teal", nozzle_mm=0.4)
        eventually(lambda: len(w.builds(job)) == 2, "both machines get a copy")
        self.assertEqual({b.copy_number for b in w.builds(job)}, {1, 2})
        self.assertEqual({b.machine for b in w.builds(job)}, {"Anchor", "Bezel"})
        for name in w.names:
            w.until(name, MachineState.UNCLEARED)
        first, second = w.builds(job)
        self.assertEqual([first.outcome, second.outcome], ["completed", "completed"])
        self.assertEqual(first.acknowledged, first.commands)
        self.assertGreater(first.grams, 0)
        w.client.do(requests.verdict(first.id, Verdict.GOOD))
        with self.assertRaisesRegex(RefusedByService, "verdict already"):
            w.client.do(requests.verdict(first.id, Verdict.GOOD))
        judged = w.client.do(requests.verdict(second.id, Verdict.SCRAP, "warped corner"))
        self.assertEqual((judged.scrap_reason, judged.judged_by), ("warped corner", "tests (key 1)"))
        again = eventually(lambda: [b for b in w.builds(job) if b.verdict is None], "the scrapped copy is made again")[
            0
        ]
        self.assertEqual(again.copy_number, second.copy_number)
        w.until(again.machine, MachineState.UNCLEARED)
        w.client.do(requests.verdict(again.id, Verdict.GOOD))
        done = w.client.do(requests.job(job.id))
        self.assertEqual((done.state, done.good, done.waiting), (JobState.FINISHED, 2, 0))
        for name in w.names:
            self.assertEqual(w.until(name, MachineState.IDLE).build, None)

    def test_a_build_is_followed_paused_resumed_and_stopped(self) -> None:
        w = self.world
        self.clear("Anchor")
        job = w.submit("long.gcode", machine="Anchor")
        build = w.build_of(job)
        with self.assertRaisesRegex(RefusedByService, "has not ended"):
            w.client.do(requests.verdict(build.id, Verdict.GOOD))
        w.until("Anchor", MachineState.BUILDING)
        m = eventually(lambda: (m := w.machine("Anchor")).build and m.build.acknowledged > 50 and m, "progress is seen")
        self.assertTrue(0 < m.build.progress < 1 and m.build.expected_end and 1 <= m.build.layer <= m.build.layers == 8)
        self.assertIsNotNone(m.reading)
        paused = w.client.do(requests.pause(build.id, "wrong colour"))
        self.assertEqual((paused.state, paused.reason), ("paused", "wrong colour"))
        self.assertIs(w.state("Anchor"), MachineState.PAUSED)
        with self.assertRaisesRegex(RefusedByService, "paused already"):
            w.client.do(requests.pause(build.id))
        taken = w.standin("Anchor")["taken"]
        self.assertEqual(w.client.do(requests.resume(build.id)).state, "building")
        w.taken("Anchor", taken + 20)
        w.client.do(requests.stop(build.id, "no longer wanted"))
        w.until("Anchor", MachineState.UNCLEARED)
        ended = w.client.do(requests.build(build.id))
        self.assertEqual((ended.outcome, ended.reason), ("stopped", "no longer wanted"))
        heat = w.standin("Anchor")
        self.assertEqual((heat["nozzle_asked_c"], heat["bed_asked_c"]), (0, 0))
        with self.assertRaisesRegex(RefusedByService, "has ended"):
            w.client.do(requests.pause(build.id))
        w.client.do(requests.verdict(build.id, Verdict.SCRAP, "stopped"))
        w.client.do(requests.act_on_job(job.id, "withdraw"))

    def test_trouble_at_the_machine_pauses_the_build_and_a_notice_says_why(self) -> None:
        w = self.world
        self.clear("Bezel")
        job = w.submit("long.gcode", machine="Bezel")
        build = w.build_of(job)
        w.until("Bezel", MachineState.BUILDING)
        w.fault("Bezel", "filament-out")
        w.until("Bezel", MachineState.PAUSED)
        found = eventually(lambda: w.client.do(requests.notices(build=build.id, open=True)), "a notice is there")
        self.assertEqual((found[0].text, found[0].gravity), ("Bezel paused itself: filament ran out", "act"))
        w.client.do(requests.resume(build.id))
        eventually(lambda: w.client.do(requests.notice(found[0].id)).closed_at, "it is over once the build goes on")
        w.until("Bezel", MachineState.BUILDING)
        w.fault("Bezel", "drift", part="nozzle", value=-1.0)
        reason = w.until("Bezel", MachineState.PAUSED).reason
        self.assertIn("nozzle", reason)
        self.assertIn("asked 60 °C", reason)
        eventually(lambda: w.standin("Bezel")["nozzle_asked_c"] == 0, "a heater in alarm is off")
        w.fault("Bezel", "heal")
        w.client.do(requests.stop(build.id))
        w.until("Bezel", MachineState.UNCLEARED)
        w.client.do(requests.act_on_job(job.id, "withdraw"))
        self.clear("Bezel")

    def test_frames_heat_and_the_ledger_follow_a_build(self) -> None:
        w = self.world
        self.clear("Anchor")
        job = w.submit("warm.gcode", machine="Anchor")
        build = w.build_of(job)
        w.until("Anchor", MachineState.UNCLEARED)
        segments = w.standin("Anchor")["segments"]
        self.assertEqual(segments, 2 * 4 * 4)
        frame = eventually(lambda: self.try_frame("Anchor"), "a frame arrives")
        self.assertTrue(frame.startswith(b"\xff\xd8"))
        eventually(lambda: w.client.do(requests.heat("Anchor")), "readings are written")
        entries = [e for e in w.client.do(requests.ledger(machine="Anchor")) if e.build == build.id]
        self.assertEqual([e.state for e in entries], ["warming", "building", "cooling", "uncleared"])
        for a, b in itertools.pairwise(entries):
            self.assertEqual(a.end, b.begin)
        w.client.do(requests.verdict(build.id, Verdict.GOOD))

    def try_frame(self, name: str) -> bytes:
        try:
            return self.world.client.do(requests.frame(name))
        except RefusedByService:
            return b""

    def test_a_machine_is_taken_out_and_put_back_and_manual_intake_waits_for_a_person(self) -> None:
        w = self.world
        self.clear("Anchor")
        w.client.do(requests.take_out("Anchor", "new belt"))
        self.assertEqual((w.state("Anchor"), w.machine("Anchor").reason), ("service", "new belt"))
        job = w.submit("piece.gcode", machine="Anchor")
        self.assertIn("Anchor is in service", job.why)
        w.client.do(requests.change_machine("Anchor", intake=Intake.MANUAL))
        w.client.do(requests.put_back("Anchor"))
        self.assertIn("a person starts each build", w.client.do(requests.job(job.id)).why)
        self.assertEqual(w.builds(job), [])
        w.client.do(requests.start_next("Anchor"))
        w.until("Anchor", MachineState.UNCLEARED)
        w.client.do(requests.change_machine("Anchor", intake=Intake.OPEN))
        self.clear("Anchor")

    def test_a_halted_machine_is_down_until_it_is_mended_and_put_back(self) -> None:
        w = self.world
        self.clear("Bezel")
        job = w.submit("long.gcode", machine="Bezel")
        w.until("Bezel", MachineState.BUILDING)
        w.fault("Bezel", "halt", text="driver fault")
        self.assertIn("driver fault", w.until("Bezel", MachineState.DOWN).reason)
        self.assertEqual(w.builds(job)[0].outcome, "failed")
        w.client.do(requests.act_on_job(job.id, "withdraw"))
        self.clear("Bezel")

    def test_an_added_machine_is_minded_at_once(self) -> None:
        w = self.world
        w.ports["Crown"] = w.ports["Anchor"]
        order = wm.NewMachine(name="Crown", model="Lantern 220", link="tcp://127.0.0.1:9")
        w.client.do(requests.add_machine(order))
        w.until("Crown", MachineState.OFFLINE)
        self.assertIn("Crown is offline", w.submit("piece.gcode", machine="Crown").why)
