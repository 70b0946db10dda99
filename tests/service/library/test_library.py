"""The library over HTTP and through the client: revisions, drop-off, folders, the bin, parts, edits, readings."""

from __future__ import annotations

import base64
import gzip
import io
import itertools
import signal
import struct
import threading
import unittest
from dataclasses import replace
from xml.etree import ElementTree

import httpx
import pymysql
from PIL import Image
from sqlalchemy.engine import make_url

from chronarch.client import RefusedByService, requests
from chronarch.core.gcode.edits import PauseAt, SkipObject, StartFrom
from chronarch.core.machines.model import MachineModel
from chronarch.core.machines.states import MachineState
from chronarch.core.machines.tools import Tool
from chronarch.core.orders.states import JobState, Verdict
from chronarch.demo.library import stl
from chronarch.demo.shop import PARTS
from chronarch.wire import library as w
from chronarch.wire.machines import machine as wm
from chronarch.wire.orders.jobs import NewJob
from tests.support.gcode import squares, two_boxes, write
from tests.support.world import MODEL, WorldCase, eventually

_names = itertools.count(1)


class LibraryCase(WorldCase):
    """One service, no machine running; each test names its files anew."""

    @classmethod
    def prepare(cls) -> None:
        cls.world.start_service()
        cls.world.add_machines()

    def name(self) -> str:
        return f"piece-{next(_names)}.gcode"

    def add(self, text: str, name: str = "", **more: object) -> w.File:
        path = write(self.world.folder, name or self.name(), text)
        return self.world.client.add_file(path, **more).file  # type: ignore[arg-type]

    def http(self) -> httpx.Client:
        headers = {"Authorization": f"Bearer {self.world.key}", "Prefer": "wait=90"}
        client = httpx.Client(base_url=self.world.address, headers=headers, timeout=120)
        self.addCleanup(client.close)
        return client

    def refused(self, words: str) -> unittest.case._AssertRaisesContext[RefusedByService]:
        return self.assertRaisesRegex(RefusedByService, words)  # type: ignore[return-value]


class Files(LibraryCase):
    def test_a_changed_file_is_the_next_revision_and_waiting_jobs_follow_it_unless_pinned(self) -> None:
        do = self.world.client.do
        f = self.add(squares(layers=2))
        following, pinned = (self.world.submit(f.name, material="PETG") for _ in range(2))
        do(requests.pin_job(pinned.id, 1))
        again = self.add(squares(layers=5), f.name)
        self.assertEqual((again.id, again.revision, again.reading.layers), (f.id, 2, 5))
        jobs = {j.id: j for j in do(requests.jobs())}
        self.assertEqual((jobs[following.id].revision, jobs[following.id].pinned), (2, False))
        self.assertEqual((jobs[pinned.id].revision, jobs[pinned.id].pinned), (1, True))
        self.assertLess(jobs[pinned.id].planned_s, jobs[following.id].planned_s)
        back = do(requests.restore_revision(f.id, 1))
        self.assertEqual((back.revision, back.sha256), (3, f.sha256))
        self.assertEqual([r.how for r in do(requests.revisions(f.id))], ["revision 1 again", "added", "added"])
        self.assertEqual(do(requests.content(f.id, 2)).decode(), squares(layers=5))
        with self.refused("revisions 1 to 3"):
            do(requests.pin_job(pinned.id, 9))

    def test_a_packed_file_is_kept_unpacked_under_its_plain_name(self) -> None:
        name, text = self.name(), squares()
        answer = self.http().put(f"/api/drop/{name}.gz", content=gzip.compress(text.encode()))
        self.assertEqual((answer.status_code, answer.json()["file"]["name"]), (201, name))
        self.assertEqual(self.world.client.do(requests.content(name)).decode(), text)
        cut = self.http().put("/api/drop/x.gz", content=gzip.compress(text.encode())[:-20])
        self.assertEqual((cut.status_code, "cut short" in cut.json()["detail"]), (422, True))

    def test_one_request_adds_a_file_and_queues_it_raw_or_as_a_form(self) -> None:
        raw, form = self.name(), self.name()
        asked = {"queue": "true", "copies": "3", "material": "PETG", "folder": "slicer/today"}
        first = self.http().put(f"/api/drop/{raw}", params=asked, content=squares())
        second = self.http().post("/api/drop", data=asked, files={"file": (form, squares(layers=4).encode())})
        for answer, name in ((first, raw), (second, form)):
            self.assertEqual(answer.status_code, 201, answer.text)
            job = self.world.client.do(requests.job(answer.json()["job"]))
            self.assertEqual((job.file, job.copies, job.requirement.material), (name, 3, "PETG"))
            self.assertEqual(answer.json()["file"]["folder"], "slicer/today")
        bad = self.http().put("/api/drop/a.gcode", params={"queue": "true", "copies": "0"}, content=squares())
        self.assertEqual(bad.status_code, 422)
        none = self.http().put("/api/drop/a.gcode", params={"queue": "true", "machine": "Nobody"}, content=squares())
        self.assertEqual(none.status_code, 404)

    def test_a_request_sent_twice_with_its_key_is_carried_out_once(self) -> None:
        name, headers = self.name(), {"Idempotency-Key": f"k{next(_names)}"}
        send = lambda text: self.http().put(  # noqa: E731
            f"/api/drop/{name}", params={"queue": "true"}, content=text, headers=headers
        )
        first, second = send(squares()), send(squares())
        self.assertEqual((first.status_code, second.status_code), (201, 201))
        self.assertEqual(first.json(), second.json())
        self.assertEqual(second.headers["Idempotent-Replay"], "true")
        other = send(squares(layers=7))
        self.assertEqual((other.status_code, "another request" in other.json()["detail"]), (422, True))
        job = NewJob(file=name, copies=2)
        numbers = {
            self.world.client.do(requests.submit(job, once=headers["Idempotency-Key"] + "j")).id for _ in range(3)
        }
        self.assertEqual(len(numbers), 1)

    def test_files_are_found_by_what_they_are(self) -> None:
        do = self.world.client.do
        head = "; filament_type = PETG\n; nozzle_diameter = 0.6\n"
        short, wide = (
            self.add(head + squares(layers=1)),
            self.add(squares(layers=2).replace("G28", "G28\nG0 X260 F6000")),
        )
        do(requests.change_file(short.id, w.FileChange(notes="for the Observatory", tags=["rush"])))
        find = lambda **by: {f.id for f in do(requests.files(**by))} & {short.id, wide.id}  # noqa: E731
        for by in ({"search": "OBSERV"}, {"tag": "Rush"}, {"material": "petg"}, {"nozzle_mm": 0.6}, {"model": MODEL},
                   {"most_s": short.reading.planned_s + 1}, {"most_size": short.size}):  # fmt: skip
            with self.subTest(by=by):
                self.assertEqual(find(**by), {short.id})
        self.assertEqual(find(search=wide.name), {wide.id})
        self.assertEqual(find(least_s=1e6), set())

    def test_folders_hold_files_move_with_them_and_go_when_empty(self) -> None:
        do = self.world.client.do
        f = self.add(squares(), folder="shop/old")
        self.assertEqual(f.folder, "shop/old")
        do(requests.add_folder("shop/empty"))
        self.assertIn("shop/empty", [x.path for x in do(requests.folders())])
        do(requests.move_folder("shop", "works"))
        self.assertEqual(do(requests.file(f.id)).folder, "works/old")
        self.assertFalse([x.path for x in do(requests.folders()) if x.path.startswith("shop")])
        with self.refused("1 files lie in"):
            do(requests.remove_folder("works"))
        with self.refused("into itself"):
            do(requests.move_folder("works", "works/deeper"))
        do(requests.change_file(f.id, w.FileChange(folder="")))
        do(requests.remove_folder("works"))
        climbing = self.http().post("/api/folders", json={"path": "a/../b"})
        self.assertEqual((climbing.status_code, "dot" in climbing.json()["detail"]), (422, True))

    def test_many_files_are_moved_tagged_and_queued_at_once(self) -> None:
        do = self.world.client.do
        ids = [self.add(squares(layers=n)).id for n in (1, 2, 3)]
        do(requests.batch_files(w.FileBatch(files=ids, deed="move", folder="batch")))
        do(requests.batch_files(w.FileBatch(files=ids, deed="tag", tags=["a", "b"])))
        do(requests.batch_files(w.FileBatch(files=ids[:1], deed="untag", tags=["a"])))
        found = {f.id: f for f in do(requests.files(folder="batch"))}
        self.assertEqual([found[n].tags for n in ids], [["b"], ["a", "b"], ["a", "b"]])
        result = do(requests.batch_files(w.FileBatch(files=[*ids, 99_999], deed="queue", copies=2)))
        self.assertEqual((result.done, list(result.refused)), (ids, [99_999]))

    def test_the_bin_takes_nothing_that_is_queued_gives_back_and_is_emptied(self) -> None:
        do = self.world.client.do
        queued, spare = self.add(squares(layers=2)), self.add(squares(layers=6))
        job = self.world.submit(queued.name, material="PETG")
        result = do(requests.batch_files(w.FileBatch(files=[queued.id, spare.id], deed="bin")))
        self.assertEqual(result.done, [spare.id])
        self.assertIn(f"is queued (job {job.id})", result.refused[queued.id])
        self.assertEqual([f.id for f in do(requests.files(binned=True))], [spare.id])
        other = self.add(squares(layers=7), spare.name)
        self.assertNotEqual(other.id, spare.id, "a name is free again once its file is binned")
        self.assertIn(
            "another file named",
            do(requests.batch_files(w.FileBatch(files=[spare.id], deed="restore"))).refused[spare.id],
        )
        do(requests.act_on_job(job.id, "withdraw"))
        self.assertEqual(do(requests.batch_files(w.FileBatch(files=[queued.id], deed="bin"))).done, [queued.id])
        kept = self.world.folder / "blobs" / spare.sha256[:2] / spare.sha256
        self.assertTrue(kept.exists())
        self.assertIn("2 files are gone", do(requests.empty_bin()).text)
        self.assertFalse(kept.exists())
        self.assertEqual(do(requests.files(binned=True)), [])

    def test_two_files_of_one_name_at_one_moment_are_two_revisions(self) -> None:
        name = self.name()
        answers: list[int] = []
        threads = [
            threading.Thread(
                target=lambda n=n: answers.append(
                    self.http().put(f"/api/drop/{name}", content=squares(layers=n)).status_code
                )
            )  # type: ignore[misc]
            for n in (1, 2, 3)
        ]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        self.assertEqual(answers, [201] * 3)
        self.assertEqual([r.number for r in self.world.client.do(requests.revisions(name))], [3, 2, 1])

    def test_a_reading_cut_off_by_a_crash_is_done_after_the_restart(self) -> None:
        name = self.name()
        big = squares(layers=60, rounds=1500)
        url = make_url(self.world.database)
        headers = {"Idempotency-Key": f"crash {name}"}
        sent = threading.Thread(target=lambda: self.add_quietly(name, big, headers))
        with pymysql.connect(host=url.host, port=url.port or 3306, user=url.username or "", password=url.password or "",
                             database=url.database, autocommit=True) as db, db.cursor() as cursor:  # fmt: skip
            sent.start()

            def arrived() -> bool:
                cursor.execute("select count(*) from arrival where name = %s and state = 'reading'", (name,))
                return bool(cursor.fetchone()[0])  # type: ignore[index]

            eventually(arrived, "the file is being read")
            self.world.kill("service", signal.SIGKILL)
        sent.join()
        self.world.start_service()
        found = eventually(lambda: self.world.client.do(requests.files(search=name)), "the file is in the library")
        self.assertEqual(found[0].reading.layers, 60)
        again = self.http().put(f"/api/drop/{name}", params={"queue": "true"}, content=big, headers=headers)
        self.assertEqual(again.status_code, 201, again.text)
        jobs = [j for j in self.world.client.do(requests.jobs()) if j.file == name]
        self.assertEqual(len(jobs), 1, "the wish that came with it is carried out once")

    def add_quietly(self, name: str, text: str, headers: dict[str, str]) -> None:
        try:
            self.http().put(f"/api/drop/{name}", params={"queue": "true"}, content=text, headers=headers)
        except httpx.TransportError:
            return

    def test_each_model_reads_a_file_by_its_own_figures_also_one_that_comes_later(self) -> None:
        do = self.world.client.do
        f = self.add(squares(layers=3, rounds=20))
        slow = MachineModel(
            name=f"Snail {next(_names)}", acceleration_mm_s2=200, volume_mm=(60, 60, 60), cold_extrusion_c=0
        )
        do(requests.add_model(slow))
        later = eventually(
            lambda: (g := do(requests.file(f.id))) and slow.name in g.times and g, "the new model has read it"
        )
        self.assertGreater(later.times[slow.name], later.times[MODEL] * 1.2)
        with_model = do(requests.file(f.id, slow.name))
        self.assertEqual(
            [x.rule for x in with_model.reading.findings if x.severity == "refuse"][:1], ["outside-volume"]
        )
        self.assertEqual([x for x in later.reading.findings if x.severity == "refuse"], [])
        do(requests.change_model(replace(slow, acceleration_mm_s2=4000.0, volume_mm=(250.0, 250.0, 250.0))))
        quick = lambda: do(requests.file(f.id)).times[slow.name] < later.times[slow.name] * 0.9  # noqa: E731
        eventually(quick, "its files are read anew when a model gets other figures")
        self.assertEqual([x for x in do(requests.file(f.id, slow.name)).reading.findings if x.severity == "refuse"], [])
        with self.refused("no model named"):
            do(requests.change_model(replace(slow, name="Nobody")))


class Edits(LibraryCase):
    def test_an_edit_is_previewed_made_and_compared(self) -> None:
        do = self.world.client.do
        f = self.add(two_boxes())
        seen = do(requests.preview_edit(f.id, SkipObject("box 2")))
        self.assertIn("1 of 2 objects remain", seen.text)
        self.assertLess(seen.planned_after_s, seen.planned_before_s)
        self.assertLess(seen.filament_after_mm, seen.filament_before_mm)
        self.assertTrue(seen.changes[0].before.startswith("G1 E"))
        self.assertEqual(do(requests.file(f.id)).revision, 1, "a preview changes nothing")
        made = do(requests.edit_file(f.id, SkipObject("box 2")))
        self.assertEqual((made.revision, [o.name for o in made.reading.objects]), (2, ["box 1"]))
        self.assertAlmostEqual(made.reading.planned_s, seen.planned_after_s)
        d = do(requests.difference(f.id, 1))
        self.assertEqual((d.earlier, d.later, d.layers), (1, 2, [1, 2, 3, 4]))
        self.assertIn("from revision 1: Leave out box 2", do(requests.revisions(f.id))[0].how)
        old = do(requests.edit_file(f.id, PauseAt(2, "look"), revision=1))
        self.assertEqual((old.revision, len(old.reading.objects), old.reading.pauses[0].layer), (3, 2, 1))
        self.assertIn(
            "brought the nozzle to the top of layer 2", do(requests.preview_edit(f.id, StartFrom(3), revision=1)).care
        )
        with self.refused("no object 'cup'"):
            do(requests.edit_file(f.id, SkipObject("cup")))
        answer = self.http().post(f"/api/files/{f.id}/preview", json={"edit": {"kind": "dance"}})
        self.assertEqual(answer.status_code, 422)

    def test_layers_pictures_and_text_of_a_content_are_served(self) -> None:
        picture = io.BytesIO()
        Image.new("RGB", (32, 32), "teal").save(picture, "PNG")
        code = base64.b64encode(picture.getvalue()).decode()
        rows = "\n".join(f"; {code[n : n + 70]}" for n in range(0, len(code), 70))
        text = f"; thumbnail begin 32x32 {len(code)}\n{rows}\n; thumbnail end\n" + two_boxes()
        f, http = self.add(text), self.http()
        base = f"/api/contents/{f.sha256}"
        table = self.world.client.do(requests.layers(f.sha256))
        self.assertEqual([round(row.z_mm, 1) for row in table], [0.2, 0.4, 0.6, 0.8])
        layer = http.get(f"{base}/layers/2")
        self.assertEqual((layer.content[:4], layer.headers["cache-control"].count("immutable")), (b"CLAY", 1))
        self.assertGreater(struct.unpack_from("<I", layer.content, 24)[0], 20)
        self.assertEqual(http.get(f"{base}/layers/5").status_code, 404)
        shape = http.get(f"{base}/shape").content
        lines, layers = struct.unpack_from("<II", shape, 4)
        self.assertEqual((shape[:4], layers, len(shape)), (b"CPRT", 4, 12 + 26 * lines))
        self.assertEqual(Image.open(io.BytesIO(http.get(f"{base}/picture").content)).size, (32, 32))
        self.assertEqual(Image.open(io.BytesIO(http.get(f"{base}/drawing.png").content)).format, "PNG")
        svg = http.get(f"{base}/drawing.svg", params={"layer": 2, "title": "<two>"}).text
        self.assertIn("<two>, layer 2 of 4", "".join(ElementTree.fromstring(svg).itertext()))
        some = http.get(f"{base}/text", params={"first": 3, "count": 2}).json()
        self.assertEqual((some["lines"], some["total"]), (text.splitlines()[2:4], len(text.splitlines())))
        for path in (f"/api/contents/{'0' * 64}/layers/1", "/api/contents/..%2f..%2fetc/layers/1"):
            self.assertEqual(http.get(path).status_code, 404)

    def test_a_file_over_the_edge_waits_until_somebody_overrules_with_a_reason(self) -> None:
        do = self.world.client.do
        f = self.add(squares(layers=2).replace("G28", "G28\nG0 X225 F6000"))
        (finding,) = [x for x in f.reading.findings if x.severity == "refuse"]
        self.assertEqual((finding.rule, finding.line > 0), ("outside-volume", True))
        job = self.world.submit(f.name)
        self.assertIn("kept from it by the preflight: The file moves 5.0 mm beyond 220 mm along x", job.why)
        with self.refused("at least 3"):
            do(requests.overrule(f.id, w.Overruling.model_construct(model=MODEL, rule="outside-volume", reason="")))
        over = do(requests.overrule(f.id, w.Overruling(model=MODEL, rule="outside-volume", reason="the clip is off")))
        self.assertEqual(over.reading.findings[0].overruled, "tests (key 1): the clip is off")
        self.assertNotIn("preflight", do(requests.job(job.id)).why)
        changed = self.add(squares(layers=3).replace("G28", "G28\nG0 X225 F6000"), f.name)
        self.assertEqual(changed.revision, 2)
        self.assertIn("preflight", do(requests.job(job.id)).why, "another content must be looked at anew")

    def test_a_preflight_for_a_machine_knows_what_is_loaded_on_it(self) -> None:
        f = self.add("; filament_type = PETG\n; nozzle_diameter = 0.6\n" + squares())
        rules = {x.rule for x in self.world.client.do(requests.preflight(f.id, "Anchor")) if x.severity == "refuse"}
        self.assertEqual(rules, {"other-material", "other-nozzle"})
        job = self.world.submit(f.name)
        self.assertIn("sliced for a 0.6 mm nozzle", job.why)


class Parts(LibraryCase):
    machines = ("Anchor", "Bezel")

    @classmethod
    def prepare(cls) -> None:
        cls.world.start()

    def test_a_part_is_made_from_the_file_that_fits_the_machine(self) -> None:
        do = self.world.client.do
        do(requests.change_machine("Bezel", tools=[Tool(nozzle_mm=0.6, material="PLA", colour="teal")]))
        fine = self.add("; nozzle_diameter = 0.4\n" + squares(layers=2), "cup-0.4.gcode")
        coarse = self.add("; nozzle_diameter = 0.6\n" + squares(layers=2, rounds=2), "cup-0.6.gcode")
        (seen,) = [s for s in do(requests.suggestions()) if s.name == "cup"]
        self.assertEqual(set(seen.files), {fine.id, coarse.id})
        part = do(requests.add_part(w.NewPart(name="cup", files=seen.files)))
        self.assertEqual([s for s in do(requests.suggestions()) if s.name == "cup"], [])
        with self.refused("a part named 'cup' already"):
            do(requests.add_part(w.NewPart(name="cup")))
        job = do(requests.submit(NewJob(part="cup", copies=2)))
        made = eventually(lambda: len(b := self.world.builds(job)) == 2 and b, "both machines get a build")
        self.assertEqual({b.machine: b.file for b in made}, {"Anchor": fine.name, "Bezel": coarse.name})
        for name in self.machines:
            m = self.world.until(name, MachineState.UNCLEARED)
            assert m.build is not None
            do(requests.verdict(m.build.id, Verdict.GOOD))
        eventually(lambda: do(requests.job(job.id)).state is JobState.FINISHED, "the job is finished")
        past = do(requests.part_history(part.id))
        self.assertEqual((past.builds, past.good, set(past.machines)), (2, 2, {"Anchor", "Bezel"}))
        model = past.models[0]
        self.assertTrue(model.completed == 2 and model.real_s > 0 and model.planned_s > 0, model)
        with self.refused("stays in the records"):
            do(requests.remove_part("cup"))
        # what was built stays reachable by content, also when the file is thrown away for good
        do(requests.batch_files(w.FileBatch(files=[fine.id], deed="bin")))
        do(requests.empty_bin())
        with self.refused("no file"):
            do(requests.file(fine.id))
        self.assertEqual(self.http().get(f"/api/contents/{fine.sha256}").status_code, 200)

    def test_the_pace_of_a_model_is_learned_from_its_builds_and_shown(self) -> None:
        do = self.world.client.do
        f = self.add(squares(layers=1, rounds=6))
        for _ in range(2):
            job = do(requests.submit(NewJob(file=f.id, copies=2)))
            for _ in range(2):

                def ended() -> list[wm.Machine]:
                    return [m for m in self.world.machines() if m.state is MachineState.UNCLEARED]

                for m in eventually(ended, "a build ends"):
                    assert m.build is not None
                    do(requests.verdict(m.build.id, Verdict.GOOD))
                if do(requests.job(job.id)).state is JobState.FINISHED:
                    break
            eventually(
                lambda j=job.id: do(requests.job(j)).state is JobState.FINISHED or self.clear_all(), "it is finished"
            )  # type: ignore[misc]
        (pace,) = eventually(lambda: do(requests.paces()), "a pace is learned")
        self.assertEqual(pace.model, MODEL)
        self.assertGreaterEqual(pace.builds, 3)
        shown = do(requests.file(f.id))
        self.assertAlmostEqual(shown.expected[MODEL], shown.times[MODEL] * pace.pace, delta=0.2 * shown.times[MODEL])

    def clear_all(self) -> bool:
        for m in self.world.machines():
            if m.state is MachineState.UNCLEARED and m.build is not None:
                self.world.client.do(requests.verdict(m.build.id, Verdict.GOOD))
        return False

    def test_a_part_carries_its_model_with_its_size(self) -> None:
        do = self.world.client.do
        part = do(requests.add_part(w.NewPart(name="shim")))
        shim = next(p for p in PARTS if p.name == "rigger-shim")
        given = do(requests.put_model(part.id, "shim.stl", stl(shim)))
        assert given.shape is not None
        self.assertEqual([round(v, 1) for v in given.shape.size_mm], [46.0, 20.0, 2.4])
        triangles = self.http().get(f"/api/parts/{part.id}/triangles").content
        self.assertEqual(len(triangles), 36 * given.shape.triangles)
        with self.refused("neither an STL nor a 3MF"):
            do(requests.put_model(part.id, "shim.stl", b"G28\nG1 X1\n"))
        self.assertEqual(self.http().get("/api/parts/shim/model").content, stl(shim))
        do(requests.add_part(w.NewPart(name="wedge")))
        with self.refused("a part named 'wedge' already"):
            do(requests.change_part(part.id, w.PartChange(name="wedge", notes="x", files=[])))
        do(requests.change_part(part.id, w.PartChange(name="shim 2", notes="thin")))
        self.assertIn("no part any more", do(requests.remove_part("shim 2")).text)
