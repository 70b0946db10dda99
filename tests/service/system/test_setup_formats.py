"""The set-up in its other formats: machines as CSV, models and materials as one JSON document."""

from __future__ import annotations

import csv
import io
import json
from pathlib import Path

import jsonschema_rs

from chronarch.client import RefusedByService, requests
from chronarch.core.machines.materials import Material
from chronarch.wire.system.setup_file import Catalogue, SetupFormat
from tests.support import processes
from tests.support.world import MODEL, World, WorldCase

MANY = f"""\
name;model;link;place;pools;nozzle_mm;hardened
Bezel;{MODEL};tcp://127.0.0.1:7201;B1;night; 0,6;
Crown;{MODEL};tcp://127.0.0.1:7202;;night; 0.4 ;yes

anchor;;;A7;;;
"""
WRONG_CSV = (
    ("", "first row names its columns: name, and any of"),
    ("name,nozle\nBezel,0.4\n", "'nozle' is none of them"),
    ("name,name\nBezel,Bezel\n", "'name' is there twice"),
    ("name\n", "no row below its head"),
    ("name,place\nBezel\n", "Row 2 .* as many fields"),
    ("name,place\nBezel,B1\n", "Row 2 of the CSV, Bezel: .*link"),
    (f"name,model,link\nBezel,{MODEL},tcp://127.0.0.1\n", "Row 2 .* Bezel: .*link"),
    ("name,hardened\nAnchor,perhaps\n", "'perhaps' is neither"),
    ("name,place\nAnchor,A1\nanchor,A2\n", "machine 'anchor' is there twice"),
    ("name,nozzle_mm,hardened\nAnchor,0.4,yes;no\n", "2 answers for 1 nozzles"),
    (f"name,model,link\nBezel,{MODEL},tcp://127.0.0.1:7201\nCrown,{MODEL},tcp://127.0.0.1:7201\n", "is Bezel's"),
    ('name,place\n"Bezel,B1\n', "cannot be read near row 1"),
)
WRONG_CATALOGUES = (
    ("{", "Invalid JSON"),
    ("{}", "catalogue: Field required"),
    ('{"catalogue": 2}', "catalogue: Input should be 1"),
    ('{"catalogue": 1, "spools": []}', "spools: Extra inputs"),
    ('{"catalogue": 1, "materials": [{"name": "PLA", "density_g_cm3": 0}]}', "materials.0.density_g_cm3"),
    ('{"catalogue": 1, "models": [{"name": "M", "volume_mm": [0, 1, 1]}]}', "models.0"),
)


class SetupFormats(WorldCase):
    own_database = True

    def shell(self, *words: str, code: int = 0, world: World | None = None) -> str:
        done = processes.run(*words, env=(world or self.world).environment)
        self.assertEqual(done.returncode, code, done.stdout + done.stderr)
        return done.stdout

    def file(self, name: str, text: str) -> str:
        path = self.world.folder / name
        path.write_text(text, encoding="utf-8")
        return str(path)

    def test_many_machines_come_from_a_table_and_again_change_nothing(self) -> None:
        w, do = self.world, self.world.client.do
        path = self.file("many.csv", "\ufeff" + MANY)
        self.assertIn("3 things would change", self.shell("setup", "apply", path, "--dry-run"))
        self.assertEqual([m.name for m in do(requests.machines())], ["Anchor"])
        told = self.shell("setup", "apply", path)
        self.assertRegex(told, r"machine Bezel +is added, at tcp://127\.0\.0\.1:7201")
        self.assertRegex(told, "machine Anchor +place: nothing → A7")
        bezel, crown = (do(requests.machine(name)) for name in ("Bezel", "Crown"))
        self.assertEqual((bezel.tools[0].nozzle_mm, bezel.tools[0].hardened, bezel.pools), (0.6, False, ["night"]))
        self.assertEqual((crown.tools[0].nozzle_mm, crown.tools[0].hardened, crown.place), (0.4, True, ""))
        self.assertIn("All is as the file says", self.shell("setup", "apply", path))
        nozzle = self.file("nozzle.csv", "name,nozzle_mm\nBezel,0.8\n")
        self.assertRegex(self.shell("setup", "apply", nozzle, "--dry-run"), r"tools 1 nozzle_mm: 0\.6 → 0\.8\b")
        table = self.shell("setup", "export", "--format", "csv")
        rows = {row["name"]: row for row in csv.DictReader(io.StringIO(table))}
        self.assertEqual((rows["Bezel"]["nozzle_mm"], rows["Crown"]["hardened"]), ("0.6", "yes"))
        self.assertEqual(rows["Anchor"]["link"], f"tcp://127.0.0.1:{w.ports['Anchor']}")
        self.assertIn("All is as the file says", self.shell("setup", "apply", self.file("same.csv", table)))

    def test_a_table_that_makes_no_sense_says_which_row(self) -> None:
        do = self.world.client.do
        before = len(do(requests.machines()))
        for text, words in WRONG_CSV:
            with self.subTest(words), self.assertRaisesRegex(RefusedByService, words):
                do(requests.apply_setup_file(text, form=SetupFormat.CSV))
        self.assertEqual(len(do(requests.machines())), before)

    def test_a_catalogue_is_taken_to_another_shop(self) -> None:
        do = self.world.client.do
        do(requests.put_material(Material("PA-CF", 1.22, 280, 90)))
        text = self.shell("setup", "export", "--format", "json")
        schema = json.loads(self.shell("setup", "schema"))
        jsonschema_rs.Draft202012Validator(schema).validate(json.loads(text))
        other = World(machines=())
        self.addCleanup(other.close)
        other.start_service()
        path = self.file("catalogue.json", text)
        told = self.shell("setup", "apply", path, world=other)
        self.assertRegex(told, "material PA-CF +is added")
        self.assertIn("All is as the file says", self.shell("setup", "apply", path, world=other))
        self.assertEqual(self.shell("setup", "export", "--format", "json", world=other), text)
        self.assertEqual(other.client.do(requests.models()), do(requests.models()))
        do(requests.remove_material("PA-CF"))

    def test_a_wrong_catalogue_is_refused_by_the_schema_too(self) -> None:
        schema = self.world.client.do(requests.catalogue_schema())
        self.assertEqual(schema["$id"], "urn:chronarch:catalogue:1")
        for text, words in WRONG_CATALOGUES:
            with self.subTest(text):
                with self.assertRaisesRegex(RefusedByService, words):
                    self.world.client.do(requests.apply_setup_file(text, form=SetupFormat.JSON))
                if text != "{":
                    self.assertFalse(jsonschema_rs.Draft202012Validator(schema).is_valid(json.loads(text)))

    def test_the_published_schema_is_the_services(self) -> None:
        published = Path(__file__).parents[3] / "docs" / "protocols" / "catalogue.schema.json"
        self.assertEqual(json.loads(published.read_text()), self.world.client.do(requests.catalogue_schema()))
        self.assertIn("sequences", json.dumps(Catalogue.model_json_schema()["$defs"]["MachineModel"]))
