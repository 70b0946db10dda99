"""`chronarch parts`: the things the shop makes."""

from __future__ import annotations

from pathlib import Path

import click

from chronarch.cli.context import Service, json_option, limit_option, pass_service
from chronarch.cli.library.files import history_text
from chronarch.cli.output import duration, show_facts, show_json, show_table
from chronarch.cli.plain import say
from chronarch.client import requests
from chronarch.wire import library as w


@click.group()
def parts() -> None:
    """Parts, and the files that make each."""


@parts.command("list")
@limit_option
@json_option
@pass_service
def list_parts(service: Service, limit: int | None, as_json: bool) -> None:
    """All parts by name."""
    found = service.all(requests.parts(), limit)
    if as_json:
        return show_json(found)
    rows = [[str(p.id), p.name, str(len(p.files)), ", ".join(f.name for f in p.files), _shape(p)] for p in found]
    empty = "There are no parts. `chronarch parts suggest` looks for files that make the same thing."
    show_table(("Id", "Part", "Files", "Made by", "Model"), rows, empty)
    return None


def _shape(p: w.Part) -> str:
    return " x ".join(f"{v:.1f}" for v in p.shape.size_mm) + " mm" if p.shape else ""


@parts.command("show")
@click.argument("part")
@json_option
@pass_service
def show_part(service: Service, part: str, as_json: bool) -> None:
    """One part: its files, its model, what became of its builds."""
    p = service.do(requests.part(part))
    if as_json:
        return show_json(p)
    past = service.do(requests.part_history(p.id))
    files = []
    for f in p.files:
        times = ", ".join(f"{name} {duration(s)}" for name, s in f.times.items())
        files.append(f"{f.name}: {times}, {len(f.reading.objects)} on the bed")
    show_facts(
        [
            ("Part", f"{p.name} ({p.id})"),
            ("Made by", "\n".join(files)),
            ("Model", f"{p.shape.name}, {_shape(p)}, {p.shape.triangles} triangles" if p.shape else ""),
            ("Notes", p.notes),
            ("Built", history_text(past)),
        ]
    )
    return None


@parts.command("add")
@click.argument("name")
@click.argument("files", nargs=-1)
@click.option("--notes", default="")
@pass_service
def add_part(service: Service, name: str, files: tuple[str, ...], notes: str) -> None:
    """Make a part of files (names or numbers)."""
    numbers = [service.do(requests.file(file)).id for file in files]
    p = service.do(requests.add_part(w.NewPart(name=name, notes=notes, files=numbers)))
    say(f"{p.name}: part {p.id}, made by {len(p.files)} files.")
    if p.alike:
        say(f"  Mind that there is {', '.join(p.alike)} too: another part.", err=True)


@parts.command("change")
@click.argument("part")
@click.option("--name", help="A new name.")
@click.option("--notes", help="Notes about it.")
@click.option("--file", "files", multiple=True, help="A file that makes it; say all of them.")
@pass_service
def change_part(service: Service, part: str, name: str | None, notes: str | None, files: tuple[str, ...]) -> None:
    """Rename a part, note something, or say which files make it."""
    numbers = [service.do(requests.file(file)).id for file in files] or None
    given = {"name": name, "notes": notes, "files": numbers}
    p = service.do(
        requests.change_part(part, w.PartChange.model_validate({k: v for k, v in given.items() if v is not None}))
    )
    say(f"{p.name}: made by {len(p.files)} files.")


@parts.command("remove")
@click.argument("part")
@pass_service
def remove_part(service: Service, part: str) -> None:
    """Remove a part; its files stay."""
    say(service.do(requests.remove_part(part)).text)


@parts.command("suggest")
@click.option("--accept", is_flag=True, help="Make parts of all of them.")
@json_option
@pass_service
def suggest(service: Service, accept: bool, as_json: bool) -> None:
    """Files that seem to make the same thing."""
    found = service.do(requests.suggestions())
    if as_json:
        return show_json(found)
    names = {f.id: f.name for f in service.all(requests.files())}
    show_table(
        ("Part", "Files", "Why"),
        [[s.name, ", ".join(names.get(n, str(n)) for n in s.files), s.why] for s in found],
        "No two files seem to make the same thing.",
    )
    for s in found if accept else ():
        if s.part is None:
            service.do(requests.add_part(w.NewPart(name=s.name, files=s.files)))
        else:
            have = [f.id for f in service.do(requests.part(s.part)).files]
            service.do(requests.change_part(s.part, w.PartChange(files=[*have, *s.files])))
        say(f"{s.name}: done.")
    return None


@parts.command("model")
@click.argument("part")
@click.argument("path", type=click.Path(exists=True, dir_okay=False, path_type=Path))
@pass_service
def give_model(service: Service, part: str, path: Path) -> None:
    """Give a part a reference model, an STL or 3MF file."""
    p = service.do(requests.put_model(part, path.name, path.read_bytes()))
    say(f"{p.name}: {_shape(p)}.")
