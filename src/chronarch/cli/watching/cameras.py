"""`chronarch cameras`."""

from __future__ import annotations

import base64
import sys
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

import click
from rich.text import Text

from chronarch.cli.context import WRONG_USE, Service, fail, json_option, pass_service
from chronarch.cli.output import clock_time, duration, show_facts, show_json, show_table, size_text
from chronarch.cli.plain import hand_over, say
from chronarch.client import requests
from chronarch.core.watching.camera_settings import CameraSettings, Crop
from chronarch.wire.watching import cameras as w
from chronarch.wire.watching.settings import WatchingUpdate

TRY_WITHIN_S = 60.0


@click.group()
def cameras() -> None:
    """Cameras: what they see, setting them up, trying them."""


def looks_at(camera: w.Camera) -> str:
    return camera.machine or f"{camera.site} {camera.place}".strip() or "a room"


def stands(camera: w.Camera) -> Text:
    """How a camera stands, in a few words."""
    if camera.trouble is not None:
        return Text(f"since {clock_time(camera.trouble.since)}: {camera.trouble.text}", style="red")
    if camera.frame_at is None:
        return Text("no frame yet", style="dim")
    return Text(f"{camera.width} x {camera.height}, {camera.frames_per_s:.1f} frames/s")


@cameras.command("list")
@json_option
@pass_service
def list_cameras(service: Service, as_json: bool) -> None:
    """All cameras and how they stand."""
    found = service.do(requests.cameras())
    if as_json:
        return show_json(found)
    now = service.do(requests.shop()).now
    rows: list[list[str | Text]] = [
        [c.name, looks_at(c) + (" (first)" if c.first else ""), c.address, clock_time(c.frame_at, now), stands(c)]
        for c in found
    ]  # fmt: skip
    show_table(("Camera", "Looks at", "Address", "Frame", "Pictures"), rows,
               "There are no cameras yet. Add one with `chronarch cameras add`.")  # fmt: skip
    for work in service.do(requests.camera_work()):
        kept = "" if work.factor >= 1 else f"; rates are held to {work.factor:.0%}"
        say(f"{work.tender}: {work.used:.0%} of a processor core, {work.budget:.0%} may be used{kept}")


@cameras.command()
@click.argument("name")
@json_option
@pass_service
def show(service: Service, name: str, as_json: bool) -> None:
    """One camera: its set-up and how it stands."""
    c = service.do(requests.camera(name))
    if as_json:
        return show_json(c)
    s, crop = c.settings, c.settings.crop
    cut = ", ".join(f"{side} {getattr(crop, side):.0%}" for side in ("left", "top", "right", "bottom")
                    if getattr(crop, side))  # fmt: skip
    show_facts(
        [
            ("Camera", c.name),
            ("Looks at", looks_at(c) + (", its first camera" if c.first else "")),
            ("Address", c.address),
            ("Sign-in", f"{c.login}, {'with a password' if c.has_password else 'no password'}" if c.login else ""),
            ("Tender", c.tender),
            ("Pictures", stands(c)),
            ("Newest", clock_time(c.frame_at)),
            ("Looked at by", str(c.looked_at_by)),
            ("Turned", f"{s.turn}°" if s.turn else ""),
            ("Mirrored", "yes" if s.mirror else ""),
            ("Cut off", cut),
            ("Width", f"{s.width_px} px at most" if s.width_px else ""),
            ("Frames", f"{s.frames_per_s:g} a second while somebody looks"),
            ("Light", f"{s.light} is on while somebody looks or the machine works" if s.light else ""),
        ]
    )


def setup_options(command: Callable[..., Any]) -> Callable[..., Any]:
    """Options that say where a camera is and how its pictures are taken."""
    for option in reversed(OPTIONS):
        command = option(command)
    return command


OPTIONS: tuple[Callable[[Callable[..., Any]], Callable[..., Any]], ...] = (
    click.option("--login"),
    click.option("--password-stdin", is_flag=True, help="Read its password from standard input."),
    click.option("--site"),
    click.option("--place", help="What it looks at where that is no machine: shelf A"),
    click.option("--first", is_flag=True, help="It stands for its machine."),
    click.option("--turn", type=click.Choice(["0", "90", "180", "270"]), help="Clockwise, degrees."),
    click.option("--mirror/--no-mirror", default=None, help="Left and right swapped."),
    click.option("--crop", metavar="LEFT,TOP,RIGHT,BOTTOM", help="What is cut off at each side, in percent."),
    click.option("--width", type=int, help="The most pixels across; 0: as it comes."),
    click.option("--fps", type=float, help="Frames a second while somebody looks, 0.2 to 15."),
    click.option("--quality", type=click.IntRange(30, 95), help="Of the JPEG where it is encoded here."),
    click.option("--light", help="A switch of the machine that is turned on for pictures."),
)


def _settings(before: CameraSettings, given: dict[str, Any]) -> CameraSettings:
    """Settings with what was given. Ends the command for what cannot be."""
    changes: dict[str, Any] = {}
    for option, field in (("mirror", "mirror"), ("width", "width_px"), ("fps", "frames_per_s"), ("quality", "quality"),
                          ("light", "light")):  # fmt: skip
        if given[option] is not None:
            changes[field] = given[option]
    if given["turn"] is not None:
        changes["turn"] = int(given["turn"])
    if given["crop"] is not None:
        changes["crop"] = _crop(given["crop"])
    return replace(before, **changes)


def _crop(text: str) -> Crop:
    try:
        left, top, right, bottom = (float(part) / 100 for part in text.split(","))
        return Crop(left, top, right, bottom)
    except ValueError:
        text = f"write four percentages, as in 10,0,10,25, not {text!r}"
        raise click.BadParameter(text, param_hint="--crop") from None


def _password(from_stdin: bool) -> str | None:
    return sys.stdin.readline().rstrip("\r\n") if from_stdin else None


@cameras.command()
@click.argument("name")
@click.argument("address")
@click.option("--machine", help="What it looks at; for a room give --tender.")
@click.option("--tender", default="", help="Whose computer reaches it; the machine's without this.")
@setup_options
@pass_service
def add(service: Service, /, name: str, address: str, machine: str | None, tender: str, login: str | None,
        password_stdin: bool, site: str | None, place: str | None, first: bool, **given: Any) -> None:  # fmt: skip
    """Add a camera: http://…, https://…, rtsp://… or device:///dev/v4l/by-id/…"""
    asked = w.NewCamera(
        name=name, address=address, machine=machine or "", tender=tender, login=login or "",
        password=_password(password_stdin) or "", site=site or "", place=place or "", first=first,
        settings=_settings(CameraSettings(), given),
    )  # fmt: skip
    made = service.do(requests.add_camera(asked))
    say(f"{made.name} is added; it looks at {looks_at(made)}. Try it: chronarch cameras test {made.name}")


@cameras.command()
@click.argument("name")
@click.option("--name", "new_name", help="Call it so from now on.")
@click.option("--address", help="Where it is now. A password that is not given anew is forgotten.")
@click.option("--machine", help="What it looks at; an empty text for a room.")
@setup_options
@pass_service
def change(service: Service, /, name: str, new_name: str | None, address: str | None, machine: str | None,
           login: str | None, password_stdin: bool, site: str | None, place: str | None, first: bool,
           **given: Any) -> None:  # fmt: skip
    """Change a camera; what is not said stays."""
    said: dict[str, Any] = {
        "name": new_name, "address": address, "machine": machine, "login": login, "site": site, "place": place,
        "password": _password(password_stdin), "first": True if first else None,
    }  # fmt: skip
    wish: dict[str, Any] = {key: value for key, value in said.items() if value is not None}
    if any(value is not None for value in given.values()):
        wish["settings"] = _settings(service.do(requests.camera(name)).settings, given)
    if not wish:
        fail("Say what is to change; `chronarch cameras change --help` lists it.", WRONG_USE)
    c = service.do(requests.change_camera(name, w.CameraChange(**wish)))
    say(f"{c.name} looks at {looks_at(c)}, {c.address}.")


@cameras.command()
@click.argument("name")
@pass_service
def remove(service: Service, name: str) -> None:
    """Remove a camera."""
    say(f"{service.do(requests.remove_camera(name)).text}.")


@cameras.command()
@click.argument("name")
@click.option("-o", "--out", type=click.Path(dir_okay=False, path_type=Path), help="Put the frame there.")
@pass_service
def test(service: Service, name: str, out: Path | None) -> None:
    """Take one frame now, or say exactly why there is none."""
    tried = service.patient(requests.try_camera(name), TRY_WITHIN_S)
    say(f"{tried.width} x {tried.height}, {size_text(tried.size)}, in {duration(tried.took_s)}.")
    if tried.warning:
        say(f"{tried.warning[0].upper()}{tried.warning[1:]}.")
    _hand_out(base64.b64decode(tried.jpeg), out)


@cameras.command()
@click.argument("name")
@click.option("-o", "--out", type=click.Path(dir_okay=False, allow_dash=True, path_type=Path), help="A file, or - .")
@click.option("--small", is_flag=True, help="480 pixels at most.")
@pass_service
def frame(service: Service, name: str, out: Path | None, small: bool) -> None:
    """The newest frame: shown in the terminal where that can show it, and put into a file with -o."""
    data = service.do(requests.frame(name, "small" if small else "full"))
    if out == Path("-"):
        return hand_over(data)
    from chronarch.cli.watching.picture import can_show

    if out is None and not can_show():
        out = Path(f"{service.do(requests.camera(name)).name}.jpg")
    if out is not None:
        say(f"{out}, {len(data)} bytes")
    _hand_out(data, out)


def _hand_out(jpeg: bytes, out: Path | None) -> None:
    from chronarch.cli.watching.picture import can_show, show_picture

    if out is not None:
        out.write_bytes(jpeg)
    elif can_show():
        show_picture(jpeg)


@cameras.command()
@click.option("--tender", default="tender", show_default=True)
@json_option
@pass_service
def local(service: Service, tender: str, as_json: bool) -> None:
    """Cameras that are plugged in at a tender's computer, by their serial numbers."""
    found = service.patient(requests.local_cameras(tender), TRY_WITHIN_S)
    if as_json:
        return show_json(found)
    rows = [[c.serial or "none", c.name, c.address, c.camera or "nobody's yet"] for c in found]
    show_table(("Serial", "Says", "Address", "Set up as"), rows, f"No camera is plugged in at {tender}.")


@cameras.command()
@click.option("--every", "every_s", type=float, help="Keep a frame every so many seconds, 5 to 3600.")
@click.option("--disk", "disk_gb", type=float, help="What kept frames may take of the disk, GB.")
@click.option("--yes", is_flag=True, help="Do not ask.")
@pass_service
def keep(service: Service, every_s: float | None, disk_gb: float | None, yes: bool) -> None:
    """What keeping frames comes to on the disk; with --every or --disk it is set, once that has been seen."""
    now = service.do(requests.watching())
    wish = WatchingUpdate(**{k: v for k, v in (("keep_every_s", every_s), ("frames_gb", disk_gb)) if v is not None})
    cost = service.do(requests.frame_cost(every_s))
    say(
        f"A frame every {every_s or now.keep_every_s:g} s comes to {cost.lasting_gb:.1f} GB once a month has passed, "
        f"and {cost.for_ever_gb_a_year:.1f} GB a year of first and last frames ({cost.frame_kb:.0f} kB a frame). "
        f"Now {cost.frames} frames take {cost.now_gb:.2f} of {disk_gb or now.frames_gb:g} GB."
    )
    if not wish.model_fields_set:
        return
    if not yes and not click.confirm("Set it so?", default=True):
        fail("Nothing is changed.", WRONG_USE)
    kept = service.do(requests.change_watching(wish))
    say(f"A frame is kept every {kept.keep_every_s:g} s; frames may take {kept.frames_gb:g} GB.")


@cameras.command()
@click.argument("share", type=float)
@pass_service
def budget(service: Service, share: float) -> None:
    """Set how many processor cores the cameras of a tender may take: 0.5 is half of one."""
    kept = service.do(requests.change_watching(WatchingUpdate(camera_budget=share)))
    say(f"Cameras may take {kept.camera_budget:.0%} of a processor core.")
