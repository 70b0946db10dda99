"""`chronarch files`: the library."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Any

import click
from rich.progress import BarColumn, DownloadColumn, Progress, TextColumn, TransferSpeedColumn

from chronarch.cli.context import REFUSED, Service, json_option, limit_option, pass_service
from chronarch.cli.gcode.readings import show_changes, show_findings, show_layers, show_reading
from chronarch.cli.library.following import follow_options, queue_wish
from chronarch.cli.output import clock_time, duration, show_csv, show_facts, show_json, show_table, size_text
from chronarch.cli.plain import FINITE, hand_over, say
from chronarch.client import RefusedByService, requests
from chronarch.core.ledger.learning import History
from chronarch.core.library.names import as_number
from chronarch.core.machines.materials import Materials
from chronarch.wire import library as w

PATH = click.Path(dir_okay=False, path_type=Path)
ADDRESSES = ("http://", "https://")


@click.group()
def files() -> None:
    """The library of sliced files: add, find, file away, edit."""


@files.command("add")
@click.argument("sources", nargs=-1, required=True)
@click.option("--folder", default="", help="The library's folder they go to.")
@follow_options
@click.option("--once", metavar="KEY", default="", help="An Idempotency-Key: adding twice with it adds once.")
@json_option
@pass_service
def add_files(service: Service, /, sources: tuple[str, ...], folder: str, once: str, as_json: bool,
              **follows: str | int | bool) -> None:  # fmt: skip
    """Add sliced files, folders with everything in them, or what is at an address (http, https), which the service
    fetches. A file that is refused does not keep the others from being added. A changed file whose name is there
    already becomes its new revision."""
    wish = queue_wish(**follows)  # type: ignore[arg-type]
    if wish is not None and wish.now and len(sources) > 1:
        raise click.UsageError("One file can begin now; name one.")
    addresses = [one for one in sources if one.startswith(ADDRESSES)]
    paths = tuple(_path(one) for one in sources if not one.startswith(ADDRESSES))
    added: list[w.Dropped] = []
    refused = False
    quiet = not sys.stderr.isatty()
    columns = (TextColumn("{task.description}"), BarColumn(), DownloadColumn(), TransferSpeedColumn())
    with Progress(*columns, transient=True, disable=quiet) as progress:
        found = _expanded(paths, folder)
        for path, under in found:
            task = progress.add_task(path.name, total=path.stat().st_size)

            def told(n: int, task: Any = task) -> None:
                progress.advance(task, n)

            try:
                key = f"{once}/{path.name}" if once and len(found) > 1 else once
                added.append(service.client.add_file(path, progress=told, folder=under, queue=wish, once=key))
            except RefusedByService as error:
                refused = True
                say(f"{path.name}: {error}", err=True)
    for address in addresses:
        asked = w.AddressWish(
            address=address, folder=folder, queue=wish is not None, **(wish.model_dump() if wish is not None else {})
        )
        try:
            added.append(service.client.fetch_file(asked, f"{once}/{address}" if once and len(sources) > 1 else once))
        except RefusedByService as error:
            refused = True
            say(f"{address}: {error}", err=True)
    if as_json:
        show_json(added)
    else:
        for d in added:
            r = d.file.reading
            as_what = f"file {d.file.id}" + (f", revision {d.file.revision}" if d.file.revision > 1 else "")
            there = "" if d.new else " (was there already)"
            text = f"{r.layers} layers, {duration(r.planned_s)}, {sum(r.filament_mm.values()) / 1000:.2f} m of filament"
            say(f"{d.file.name}: {as_what}{there}, {text}{_job(d)}")
            if d.alike:
                say(f"  Mind that there is {', '.join(d.alike)} too: another file.", err=True)
    if refused:
        raise SystemExit(REFUSED)


def _job(dropped: w.Dropped) -> str:
    if dropped.job is None:
        return ""
    return f", has begun as job {dropped.job}" if dropped.begun else f", queued as job {dropped.job}"


def _path(source: str) -> Path:
    path = Path(source)
    if not path.exists():
        raise click.UsageError(f"There is no file or folder {source!r} here.")
    return path


def _expanded(paths: tuple[Path, ...], folder: str) -> list[tuple[Path, str]]:
    """Each file with the library folder it goes to; a folder keeps its own name."""
    found = []
    for path in paths:
        if path.is_dir():
            for inner in sorted(p for p in path.rglob("*") if p.is_file() and not p.name.startswith(".")):
                under = "/".join(
                    [x for x in (folder, path.resolve().name) if x] + list(inner.parent.relative_to(path).parts)
                )
                found.append((inner, under))
        else:
            found.append((path, folder))
    return found


@files.command("list")
@click.option("--search", help="Words in name, notes, tags, folder or part.")
@click.option("--folder", help="Only this folder and what is below it.")
@click.option("--tag", help="Only files with this tag.")
@click.option("--material", help="Only files sliced for it.")
@click.option("--nozzle", "nozzle_mm", type=FINITE, help="Only files sliced for this nozzle, mm.")
@click.option("--model", help="Only what this model can make; times are its own.")
@click.option("--least", "least_min", type=FINITE, help="Only what takes so many minutes or more.")
@click.option("--most", "most_min", type=FINITE, help="Only what takes so many minutes or less.")
@click.option("--bin", "binned", is_flag=True, help="What lies in the bin.")
@limit_option
@json_option
@click.option("--csv", "as_csv", is_flag=True, help="Print rows as CSV.")
@pass_service
def list_files(service: Service, /, least_min: float | None, most_min: float | None, binned: bool, limit: int | None,
               as_json: bool, as_csv: bool, **filters: Any) -> None:  # fmt: skip
    """Files, newest first."""
    times = {"least_s": least_min and least_min * 60, "most_s": most_min and most_min * 60}
    found = service.all(requests.files(**filters, **times, binned=binned or None), limit)
    if as_json:
        return show_json(found)
    if as_csv:
        return show_csv(found)
    rows = [
        [
            str(f.id),
            f.name,
            f.folder,
            str(f.revision),
            duration(f.reading.planned_s),
            str(f.reading.layers),
            f"{sum(f.reading.filament_mm.values()) / 1000:.2f} m",
            f.reading.declared.material,
            f"{f.reading.declared.nozzle_mm:g} mm" if f.reading.declared.nozzle_mm else "",
            size_text(f.size),
            clock_time(f.added_at),
            ", ".join(f.tags),
        ]
        for f in found
    ]
    heads = ("Id", "File", "Folder", "Rev", "Time", "Layers", "Filament", "Material", "For", "Size", "Added", "Tags")
    empty = "The bin is empty." if binned else "Nothing fits." if any([*filters.values(), *times.values()]) else (
        "The library is empty. Add a sliced file with `chronarch files add PATH`."
    )  # fmt: skip
    show_table(heads, rows, empty)


@files.command("show")
@click.argument("file")
@click.option("--model", help="As this model reads it.")
@click.option("--revision", type=int, help="An earlier revision.")
@click.option("--layers", "with_layers", is_flag=True, help="With the table of its layers.")
@json_option
@pass_service
def show_file(
    service: Service, file: str, model: str | None, revision: int | None, with_layers: bool, as_json: bool
) -> None:
    """One file: what its reading says, what stands against it, what became of its builds."""
    f = service.do(requests.file(file, model, revision))
    if as_json:
        return show_json(f)
    past = service.do(requests.file_history(f.id))
    times = "; ".join(
        f"{name} {duration(s)}" + (f" (expect {duration(f.expected[name])})" if name in f.expected else "")
        for name, s in f.times.items()
    )
    show_reading(
        f"{f.name} ({f.id}), revision {f.revision}",
        f.reading,
        [
            ("By model", times),
            ("Folder", f.folder),
            ("Part", f.part or ""),
            ("Tags", ", ".join(f.tags)),
            ("Notes", f.notes),
            ("Built", history_text(past)),
            ("Size", size_text(f.size)),
            ("SHA-256", f.sha256),
            ("Added", f"{clock_time(f.added_at)} by {f.added_by}"),
        ],
        Materials(one.material for one in service.do(requests.materials())),
    )
    if with_layers:
        rows = service.do(requests.layers(f.sha256, model))
        show_layers(rows)
    return None


def history_text(past: History) -> str:
    """What became of builds, in a line."""
    if not past.builds:
        return "never yet"
    times = "once" if past.builds == 1 else f"{past.builds} times"
    real = "".join(
        f"; {m.model} took {m.real_s / m.planned_s:.2f} of plan ({m.completed} builds)"
        for m in past.models
        if m.planned_s > 0
    )
    return f"{times}: {past.good} good, {past.scrap} scrap{real}"


@files.command("change")
@click.argument("file")
@click.option("--name", help="A new name.")
@click.option("--folder", help="The folder to file it in; empty for the library itself.")
@click.option("--notes", help="Notes about it.")
@click.option("--tags", help="Its tags, all of them, with commas between.")
@json_option
@pass_service
def change(
    service: Service,
    file: str,
    name: str | None,
    folder: str | None,
    notes: str | None,
    tags: str | None,
    as_json: bool,
) -> None:
    """Rename a file, move it to another folder, note something or tag it."""
    listed = None if tags is None else [tag.strip() for tag in tags.split(",") if tag.strip()]
    given = {"name": name, "folder": folder, "notes": notes, "tags": listed}
    if all(v is None for v in given.values()):
        raise click.UsageError("Say what is to change: --name, --folder, --notes or --tags.")
    f = service.do(
        requests.change_file(file, w.FileChange.model_validate({k: v for k, v in given.items() if v is not None}))
    )
    if as_json:
        return show_json(f)
    say(f"{f.name} ({f.id}){f', in {f.folder}' if f.folder else ''}.")
    return None


def _batch(service: Service, names: tuple[str, ...], deed: str, done_text: str, **more: Any) -> None:
    """Do one thing with many files, and say what became of each."""
    binned = deed == "restore"
    everything = {f.name: f.id for f in service.all(requests.files(binned=True))} if binned else {}
    found = [as_number(name) or everything.get(name) for name in names]
    numbers = [n or service.do(requests.file(name)).id for n, name in zip(found, names, strict=True)]
    result = service.do(requests.batch_files(w.FileBatch.model_validate({"files": numbers, "deed": deed, **more})))
    for why in result.refused.values():
        say(why, err=True)
    if result.done:
        say(done_text.format(n="1 file" if len(result.done) == 1 else f"{len(result.done)} files"))
    if result.refused:
        raise SystemExit(REFUSED)


NAMES = click.argument("names", nargs=-1, required=True, metavar="FILE...")


@files.command()
@NAMES
@click.option("--to", "folder", required=True, help="The folder; empty for the library itself.")
@pass_service
def move(service: Service, names: tuple[str, ...], folder: str) -> None:
    """Move many files to a folder."""
    _batch(service, names, "move", f"{{n}} in {folder or 'the library'} now.", folder=folder)


@files.command("tag")
@NAMES
@click.option("--add", multiple=True, help="A tag to put on.")
@click.option("--remove", multiple=True, help="A tag to take off.")
@pass_service
def tag_files(service: Service, names: tuple[str, ...], add: tuple[str, ...], remove: tuple[str, ...]) -> None:
    """Put tags on many files, or take them off."""
    if not add and not remove:
        raise click.UsageError("Say --add TAG or --remove TAG.")
    if add:
        _batch(service, names, "tag", "{n} tagged.", tags=list(add))
    if remove:
        _batch(service, names, "untag", "{n} untagged.", tags=list(remove))


@files.command("bin")
@NAMES
@pass_service
def bin_files(service: Service, names: tuple[str, ...]) -> None:
    """Put files into the bin; refused while one is queued or building."""
    _batch(service, names, "bin", "{n} in the bin; `chronarch files restore` brings them back.")


@files.command()
@NAMES
@pass_service
def restore(service: Service, names: tuple[str, ...]) -> None:
    """Take files out of the bin."""
    _batch(service, names, "restore", "{n} back in the library.")


@files.command("empty-bin")
@click.option("--yes", is_flag=True, help="Do not ask.")
@pass_service
def empty_bin(service: Service, yes: bool) -> None:
    """Delete for good what is in the bin. Contents that builds were made from can still be had."""
    n = len(service.all(requests.files(binned=True)))
    if n and not yes:
        click.confirm(f"Throw away {n} files for good?", abort=True)
    say(service.do(requests.empty_bin()).text)


@files.command("folders")
@json_option
@pass_service
def list_folders(service: Service, as_json: bool) -> None:
    """The library's folders."""
    found = service.all(requests.folders())
    if as_json:
        return show_json(found)
    show_table(("Folder", "Files"), [[f.path, str(f.files)] for f in found], "There are no folders.")
    return None


@files.command("make-folder")
@click.argument("path")
@pass_service
def make_folder(service: Service, path: str) -> None:
    """Make a folder, and those above it."""
    say(f"{service.do(requests.add_folder(path)).path} is there.")


@files.command("move-folder")
@click.argument("path")
@click.argument("to")
@pass_service
def move_folder(service: Service, path: str, to: str) -> None:
    """Rename a folder or move it elsewhere, with everything in it."""
    say(service.do(requests.move_folder(path, to)).text)


@files.command("remove-folder")
@click.argument("path")
@pass_service
def remove_folder(service: Service, path: str) -> None:
    """Remove an empty folder."""
    say(service.do(requests.remove_folder(path)).text)


@files.command("queue")
@NAMES
@click.option("--copies", default=1, show_default=True, help="Of each.")
@pass_service
def queue_files(service: Service, names: tuple[str, ...], copies: int) -> None:
    """Queue copies of many files at once, for any machine that fits."""
    _batch(service, names, "queue", "{n} queued.", copies=copies)


@files.command("revisions")
@click.argument("file")
@json_option
@pass_service
def list_revisions(service: Service, file: str, as_json: bool) -> None:
    """All contents a file has had, newest first."""
    found = service.do(requests.revisions(file))
    if as_json:
        return show_json(found)
    rows = [[str(r.number), r.how, size_text(r.size), clock_time(r.added_at), r.added_by, r.sha256[:12]] for r in found]
    show_table(("Rev", "How", "Size", "Added", "By", "SHA-256"), rows, "")
    return None


@files.command("revert")
@click.argument("file")
@click.argument("revision", type=int)
@pass_service
def revert(service: Service, file: str, revision: int) -> None:
    """Make an earlier revision the newest again."""
    f = service.do(requests.restore_revision(file, revision))
    say(f"{f.name}: revision {f.revision} is what revision {revision} was.")


@files.command("compare")
@click.argument("file")
@click.argument("earlier", type=int)
@click.argument("later", type=int, required=False)
@json_option
@pass_service
def compare(service: Service, file: str, earlier: int, later: int | None, as_json: bool) -> None:
    """How a revision (the newest without one) differs from an earlier one."""
    d = service.do(requests.difference(file, earlier, later))
    if as_json:
        return show_json(d)
    a, b = d.earlier_reading, d.later_reading
    show_facts(
        [
            ("Time", f"{duration(a.planned_s)} → {duration(b.planned_s)}"),
            ("Filament", f"{sum(a.filament_mm.values()) / 1000:.2f} → {sum(b.filament_mm.values()) / 1000:.2f} m"),
            ("Layers", f"{a.layers} → {b.layers}"),
            ("Changes", f"{len(d.changes)}{' and more' if d.more else ''}, in layers {_ranges(d.layers)}"),
        ]
    )
    show_changes(d.changes)
    return None


def _ranges(numbers: list[int]) -> str:
    out: list[list[int]] = []
    for n in numbers:
        if out and n == out[-1][-1] + 1:
            out[-1] = [out[-1][0], n]
        else:
            out.append([n, n])
    return ", ".join(f"{a}" if a == b else f"{a} to {b}" for a, b in out[:8]) + (" …" if len(out) > 8 else "") or "none"


@files.command("get")
@click.argument("file")
@click.option("--revision", type=int, help="An earlier revision.")
@click.option("--to", "path", type=PATH, help="Where to; its own name here without it, - for standard output.")
@pass_service
def get(service: Service, file: str, revision: int | None, path: Path | None) -> None:
    """Download a file."""
    f = service.do(requests.file(file, revision=revision))
    _write(service.do(requests.content(f.id, revision)), path or Path(f.name))


@files.command("draw")
@click.argument("file")
@click.option("--layer", type=int, help="One layer from above; the whole part without it.")
@click.option("--to", "path", type=PATH, required=True, help="A .png or .svg file.")
@click.option("--model", help="On this model's bed.")
@click.option("--revision", type=int, help="An earlier revision.")
@pass_service
def draw(service: Service, file: str, layer: int | None, path: Path, model: str | None, revision: int | None) -> None:
    """Draw the part or one of its layers."""
    kind = path.suffix.lower().lstrip(".")
    if kind not in ("png", "svg"):
        raise click.UsageError("The drawing is a .png or an .svg file; give --to such a name.")
    f = service.do(requests.file(file, model, revision))
    _write(service.do(requests.drawing(f.sha256, kind, model, layer, title=f.name)), path)


def _write(data: bytes, path: Path) -> None:
    if str(path) == "-":
        return hand_over(data)
    path.write_bytes(data)
    say(f"{path.name}: {size_text(len(data))}")


@files.command("preflight")
@click.argument("file")
@click.argument("machine")
@json_option
@pass_service
def preflight(service: Service, file: str, machine: str, as_json: bool) -> None:
    """What stands against a file on a machine as it is now."""
    found = service.do(requests.preflight(file, machine))
    if as_json:
        return show_json(found)
    if not found:
        say(f"Nothing stands against it on {machine}.")
    show_findings(found)
    return None


@files.command("overrule")
@click.argument("file")
@click.option("--rule", required=True, help="The rule, as `files preflight` names it.")
@click.option("--model", required=True, help="The model it shall run on.")
@click.option("--reason", required=True, help="Why; it is recorded with your name.")
@pass_service
def overrule(service: Service, file: str, rule: str, model: str, reason: str) -> None:
    """Let a file run although a rule refuses it."""
    f = service.do(requests.overrule(file, w.Overruling(model=model, rule=rule, reason=reason)))
    say(f"{f.name}, revision {f.revision}: {rule} is overruled on {model}.")
