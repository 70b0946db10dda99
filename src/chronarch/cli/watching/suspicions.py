"""`chronarch watch`: how it stands, what it suspects, what people answer, and the bed's corners."""

from __future__ import annotations

import json
from pathlib import Path

import click
from rich.text import Text

from chronarch.cli.context import WRONG_USE, Service, fail, json_option, limit_option, pass_service
from chronarch.cli.groups import build_number
from chronarch.cli.output import clock_time, show_facts, show_json, show_table
from chronarch.cli.plain import say
from chronarch.cli.watching.watch import watch
from chronarch.client import requests
from chronarch.core.watching.suspicion import FailureMode
from chronarch.core.watching.watch_rules import Follow
from chronarch.wire.watching import watch as w

DONE = {
    Follow.NOTHING: "",
    Follow.TELL: "told",
    Follow.LEAVE_OUT: "left the object out",
    Follow.PAUSE: "paused the build",
}


@watch.command()
@json_option
@pass_service
def status(service: Service, as_json: bool) -> None:
    """Which machines are watched, why others are not, and what the watch costs."""
    found = service.do(requests.watch_standing())
    if as_json:
        return show_json(found)
    rows: list[list[str | Text]] = [
        [m.machine, m.camera, "watched" if m.watching else Text(m.why_not, style="yellow"),
         m.unjudged, clock_time(m.looked_at)] for m in found.machines
    ]  # fmt: skip
    show_table(("Machine", "Camera", "Watch", "Newest frame", "Looked at"), rows, "There are no machines yet.")
    for one in found.machines:
        if one.bed_unseen:
            say(f"The bed of {one.machine} is not looked at before a start: {one.bed_unseen}.")
    say(f"It raises what is at least {found.threshold:.0%} likely, and takes {found.share:.0%} of a core.")


@watch.command("suspicions")
@click.option("--machine", default="")
@click.option("--build", type=int)
@click.option("--open", "open_", is_flag=True, help="Only what is not over and not answered.")
@limit_option
@json_option
@pass_service
def list_suspicions(
    service: Service, machine: str, build: int | None, open_: bool, limit: int, as_json: bool
) -> None:  # fmt: skip
    """What was suspected, newest first."""
    found = service.all(requests.suspicions(machine, build, open=open_), limit)
    if as_json:
        return show_json(found)
    rows: list[list[str | Text]] = [
        [str(s.number), clock_time(s.at), s.machine, str(s.build or ""), s.mode, s.object,
         "missed" if s.missed else f"{s.probability:.0%}", _followed(s), _answer(s)] for s in found
    ]  # fmt: skip
    headings = ("Number", "Raised", "Machine", "Build", "Kind", "Object", "Likely", "What followed", "Answer")
    show_table(headings, rows, "Nothing was suspected.")


def _followed(one: w.Suspicion) -> str | Text:
    if one.problem:
        return Text(one.problem, style="red")
    held = one.build is None and one.followed is Follow.PAUSE
    return "gave it no work" if held else DONE[one.followed]


def _answer(one: w.Suspicion) -> str:
    if one.right is None:
        return "over" if one.over_at else ""
    return ("right" if one.right else "false alarm") + f", {one.answered_by}"


@watch.command("show")
@click.argument("number", type=int)
@click.option("-o", "--out", type=click.Path(dir_okay=False, path_type=Path), help="Put its picture into this file.")
@json_option
@pass_service
def show_suspicion(service: Service, number: int, out: Path | None, as_json: bool) -> None:
    """One suspicion, and its picture."""
    one = service.do(requests.suspicion(number))
    if out is not None:
        if one.frame is None:
            fail(f"The picture of suspicion {number} is gone.", WRONG_USE)
        out.write_bytes(service.do(requests.kept_frame(one.frame)))
    if as_json:
        return show_json(one)
    place = one.place and "{:.0%} from the left, {:.0%} from the top, {:.0%} x {:.0%} of the picture".format(*one.place)
    show_facts(
        [
            ("Suspicion", str(one.number)),
            ("Says", one.sentence),
            ("Likely", "a person told of it" if one.missed else f"{one.probability:.0%}"),
            ("Of", f"build {one.build} on {one.machine}" if one.build else f"the bed of {one.machine} before a start"),
            ("Raised", clock_time(one.at)),
            ("Over", clock_time(one.over_at)),
            ("Camera", one.camera),
            ("Place", place or ""),
            ("Then", _followed(one)),
            ("Answer", _answer(one)),
            ("Picture", str(out) if out else f"frame {one.frame}" if one.frame else ""),
        ]
    )


@watch.command()
@click.argument("number", type=int)
@click.argument("said", type=click.Choice(["right", "false"]))
@pass_service
def answer(service: Service, number: int, said: str) -> None:
    """Say whether a suspicion was right, or a false alarm. The watch learns from it."""
    one = service.do(requests.answer_suspicion(number, right=said == "right"))
    say(f"Suspicion {one.number} was {'right' if one.right else 'a false alarm'}; its frames are kept as labelled.")


@watch.command()
@click.argument("build")
@click.argument("kind", type=click.Choice([str(mode) for mode in FailureMode]))
@click.option("--frame", type=int, required=True, help="A kept frame that shows it; `builds frames` lists them.")
@click.option("--object", "object_", default="", help="What it is about; the whole build without it.")
@pass_service
def missed(service: Service, build: str, kind: str, frame: int, object_: str) -> None:
    """Say that a build failed and the watch did not see it."""
    number = build_number(service, build)
    said = w.Missed(mode=FailureMode(kind), object=object_, frame=frame)
    one = service.do(requests.watch_missed(number, said))
    say(f"Noted as suspicion {one.number}: {one.sentence} Its frames are kept as labelled.")


@watch.command()
@click.argument("folder", type=click.Path(file_okay=False, path_type=Path))
@pass_service
def labels(service: Service, folder: Path) -> None:
    """Put the shop's own labelled builds and beds into a folder, which `chronarch watch score` reads."""
    if folder.exists() and any(folder.iterdir()):
        fail(f"{folder} is not empty; name another folder.", WRONG_USE)
    found = service.all(requests.labelled_set())
    if not found:
        return say(
            "Nobody has answered for a build or a bed since the bed's corners were marked: `chronarch watch answer` "
            "and `watch missed` do."
        )
    folder.mkdir(parents=True, exist_ok=True)
    lines = []
    for sequence in found:
        gcode, clear = f"{sequence.sha256[:16]}.gcode" if sequence.sha256 else None, f"{sequence.name}-clear.jpg"
        named = {
            "gcode": gcode, "camera": sequence.corners, "sequence": sequence.name, "clear": clear,
            "bed_mm": sequence.bed_mm, "head": sequence.head_mm, "clear_head": sequence.clear_head_mm,
        }  # fmt: skip
        if sequence.sha256 and gcode and not (folder / gcode).exists():
            (folder / gcode).write_bytes(service.do(requests.content_bytes(sequence.sha256)))
        (folder / clear).write_bytes(service.do(requests.clear_frame(sequence.camera)))
        for one in sequence.frames:
            image = f"{sequence.name}-{one.frame}.jpg"
            (folder / image).write_bytes(service.do(requests.kept_frame(one.frame)))
            about = {"taken": one.command, "label": one.label, "object": one.object or None, "at_s": one.at_s}
            lines.append(json.dumps({"image": image, **named, **about}))
    (folder / "frames.jsonl").write_text("".join(f"{line}\n" for line in lines))
    builds = sum(sequence.build is not None for sequence in found)
    return say(f"{len(lines)} frames are in {folder}; labelled builds: {builds}, beds: {len(found) - builds}.")


class _Corner(click.ParamType[tuple[float, float]]):
    name = "X,Y"

    def convert(
        self, value: object, param: click.Parameter | None, ctx: click.Context | None
    ) -> tuple[float, float]:  # fmt: skip
        try:
            x, y = (float(part) for part in str(value).split(","))
        except ValueError:
            self.fail(f"{value!r} is no corner; write its pixels as 120,344", param, ctx)
        return x, y


@watch.command()
@click.argument("camera")
@click.argument("marked", metavar="[X,Y X,Y X,Y X,Y]", nargs=-1, type=_Corner())
@click.option("--find", is_flag=True, help="Say where they may be, by the bed's edges; nothing is kept.")
@click.option("--tip", type=_Corner(), help="The tip of the nozzle in it; makes the vertical better.")
@click.option("--check", is_flag=True, help="Only say what they would come to.")
@click.option("--forget", is_flag=True, help="Forget them: this camera watches no build any more.")
@json_option
@pass_service
def corners(
    service: Service, camera: str, marked: tuple[tuple[float, float], ...], find: bool,
    tip: tuple[float, float] | None, check: bool, forget: bool, as_json: bool,
) -> None:  # fmt: skip
    """Mark the bed's corners in the newest picture of a camera, which must show the clear bed: the origin, the corner
    along x from it, the one opposite, the one along y. The tip of the nozzle, too, is known to a homed machine. Without
    corners, say what is marked."""
    if forget:
        return say(f"{service.do(requests.forget_corners(camera)).text}.")
    if find and marked:
        fail("Give corners, or have them found with --find; not both.", WRONG_USE)
    if marked and len(marked) != 4:
        fail(f"Four corners are wanted; there are {len(marked)}.", WRONG_USE)
    if find:
        found = service.do(requests.offered_corners(camera))
    elif not marked:
        found = service.do(requests.bed_sight(camera))
    else:
        found = service.do((requests.check_corners if check else requests.mark_corners)(camera, list(marked), tip))
    if as_json:
        return show_json(found)
    x, y, z = found.eye_mm
    return show_facts(
        [
            ("Corners", "  ".join(f"{u:.0f},{v:.0f}" for u, v in found.corners)),
            ("In a picture of", f"{found.width} x {found.height} px"),
            ("The nozzle's tip", f"{found.tip[0]:.0f},{found.tip[1]:.0f}" if found.tip else ""),
            ("They miss by", f"{found.error_px:.1f} px"),
            ("The camera is at", f"x {x:.0f} y {y:.0f} z {z:.0f} mm" + (", mirrored" if found.mirrored else "")),
            ("Marked", f"{clock_time(found.set_at)} by {found.set_by}" if found.set_at else "not kept"),
        ]
    )
