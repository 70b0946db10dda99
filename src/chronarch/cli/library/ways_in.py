"""`chronarch files drives`, `take`, `hot` and `script`: files from elsewhere than this command's computer."""

from __future__ import annotations

from typing import BinaryIO

import click

from chronarch.cli.context import REFUSED, Service, json_option, pass_service
from chronarch.cli.library.files import files
from chronarch.cli.library.following import follow_options, queue_wish
from chronarch.cli.output import clock_time, show_json, show_table, size_text
from chronarch.cli.plain import say
from chronarch.client import requests
from chronarch.wire import library as w

COPIED_WITHIN_S = 1800.0


@files.command("drives")
@click.argument("path", required=False)
@json_option
@pass_service
def drives(service: Service, path: str | None, as_json: bool) -> None:
    """Folders of the service's computer from which files may be taken, and drives that are plugged in there; with PATH,
    what is in one."""
    if path is None:
        found = service.do(requests.drives())
        if as_json:
            return show_json(found)
        rows = [[one.path, f"{size_text(one.free)} of {size_text(one.size)}"] for one in found]
        none = "None is plugged in. CHRONARCH_FOLDERS, a setting of the service, names folders that may be looked into."
        return show_table(("Drive", "Free"), rows, none)
    inside = service.do(requests.drive_entries(path))
    if as_json:
        return show_json(inside)
    now = service.do(requests.shop()).now
    rows = [
        [f"{one.name}/" if one.folder else one.name, "" if one.folder else size_text(one.size),
         clock_time(one.changed_at, now)]
        for one in inside.entries
    ]  # fmt: skip
    show_table(("Name", "Size", "Changed"), rows, f"There is no sliced file in {inside.path}.")
    if inside.more:
        say(f"{inside.more} more are not listed.")
    return None


@files.command("take")
@click.argument("paths", nargs=-1, required=True)
@click.option("--folder", default="", help="The library's folder they go to.")
@follow_options
@json_option
@pass_service
def take(service: Service, /, paths: tuple[str, ...], folder: str, as_json: bool, **follows: str | int | bool) -> None:
    """Take files and folders of the service's computer into the library, as `files drives` shows them."""
    wish = queue_wish(**follows)  # type: ignore[arg-type]
    asked = w.DriveWish(
        paths=list(paths), folder=folder, queue=wish is not None, **(wish.model_dump() if wish is not None else {})
    )
    done = service.patient(requests.drop_from_drive(asked), COPIED_WITHIN_S)
    if as_json:
        return show_json(done)
    for one in done.arrivals:
        say(f"{one.name}: is being read")
    for path, why in done.refused.items():
        say(f"{path}: {why}", err=True)
    if done.refused:
        raise SystemExit(REFUSED)
    return None


@files.group("hot")
def hot() -> None:
    """Hot folders of the service's computer: what is put there is taken in by itself."""


@hot.command("list")
@json_option
@pass_service
def list_hot(service: Service, as_json: bool) -> None:
    """All of them, and what follows for their files."""
    found = service.do(requests.hot_folders())
    if as_json:
        return show_json(found)
    rows = [[str(one.id), one.path, one.folder or "the library", _follows(one), _standing(one)] for one in found]
    return show_table(("No.", "Folder", "Goes to", "Then", ""), rows, "There is none.")


def _follows(rule: w.HotFolderRule) -> str:
    queue = rule.queue
    if queue is None:
        return "nothing"
    needs = " ".join(filter(None, (queue.colour, queue.material, queue.machine, queue.model)))
    how = "begins at once" if queue.now else f"{queue.copies} queued"
    return f"{how}{f' ({needs})' if needs else ''}{', held' if queue.held else ''}"


def _standing(rule: w.HotFolderShown) -> str:
    return rule.trouble or ("" if rule.on else "off")


@hot.command("add")
@click.argument("path")
@click.option("--folder", default="", help="The library's folder its files go to.")
@follow_options
@pass_service
def add_hot(service: Service, /, path: str, folder: str, **follows: str | int | bool) -> None:
    """Have the files of a folder be taken in by themselves. They are moved to `taken` or `refused` in it, each with a
    text that says what came of it."""
    rule = w.HotFolderRule(path=path, folder=folder, queue=queue_wish(**follows))  # type: ignore[arg-type]
    say(f"{service.do(requests.add_hot_folder(rule)).path} is looked into.")


@hot.command("turn")
@click.argument("number", type=int)
@click.argument("how", type=click.Choice(["on", "off"]))
@pass_service
def turn_hot(service: Service, number: int, how: str) -> None:
    """Turn one off for a while, or on again."""
    known = next((one for one in service.do(requests.hot_folders()) if one.id == number), None)
    if known is None:
        raise click.UsageError(f"There is no hot folder {number}; `chronarch files hot list` shows all.")
    rule = w.HotFolderRule(path=known.path, folder=known.folder, queue=known.queue, on=how == "on")
    say(f"{service.do(requests.change_hot_folder(number, rule)).path} is {how}.")


@hot.command("remove")
@click.argument("number", type=int)
@pass_service
def remove_hot(service: Service, number: int) -> None:
    """Look into one no more; what is in it stays."""
    say(service.do(requests.remove_hot_folder(number)).text)


@files.command("script")
@click.argument("file", type=click.File("wb", lazy=True), default="-")
@pass_service
def script(service: Service, file: BinaryIO) -> None:
    """Write a program for slicers that run one after slicing: it sends the file here. It needs Python alone, and a
    key."""
    file.write(service.do(requests.drop_script()))
