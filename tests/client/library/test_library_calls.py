"""The library's calls as values: each names its method, its path with names quoted, its parameters and body."""

from __future__ import annotations

import unittest
from typing import Any

from pydantic import ValidationError

from chronarch.client import requests as c
from chronarch.client.requests import Call
from chronarch.core.gcode import edits
from chronarch.wire import library as w
from chronarch.wire.common import Wire
from chronarch.wire.gcode import EditRequest

SHA = "a" * 64
CALLS: tuple[tuple[Call[Any], str, str, dict[str, str]], ...] = (
    (c.files(), "GET", "/api/files", {}),
    (c.files(search="a b", nozzle_mm=0.4, binned=None), "GET", "/api/files", {"search": "a b", "nozzle_mm": "0.4"}),
    (c.file("50% #1.gcode"), "GET", "/api/files/50%25%20%231.gcode", {}),
    (c.file(7, "Kiln 250", 2), "GET", "/api/files/7", {"model": "Kiln 250", "revision": "2"}),
    (c.arrivals(), "GET", "/api/arrivals", {}),
    (c.arrival(3), "GET", "/api/arrivals/3", {}),
    (c.empty_bin(), "DELETE", "/api/bin", {}),
    (c.folders(), "GET", "/api/folders", {}),
    (c.add_folder("a/b"), "POST", "/api/folders", {}),
    (c.move_folder("a", "b"), "POST", "/api/folders/move", {}),
    (c.remove_folder("a/b"), "DELETE", "/api/folders", {"path": "a/b"}),
    (c.revisions("x"), "GET", "/api/files/x/revisions", {}),
    (c.restore_revision("x", 2), "POST", "/api/files/x/revisions/2/restore", {}),
    (c.content("x", 2), "GET", "/api/files/x/content", {"revision": "2"}),
    (c.file_history("x"), "GET", "/api/files/x/history", {}),
    (c.preflight("x", "Anchor"), "GET", "/api/files/x/preflight", {"machine": "Anchor"}),
    (c.difference("x", 1), "GET", "/api/files/x/difference", {"earlier": "1"}),
    (c.layers(SHA), "GET", f"/api/contents/{SHA}/layers", {}),
    (c.layer(SHA, 4, "m"), "GET", f"/api/contents/{SHA}/layers/4", {"model": "m"}),
    (c.shape(SHA), "GET", f"/api/contents/{SHA}/shape", {}),
    (c.picture(SHA, 64), "GET", f"/api/contents/{SHA}/picture", {"width": "64"}),
    (c.lines(SHA, 3, 9), "GET", f"/api/contents/{SHA}/text", {"first": "3", "count": "9"}),
    (c.drawing(SHA, "svg", layer=2), "GET", f"/api/contents/{SHA}/drawing.svg", {"layer": "2"}),
    (c.parts(), "GET", "/api/parts", {}),
    (c.part("nest box"), "GET", "/api/parts/nest%20box", {}),
    (c.suggestions(), "GET", "/api/parts/suggestions", {}),
    (c.remove_part(1), "DELETE", "/api/parts/1", {}),
    (c.part_history(1), "GET", "/api/parts/1/history", {}),
    (c.put_model(1, "cup.stl", b"x"), "PUT", "/api/parts/1/model", {"name": "cup.stl"}),
)


class Calls(unittest.TestCase):
    def test_each_call_says_what_it_asks(self) -> None:
        for call, method, path, params in CALLS:
            with self.subTest(path=path):
                self.assertEqual((call.method, call.path, call.params), (method, path, params))

    def test_only_what_was_set_of_a_change_is_sent(self) -> None:
        sent = c.change_file(1, w.FileChange(notes="x")).arguments()["content"]
        self.assertEqual(sent, '{"notes":"x"}')
        self.assertEqual(c.put_model(1, "n", b"bytes").arguments()["content"], b"bytes")

    def test_a_drop_off_carries_its_wish_and_its_key(self) -> None:
        call = c.drop("a b.gcode", "loom", w.QueueWish(copies=3, colour="teal"), "key 1", "sha-256=:x:")
        self.assertEqual(call.path, "/api/drop/a%20b.gcode")
        self.assertEqual({k: call.params[k] for k in ("folder", "queue", "copies", "colour")},
                         {"folder": "loom", "queue": "true", "copies": "3", "colour": "teal"})  # fmt: skip
        self.assertEqual(call.headers["Idempotency-Key"], "key 1")
        self.assertNotIn("queue", c.drop("x", "", None, "", "").params)

    def test_every_edit_crosses_the_wire_and_comes_back_the_same(self) -> None:
        for wish in (
            edits.SetFromLayer(3, 210.0, None, 50.0, None),
            edits.PauseAt(4, "nut"),
            edits.SkipObject("cup 1"),
            edits.Repeat(4, 2.5),
            edits.StartFrom(9),
            edits.OwnSections(True, False),
            edits.ReplaceLines(3, 2, "; x\n"),
        ):
            with self.subTest(kind=wish.kind):
                order = EditRequest(edit=wish, model="m")
                self.assertEqual(EditRequest.model_validate_json(order.model_dump_json()).edit, wish)
                body = c.preview_edit(1, wish).body
                assert body is not None
                self.assertEqual(body.model_dump()["edit"]["kind"], wish.kind)

    def test_slips_of_the_pen_are_refused_before_anything_is_sent(self) -> None:
        wrong: tuple[tuple[type[Wire], dict[str, object], str], ...] = (
            (EditRequest, {"edit": {"kind": "dance"}}, "kind"),
            (EditRequest, {"edit": {"kind": "pause", "layer": "top"}}, "layer"),
            (w.FileChange, {"name": "../x"}, "not allowed|dot"),
            (w.FileChange, {"tags": ["a,b"]}, "pattern"),
            (w.FileChange, {"nmae": "x"}, "nmae"),
            (w.Folder, {"path": "/".join("abcdefghij")}, "deep"),
            (w.FileBatch, {"files": [], "deed": "bin"}, "at least 1"),
            (w.FileBatch, {"files": [1], "deed": "burn"}, "deed"),
            (w.QueueWish, {"copies": 0}, "copies"),
            (w.Overruling, {"model": "m", "rule": "r", "reason": "no"}, "at least 3"),
            (w.NewPart, {"name": " "}, "empty"),
        )
        for kind, fields, words in wrong:
            with self.subTest(kind=kind.__name__, words=words), self.assertRaisesRegex(ValidationError, words):
                kind.model_validate(fields)

    def test_folders_are_kept_clean(self) -> None:
        for given, kept in (("", ""), ("/a//b/", "a/b"), (" a / b ", "a/b")):
            self.assertEqual(w.Folder(path=given).path, kept)
