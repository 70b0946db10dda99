"""`chronarch builds`: changing builds under way."""

from __future__ import annotations

from pathlib import Path

import click

from chronarch.cli.context import Service, fail, json_option, pass_service
from chronarch.cli.control.machines import _do
from chronarch.cli.groups import build_number, builds
from chronarch.cli.output import clock_time, duration, show_json, show_table
from chronarch.cli.plain import FINITE, say
from chronarch.client import requests
from chronarch.client import requests as calls
from chronarch.core.control import actions as h


@builds.command()
@click.argument("build")
@click.option("--reason", default="")
@pass_service
def pause(service: Service, build: str, reason: str) -> None:
    """Pause a build (its number or machine) at the next line; the head lifts and parks."""
    b = service.do(requests.pause(build_number(service, build), reason))
    say(f"Build {b.id} on {b.machine} is {b.state}: {b.reason}.")


@builds.command()
@click.argument("build")
@pass_service
def resume(service: Service, build: str) -> None:
    """Go on with a paused build, with the very next line."""
    b = service.do(requests.resume(build_number(service, build)))
    say(f"Build {b.id} on {b.machine} goes on.")


@builds.command()
@click.argument("build")
@click.option("--reason", default="")
@click.option("--yes", is_flag=True, help="Do not ask.")
@pass_service
def stop(service: Service, build: str, reason: str, yes: bool) -> None:
    """End a build for good: heaters off, head parked. What was laid down so far is lost."""
    number = build_number(service, build)
    if not yes:
        click.confirm(f"Stop build {number}? What was laid down so far is lost.", abort=True)
    b = service.do(requests.stop(number, reason))
    say(f"Build {b.id} on {b.machine} stops.")


# Running builds ----------------------------------------------------------------------------------------------------


@builds.command()
@click.argument("build")
@click.option("--nozzle", type=FINITE, help="°C")
@click.option("--bed", type=FINITE, help="°C")
@click.option("--chamber", type=FINITE, help="°C")
@click.option("--speed", type=FINITE, help="% of what the file says.")
@click.option("--flow", type=FINITE, help="% of what the file says.")
@click.option("--fan", type=FINITE, help="%, until the file sets it again.")
@click.option("--z-offset", type=FINITE, help="mm from what the file says.")
@pass_service
def adjust(
    service: Service, build: str, nozzle: float | None, bed: float | None, chamber: float | None,
    speed: float | None, flow: float | None, fan: float | None, z_offset: float | None,
) -> None:  # fmt: skip
    """Set something of a running build (its number or machine); answers once the machine has it."""
    number = build_number(service, build)
    machine = service.do(requests.build(number)).machine
    _do(service, machine, h.Adjust(nozzle, bed, chamber, speed, flow, fan, z_offset))


@builds.command("pause-before")
@click.argument("build")
@click.argument("layer", type=int)
@click.option("--cancel", is_flag=True, help="Take that pause back.")
@pass_service
def pause_before(service: Service, build: str, layer: int, cancel: bool) -> None:
    """Pause once everything below a layer is laid."""
    number = build_number(service, build)
    service.do(calls.no_pause_before(number, layer) if cancel else calls.pause_before(number, layer))
    say(f"Build {number} {'does not pause' if cancel else 'pauses'} before layer {layer}.")


@builds.command("pause-after-layer")
@click.argument("build")
@pass_service
def pause_after_layer(service: Service, build: str) -> None:
    """Pause once the layer that is being laid is done."""
    number = build_number(service, build)
    service.do(calls.pause_before(number, 0))
    say(f"Build {number} pauses after this layer.")


@builds.command("change-filament")
@click.argument("build")
@click.argument("step", required=False, type=click.Choice(["unload", "load", "purge"]))
@click.option("--reason", default="")
@pass_service
def change_filament(service: Service, build: str, step: str | None, reason: str) -> None:
    """Change filament in the middle of a build. Without a step the build pauses; then unload, load and purge; then
    resume."""
    number = build_number(service, build)
    if step is None:
        b = service.do(calls.filament_change(number, reason))
        return say(
            f"{b.machine} is parked. Next: `chronarch builds change-filament {number} unload`, then load, purge, "
            f"and `chronarch builds resume {number}`."
        )
    machine = service.do(requests.build(number)).machine
    _do(service, machine, h.Filament(step))  # type: ignore[arg-type]


@builds.command("leave-out")
@click.argument("build")
@click.argument("objects", nargs=-1, required=True)
@click.option("--yes", is_flag=True, help="Do not ask.")
@click.option("--undo", is_flag=True, help="Lay them after all: possible until the layer they would be missing from.")
@pass_service
def leave_out(service: Service, build: str, objects: tuple[str, ...], yes: bool, undo: bool) -> None:
    """Leave objects out of a running build from the next layer on."""
    number = build_number(service, build)
    if undo:
        for name in objects:
            service.do(calls.undo_skip(number, name))
        return say(f"Build {number}: {', '.join(objects)} is laid after all.")
    if not yes:
        plan = service.do(calls.preview_skip(number, list(objects)))
        say(
            f"From layer {plan.from_layer} of {plan.layers} on. {len(plan.remaining)} remain: "
            f"{', '.join(plan.remaining)}.\nEnds {clock_time(plan.expected_end)}, "
            f"{duration(plan.saved_s)} earlier than now expected."
        )
        click.confirm(f"Leave out {', '.join(objects)}?", abort=True)
    plan = service.do(calls.skip(number, list(objects)))
    say(f"Build {number} goes on without {', '.join(objects)} from layer {plan.from_layer} on.")


@builds.command("changes")
@click.argument("build")
@json_option
@pass_service
def build_changes(service: Service, build: str, as_json: bool) -> None:
    """What people changed during a build."""
    found = service.do(calls.build_changes(build_number(service, build)))
    if as_json:
        return show_json(found)
    rows = [[clock_time(c.at), c.text, c.by] for c in found]
    show_table(("When", "Change", "By"), rows, "Nobody has changed anything of this build.")


@builds.command("log")
@click.argument("build", type=int)
@click.option("--out", type=click.Path(dir_okay=False, path_type=Path), help="Where to put it; build-N.log without it.")
@pass_service
def build_log(service: Service, build: int, out: Path | None) -> None:
    """Save every line of a build that has ended, in both directions, with its time."""
    data = service.do(calls.build_log(build))
    path = out or Path(f"build-{build}.log")
    try:
        path.write_bytes(data)
    except OSError as error:
        fail(f"{path} cannot be written: {error.strerror}.", 2)
    say(f"{path}, {data.count(10)} lines")
