"""`chronarch films`."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

import click
from rich.progress import BarColumn, Progress, TextColumn
from rich.text import Text

from chronarch.cli.context import REFUSED, WRONG_USE, Service, fail, json_option, limit_option, pass_service
from chronarch.cli.groups import build_number
from chronarch.cli.output import clock_time, console, duration, show_facts, show_json, show_table, size_text
from chronarch.cli.plain import say
from chronarch.client import requests
from chronarch.core.control.film_taking import HeadAway
from chronarch.core.watching.film_settings import FilmScope, FilmSettings
from chronarch.wire.watching import films as w
from chronarch.wire.watching.settings import WatchingUpdate

LOOK_EVERY_S = 0.5


@click.group()
def films() -> None:
    """Films of builds: find, save, keep, make, and how they are made."""


def stands(film: w.Film) -> str | Text:
    """How a film stands, in a few words."""
    if film.state == "done":
        return f"{film.seconds:.1f} s, {film.width} x {film.height}, {film.settings.form}"
    if film.state == "making":
        return f"is being made, {film.progress:.0%}"
    if film.state == "failed":
        return Text(f"could not be made: {film.problem}", style="red")
    return "its build has not ended" if film.state == "taking" else film.problem or "waits to be made"


@films.command("list")
@click.option("--search", default="", help="Words in the names of file, part, machine, camera, customer.")
@click.option("--machine", default="")
@click.option("--build", type=int)
@click.option("--part", type=int, help="Its number.")
@click.option("--order", type=int)
@limit_option
@json_option
@pass_service
def list_films(service: Service, search: str, machine: str, build: int | None, part: int | None, order: int | None,
               limit: int, as_json: bool) -> None:  # fmt: skip
    """Films, newest first, and what all of them take of the disk."""
    found = service.all(requests.films(search, machine=machine, build=build, part=part, order=order), limit)
    if as_json:
        return show_json(found)
    rows: list[list[str | Text]] = [
        [str(f.number), str(f.build), f.file, f.machine, f.outcome or "", clock_time(f.ended_at), stands(f),
         (size_text(f.size) + (", kept" if f.kept else "")) if f.size else ""]
        for f in found
    ]  # fmt: skip
    show_table(("Film", "Build", "File", "Machine", "Ended as", "Ended", "Film is", "Size"), rows,
               "There are no films of that. One is made of each build on a machine with a camera.")  # fmt: skip
    at = service.do(requests.film_standing())
    kept = f", {at.kept_gb:.2f} of them to be kept" if at.kept_gb else ""
    say(f"{at.films} films take {at.now_gb:.2f} of {at.share_gb:g} GB{kept}.")


@films.command()
@click.argument("number", type=int)
@json_option
@pass_service
def show(service: Service, number: int, as_json: bool) -> None:
    """One film: what it shows, how it was made, and where in it what happened."""
    f = service.do(requests.film(number))
    if as_json:
        return show_json(f)
    show_facts(
        [
            ("Film", str(f.number)),
            ("Of", f"build {f.build}, {f.file} on {f.machine}" + (f", {f.outcome}" if f.outcome else "")),
            ("Camera", f.camera),
            ("Is", stands(f)),
            ("Size", size_text(f.size) if f.size else ""),
            ("Shows", _shows(f.settings)),
            ("Layers", f"{f.layers[0][0]} to {f.layers[-1][0]}" if f.layers else ""),
            *(("Marked", f"{mark.second:.1f} s: {mark.text}") for mark in f.marks),
            ("Made", clock_time(f.made_at)),
            ("Kept", "yes" if f.kept else ""),
        ]
    )


def _shows(s: FilmSettings) -> str:
    what = f"a frame every {s.every_s:g} s" if s.by == "time" else "one frame a layer"
    if s.by == "layer" and s.per_layer > 1:
        what = f"{s.per_layer} frames a layer"
    length = f"made {s.length_s:g} s long" if s.length_s else f"{s.fps} a second"
    layers = f", layers {s.first_layer} to {s.last_layer or 'the last'}" if s.first_layer > 1 or s.last_layer else ""
    away = f", the head out of the picture from {s.head_away.least_layer_s:g} s a layer on" if s.head_away else ""
    return f"{what}, {length}{layers}, {s.width_px} px at most, {s.form}{'' if s.stamp else ', no stamp'}{away}"


@films.command()
@click.argument("number", type=int)
@click.option("-o", "--out", type=click.Path(dir_okay=False, path_type=Path), help="A file; named after it without.")
@pass_service
def save(service: Service, number: int, out: Path | None) -> None:
    """Put a film into a file."""
    f = service.do(requests.film(number))
    data = service.patient(requests.film_file(number), 600.0)
    out = out or Path(f"{Path(f.file).stem}-{f.machine}-build-{f.build}.{f.settings.form}")
    out.write_bytes(data)
    say(f"{out}, {size_text(len(data))}, {f.seconds:.1f} s")


def film_options(command: Callable[..., Any]) -> Callable[..., Any]:
    """Options that say how a film is made."""
    for option in reversed(OPTIONS):
        command = option(command)
    return command


OPTIONS: tuple[Callable[[Callable[..., Any]], Callable[..., Any]], ...] = (
    click.option("--by", type=click.Choice(["layer", "time"])),
    click.option("--per-layer", type=int, help="Frames of each layer, 1 to 20."),
    click.option("--every", "every_s", type=float, help="By time: a frame every so many seconds."),
    click.option("--fps", type=int, help="Frames of the film a second, 1 to 60."),
    click.option("--length", "length_s", type=float, help="Make it so many seconds long; 0: as the frames give."),
    click.option("--hold-first", "hold_first_s", type=float, help="How long the first frame stands, s."),
    click.option("--hold-last", "hold_last_s", type=float, help="How long the last frame stands, s."),
    click.option("--first-layer", type=int),
    click.option("--last-layer", type=int, help="0: the last that there is."),
    click.option("--width", "width_px", type=int, help="Pixels across at most."),
    click.option("--stamp/--no-stamp", default=None, help="Time and layer in a corner."),
    click.option("--form", type=click.Choice(["webm", "mp4"])),
    click.option("--head-away/--head-in-picture", default=None, help="Take the head out of the picture at each layer."),
    click.option("--least-layer", "least_layer_s", type=float, help="Leave it there for layers shorter than this, s."),
    click.option("--settle", "settle_s", type=float, help="How long it stands still before the frame, s."),
)


def _settings(before: FilmSettings, given: dict[str, Any]) -> FilmSettings:
    """Settings with what was given. Ends the command for what cannot be."""
    said = {name: value for name, value in given.items() if value is not None}
    away = {name: said.pop(name) for name in ("least_layer_s", "settle_s") if name in said}
    wanted = said.pop("head_away", before.head_away is not None or bool(away))
    try:
        now = replace(before, **said, head_away=replace(before.head_away or HeadAway(), **away) if wanted else None)
    except ValueError as error:
        raise click.UsageError(f"That cannot be: {error}.") from None
    return now


@films.command()
@click.argument("build")
@click.option("--camera", default="", help="Of this camera; of the machine's first without it.")
@film_options
@click.option("--wait", is_flag=True, help="Until it is made.")
@pass_service
def make(service: Service, /, build: str, camera: str, wait: bool, **given: Any) -> None:
    """Have a further film of a build made, of the frames that are kept."""
    number = build_number(service, build)
    settings = None
    if any(value is not None for value in given.values()):
        settings = _settings(_before(service, number), given)
    asked = w.NewFilm(camera=camera, settings=settings)
    film = service.do(requests.ask_for_film(number, asked))
    if wait:
        film = _awaited(service, film)
    say(f"Film {film.number} of build {number}: {stands(film)}.")
    if film.state == "failed":
        fail("It could not be made.", REFUSED)


def _before(service: Service, build: int) -> FilmSettings:
    """How the newest film of a build was made, or else how one would be."""
    films = service.do(requests.films(build=build))
    if films:
        return films[0].settings
    return service.do(requests.film_rule(FilmScope.JOB, str(service.do(requests.build(build)).job))).settings


def _awaited(service: Service, film: w.Film) -> w.Film:
    columns = TextColumn("film {task.description}"), BarColumn(), TextColumn("{task.percentage:>3.0f} %")
    out = console()
    with Progress(*columns, transient=True, console=out, disable=not out.is_terminal) as progress:
        task = progress.add_task(str(film.number), total=1.0)
        while film.state not in ("done", "failed"):
            time.sleep(LOOK_EVERY_S)
            film = service.do(requests.film(film.number))
            progress.update(task, completed=film.progress)
    return film


@films.command()
@click.argument("number", type=int)
@click.option("--not", "no_longer", is_flag=True, help="It may go when room is needed.")
@pass_service
def keep(service: Service, number: int, no_longer: bool) -> None:
    """Keep a film when films come to more than their share of the disk."""
    film = service.do(requests.keep_film(number, kept=not no_longer))
    say(f"Film {film.number} {'is kept' if film.kept else 'may go when room is needed'}.")


@films.command()
@click.argument("number", type=int)
@pass_service
def remove(service: Service, number: int) -> None:
    """Remove a film for good."""
    say(f"{service.do(requests.remove_film(number)).text}.")


@films.command()
@click.argument("gigabytes", type=float)
@pass_service
def disk(service: Service, gigabytes: float) -> None:
    """Set how many GB films may take of the disk; then the oldest go, but for those that are kept."""
    kept = service.do(requests.change_watching(WatchingUpdate(films_gb=gigabytes)))
    say(f"Films may take {kept.films_gb:g} GB.")


def _named(rule: w.FilmRule) -> str:
    if rule.scope is FilmScope.SHOP:
        return "the shop"
    number = rule.subject if rule.scope is FilmScope.MACHINE else f"{rule.subject} {rule.name}".strip()
    return f"{rule.scope} {number}"


@films.command("dry-run")
@click.argument("file")
@click.option("--model", default="", help="As a machine of this model would build it.")
@click.option("--least-layer", "least_layer_s", type=float, default=HeadAway.least_layer_s, show_default=True)
@click.option("--settle", "settle_s", type=float, default=HeadAway.settle_s, show_default=True)
@json_option
@pass_service
def dry_run(service: Service, file: str, model: str, least_layer_s: float, settle_s: float, as_json: bool) -> None:
    """What it would cost to take the head out of the picture at each layer of a file, and what it risks."""
    sha256 = service.do(requests.file(file)).sha256
    found = service.do(requests.head_away(sha256, HeadAway(least_layer_s, settle_s), model))
    if as_json:
        return show_json(found)
    x, y = found.park_mm
    say(
        f"{len(found.poses)} times, to x {x:g} y {y:g}, {found.lift_mm:g} mm up; {found.left_out} layers are too short."
    )
    say(f"It adds about {duration(found.adds_s)} to the build.")
    say(found.risk)


@films.command()
@json_option
@pass_service
def rules(service: Service, as_json: bool) -> None:
    """How films are made, for everything that has a rule of its own."""
    found = service.do(requests.film_rules())
    if as_json:
        return show_json(found)
    rows = [[_named(rule), _shows(rule.settings) if rule.settings.make else "no film"] for rule in found]
    show_table(("For", "A film shows"), rows, f"Everywhere: {_shows(FilmSettings())}.")


@films.command()
@click.argument("scope", type=click.Choice([str(scope) for scope in FilmScope]))
@click.argument("subject", default="0")
@click.option("--make/--none", default=None, help="Whether a film is made of each build by itself.")
@film_options
@click.option("--forget", is_flag=True, help="What holds for more than this holds again.")
@pass_service
def rule(service: Service, /, scope: str, subject: str, forget: bool, **given: Any) -> None:
    """How films of a job, order, file (by number), a machine (by name) or the whole shop are made; with options it is
    set."""
    of = FilmScope(scope)
    if of is not FilmScope.SHOP and subject == "0":
        fail(f"Say of which {scope}.", WRONG_USE)
    now = service.do(requests.drop_film_rule(of, subject) if forget else requests.film_rule(of, subject))
    if any(value is not None for value in given.values()):
        now = service.do(requests.set_film_rule(of, subject, _settings(now.settings, given)))
    shown = _shows(now.settings) if now.settings.make else "no film"
    say(f"{'' if now.own else 'As for '}{_named(now)}: {shown}.")
