"""Calls about files, folders, contents and parts."""

from __future__ import annotations

from typing import Any

from chronarch.client.call import Call, at, some
from chronarch.core.gcode.contents import Layer
from chronarch.core.gcode.edits import Edit
from chronarch.core.library.part_grouping import PartSuggestion
from chronarch.wire import library as w
from chronarch.wire.common import RequestDone
from chronarch.wire.gcode import Difference, EditPreview, EditRequest, FileLines, Finding

Which = int | str


def files(**filters: Any) -> Call[list[w.File]]:
    """`search`, `folder`, `tag`, `material`, `nozzle_mm`, `model`, `least_s`, `most_s`, `least_size`, `most_size`,
    `binned`; all may be left out."""
    return Call("GET", "/api/files", list[w.File], params=some(**filters))


def library() -> Call[w.LibraryFacets]:
    """How many files there are, and for which materials, nozzles and tags."""
    return Call("GET", "/api/library", w.LibraryFacets)


def file(which: Which, model: str | None = None, revision: int | None = None) -> Call[w.File]:
    return Call("GET", at("files", which), w.File, params=some(model=model, revision=revision))


def drop(name: str, folder: str, queue: w.QueueWish | None, once: str, digest: str) -> Call[w.Dropped | w.Arrival]:
    """The head of a request whose body is a file's bytes; `once` is an Idempotency-Key."""
    params = some(folder=folder or None)
    if queue is not None:
        params |= {"queue": "true", **some(**queue.model_dump())}
    headers = {"Content-Type": "text/x.gcode", "Content-Digest": digest}
    if once:
        headers["Idempotency-Key"] = once
    return Call("PUT", at("drop", name), w.Dropped | w.Arrival, params=params, headers=headers)


def drop_from_address(asked: w.AddressWish, once: str = "") -> Call[w.Dropped | w.Arrival]:
    """Have the service fetch a file and add it; `once` is an Idempotency-Key."""
    headers = {"Prefer": "wait=120"} | ({"Idempotency-Key": once} if once else {})
    return Call("POST", "/api/drop-from-address", w.Dropped | w.Arrival, body=asked, headers=headers)


def drives() -> Call[list[w.Drive]]:
    """The folders of the service's computer from which files may be taken."""
    return Call("GET", "/api/drives", list[w.Drive])


def drive_entries(path: str) -> Call[w.DriveFolder]:
    return Call("GET", "/api/drives/entries", w.DriveFolder, params={"path": path})


def drop_from_drive(asked: w.DriveWish) -> Call[w.TakenFromDrive]:
    """Take files and folders of the service's computer."""
    return Call("POST", "/api/drop-from-drive", w.TakenFromDrive, body=asked)


def drop_script() -> Call[bytes]:
    """A program with which a slicer sends what it has sliced."""
    return Call("GET", "/api/drop-script", bytes)


def hot_folders() -> Call[list[w.HotFolderShown]]:
    """Folders whose files are taken in by themselves."""
    return Call("GET", "/api/hot-folders", list[w.HotFolderShown])


def add_hot_folder(rule: w.HotFolderRule) -> Call[w.HotFolderShown]:
    return Call("POST", "/api/hot-folders", w.HotFolderShown, body=rule)


def change_hot_folder(number: int, rule: w.HotFolderRule) -> Call[w.HotFolderShown]:
    return Call("PUT", at("hot-folders", number), w.HotFolderShown, body=rule)


def remove_hot_folder(number: int) -> Call[RequestDone]:
    return Call("DELETE", at("hot-folders", number), RequestDone)


def arrivals() -> Call[list[w.Arrival]]:
    """Files that are being read now."""
    return Call("GET", "/api/arrivals", list[w.Arrival])


def arrival(number: int) -> Call[w.Arrival]:
    return Call("GET", at("arrivals", number), w.Arrival)


def change_file(which: Which, change: w.FileChange) -> Call[w.File]:
    return Call("PATCH", at("files", which), w.File, body=change)


def batch_files(asked: w.FileBatch) -> Call[w.BatchResult]:
    return Call("POST", "/api/files/batch", w.BatchResult, body=asked)


def empty_bin() -> Call[RequestDone]:
    return Call("DELETE", "/api/bin", RequestDone)


def folders() -> Call[list[w.Folder]]:
    return Call("GET", "/api/folders", list[w.Folder])


def add_folder(path: str) -> Call[w.Folder]:
    return Call("POST", "/api/folders", w.Folder, body=w.Folder(path=path))


def move_folder(path: str, to: str) -> Call[RequestDone]:
    return Call("POST", "/api/folders/move", RequestDone, body=w.FolderMove(path=path, to=to))


def remove_folder(path: str) -> Call[RequestDone]:
    return Call("DELETE", "/api/folders", RequestDone, params={"path": path})


def revisions(which: Which) -> Call[list[w.Revision]]:
    return Call("GET", at("files", which, "revisions"), list[w.Revision])


def restore_revision(which: Which, number: int) -> Call[w.File]:
    return Call("POST", at("files", which, "revisions", number, "restore"), w.File)


def content(which: Which, revision: int | None = None) -> Call[bytes]:
    return Call("GET", at("files", which, "content"), bytes, params=some(revision=revision))


def preflight(which: Which, machine: str) -> Call[list[Finding]]:
    return Call("GET", at("files", which, "preflight"), list[Finding], params={"machine": machine})


def overrule(which: Which, asked: w.Overruling) -> Call[w.File]:
    return Call("POST", at("files", which, "overrule"), w.File, body=asked)


def preview_edit(which: Which, edit: Edit, model: str = "", revision: int | None = None) -> Call[EditPreview]:
    asked = EditRequest(edit=edit, model=model, revision=revision)
    return Call("POST", at("files", which, "preview"), EditPreview, body=asked)


def edit_file(which: Which, edit: Edit, model: str = "", revision: int | None = None) -> Call[w.File]:
    asked = EditRequest(edit=edit, model=model, revision=revision)
    return Call("POST", at("files", which, "edit"), w.File, body=asked)


def difference(which: Which, earlier: int, later: int | None = None) -> Call[Difference]:
    return Call("GET", at("files", which, "difference"), Difference, params=some(earlier=earlier, later=later))


def layers(sha256: str, model: str | None = None) -> Call[list[Layer]]:
    return Call("GET", at("contents", sha256, "layers"), list[Layer], params=some(model=model))


def layer(sha256: str, number: int, model: str | None = None) -> Call[bytes]:
    return Call("GET", at("contents", sha256, "layers", number), bytes, params=some(model=model))


def shape(sha256: str, model: str | None = None) -> Call[bytes]:
    """All that is laid, thinned, in binary."""
    return Call("GET", at("contents", sha256, "shape"), bytes, params=some(model=model))


def picture(sha256: str, width: int = 200) -> Call[bytes]:
    """The slicer's thumbnail nearest a width."""
    return Call("GET", at("contents", sha256, "picture"), bytes, params=some(width=width))


def lines(sha256: str, first: int = 1, count: int = 200) -> Call[FileLines]:
    return Call("GET", at("contents", sha256, "text"), FileLines, params=some(first=first, count=count))


def drawing(
    sha256: str, kind: str = "png", model: str | None = None, layer: int | None = None, title: str | None = None
) -> Call[bytes]:
    """`kind`: png or svg. The whole part, or one layer."""
    params = some(model=model, layer=layer, title=title)
    return Call("GET", at("contents", sha256, f"drawing.{kind}"), bytes, params=params)


def parts() -> Call[list[w.Part]]:
    return Call("GET", "/api/parts", list[w.Part])


def part(which: Which) -> Call[w.Part]:
    return Call("GET", at("parts", which), w.Part)


def suggestions() -> Call[list[PartSuggestion]]:
    return Call("GET", "/api/parts/suggestions", list[PartSuggestion])


def add_part(asked: w.NewPart) -> Call[w.Part]:
    return Call("POST", "/api/parts", w.Part, body=asked)


def change_part(which: Which, change: w.PartChange) -> Call[w.Part]:
    return Call("PATCH", at("parts", which), w.Part, body=change)


def remove_part(which: Which) -> Call[RequestDone]:
    return Call("DELETE", at("parts", which), RequestDone)


def put_model(which: Which, name: str, data: bytes) -> Call[w.Part]:
    """Give a part its STL or 3MF model."""
    return Call("PUT", at("parts", which, "model"), w.Part, params={"name": name}, content=data)
