"""`chronarch machines`: having a machine do something by hand."""

from __future__ import annotations

import time

import click
from rich.text import Text

from chronarch.cli.context import Service, fail, json_option, pass_service
from chronarch.cli.groups import machines
from chronarch.cli.output import (
    clock_time,
    console,
    show_json,
    show_table,
)
from chronarch.cli.plain import FINITE, say
from chronarch.client import RefusedByService, requests
from chronarch.client import requests as calls
from chronarch.core.control import actions as h
from chronarch.core.plain import plain
from chronarch.wire.control import actions as w


@machines.command("take-out")
@click.argument("name")
@click.option("--reason", default="")
@pass_service
def take_out(service: Service, name: str, reason: str) -> None:
    """Take an idle machine out of work."""
    say(service.do(requests.take_out(name, reason)).text)


@machines.command("put-back")
@click.argument("name")
@pass_service
def put_back(service: Service, name: str) -> None:
    """Give a machine back to work after service or a fault."""
    say(service.do(requests.put_back(name)).text)


@machines.command("emergency-stop")
@click.argument("name")
@pass_service
def emergency_stop(service: Service, name: str) -> None:
    """Halt a machine at once. Its build is lost."""
    say(service.do(requests.emergency_stop(name)).text)


HANDS_WITHIN_S = 320.0
_KINDS = ("file", "own", "ok", "heat", "trouble", "said")
_STYLES = {"file": "", "own": "cyan", "ok": "dim", "heat": "dim", "trouble": "bold red", "said": "green"}


def _do(service: Service, name: str, action: h.Action) -> None:
    outcome = service.patient(calls.act(name, action), HANDS_WITHIN_S)
    say(outcome.text)
    for line in outcome.said:
        say(f"  {line}")


@machines.command()
@click.argument("name")
@click.argument("axes", default="")
@pass_service
def home(service: Service, name: str, axes: str) -> None:
    """Home the axes: all, or those named, as in `xy`."""
    _do(service, name, h.Home(axes))


@machines.command()
@click.argument("name")
@click.option("--x", type=FINITE, default=0.0, help="mm to the right.")
@click.option("--y", type=FINITE, default=0.0, help="mm to the back.")
@click.option("--z", type=FINITE, default=0.0, help="mm up.")
@pass_service
def move(service: Service, name: str, x: float, y: float, z: float) -> None:
    """Move the head by so many mm."""
    _do(service, name, h.Move(x, y, z))


@machines.command()
@click.argument("name")
@click.argument("mm", type=FINITE)
@pass_service
def feed(service: Service, name: str, mm: float) -> None:
    """Push filament by so many mm; with a minus (after --) pull it back. Refused while the nozzle is cold."""
    _do(service, name, h.Feed(mm))


@machines.command()
@click.argument("name")
@click.option("--nozzle", type=FINITE, help="°C")
@click.option("--bed", type=FINITE, help="°C")
@click.option("--chamber", type=FINITE, help="°C")
@click.option("--for", "material", metavar="MATERIAL", help="What this material usually wants.")
@click.option("--off", is_flag=True, help="All heaters off.")
@pass_service
def heat(
    service: Service, name: str, nozzle: float | None, bed: float | None, chamber: float | None,
    material: str | None, off: bool,
) -> None:  # fmt: skip
    """Heat a machine while no build runs, or turn its heaters off."""
    given = any(value is not None for value in (nozzle, bed, chamber))
    if sum((given, material is not None, off)) != 1:
        raise click.UsageError("Say one of: temperatures (--nozzle, --bed, --chamber), --for MATERIAL, --off.")
    action = h.Adjust(nozzle_c=nozzle, bed_c=bed, chamber_c=chamber) if given else h.Preset(material or "")
    _do(service, name, action)


@machines.command()
@click.argument("name")
@click.argument("percent", type=FINITE)
@pass_service
def fan(service: Service, name: str, percent: float) -> None:
    """Set the part fan, in %."""
    _do(service, name, h.Adjust(fan_pct=percent))


@machines.command()
@click.argument("name")
@click.argument("what")
@click.argument("to", type=click.Choice(["on", "off"]))
@pass_service
def switch(service: Service, name: str, what: str, to: str) -> None:
    """Turn one of the model's switches (a light, a fan) on or off."""
    _do(service, name, h.Switch(what, to == "on"))


@machines.command("motors-off")
@click.argument("name")
@pass_service
def motors_off(service: Service, name: str) -> None:
    """Turn the motors off, so that the axes can be moved by hand."""
    _do(service, name, h.MotorsOff())


@machines.command("run")
@click.argument("name")
@click.argument("sequence")
@click.option("--set", "values", multiple=True, metavar="PARAMETER=VALUE", help="A value for one of its parameters.")
@pass_service
def run_sequence(service: Service, name: str, sequence: str, values: tuple[str, ...]) -> None:
    """Run one of the model's sequences."""
    given = {}
    for text in values:
        parameter, equals, value = text.partition("=")
        try:
            given[parameter] = float(value)
        except ValueError:
            equals = ""
        if not equals:
            raise click.BadParameter(f"write PARAMETER=VALUE with a number, not {text!r}", param_hint="--set")
    _do(service, name, h.RunSequence(sequence, given))


@machines.command("send")
@click.argument("name")
@click.argument("line")
@click.option("--yes", is_flag=True, help="Do not ask before a line that writes the machine's memory.")
@pass_service
def send_line(service: Service, name: str, line: str, yes: bool) -> None:
    """Send one line to a machine and print what it answers. Needs the right to maintain."""
    try:
        _do(service, name, h.SendLine(line, sure=yes))
    except RefusedByService as refused:
        if not refused.unsure:
            raise
        click.confirm(str(refused), abort=True)
        _do(service, name, h.SendLine(line, sure=True))


@machines.command("answer")
@click.argument("name")
@click.argument("choice")
@pass_service
def answer(service: Service, name: str, choice: str) -> None:
    """Answer a question of the machine itself: with the words of a choice, or its number from 1."""
    hands = service.do(requests.machine(name)).hands
    choices = hands.choices if hands else []
    if not choices:
        fail(f"{name} asks nothing now.", 1)
    numbers = [n for n, text in enumerate(choices) if choice.lower() == text.lower() or choice == str(n + 1)]
    if not numbers:
        fail(f"{name} asks {hands.question if hands else ''!r}: answer one of {', '.join(choices)}.", 1)
    _do(service, name, h.AnswerPrompt(numbers[0]))


@machines.command("log")
@click.argument("name")
@click.option("--lines", default=40, show_default=True, type=click.IntRange(1, 5000))
@click.option("--kind", "kinds", multiple=True, type=click.Choice(_KINDS), help="Only lines of these kinds.")
@click.option("--search", default="", help="Only lines that hold this.")
@click.option("--follow", is_flag=True, help="Go on printing what comes, until Ctrl-C.")
@json_option
@pass_service
def line_log(
    service: Service, name: str, lines: int, kinds: tuple[str, ...], search: str, follow: bool, as_json: bool
) -> None:
    """What tender and machine say to each other: > was sent, < was heard."""

    def wanted(found: list[w.LogLine]) -> list[w.LogLine]:
        return [line for line in found if not kinds or line.kind in kinds]

    found = service.do(calls.line_log(name, limit=5000 if kinds else lines, search=search))
    if as_json:
        return show_json(wanted(found)[-lines:])
    out = console()

    def show(some: list[w.LogLine]) -> None:
        for line in some:
            mark = ">" if line.sent else "<"
            text = Text.assemble((f"{line.at.astimezone():%H:%M:%S.%f}"[:12], "dim"), f" {mark} ")
            out.print(text.append(plain(line.text), style=_STYLES[line.kind]), soft_wrap=True)

    show(wanted(found)[-lines:])
    if not found:
        say(f"Nothing has been said to {name} yet.")
    after = found[-1].number if found else 0
    while follow:
        time.sleep(0.5)
        more = service.do(calls.line_log(name, after=after, limit=5000, search=search))
        show(wanted(more))
        after = more[-1].number if more else after


@machines.command("level-map")
@click.argument("name")
@click.option("--measure", is_flag=True, help="Probe the bed anew first; it must be clear.")
@click.option("--moved", is_flag=True, help="How far each point moved since the map before.")
@json_option
@pass_service
def level_map(service: Service, name: str, measure: bool, moved: bool, as_json: bool) -> None:
    """How level the bed is: heights in mm, the back row first, as seen from the front."""
    if measure:
        _do(service, name, h.MeasureBed(measure=True))
    found = service.do(calls.level_maps(name, 20 if as_json else 2))
    if as_json:
        return show_json(found)
    if not found:
        return say(f"{name} has no level map yet; take one with --measure.")
    newest, heights = found[0], found[0].rows
    if moved:
        before = found[1].rows if len(found) > 1 else []
        if [len(row) for row in before] != [len(row) for row in heights]:
            return say(f"{name} has no map before it of as many points.")
        heights = [[b - a for a, b in zip(*rows, strict=True)] for rows in zip(before, heights, strict=True)]
    columns = [f"{n + 1}" for n in range(len(heights[0]))]
    rows: list[list[str | Text]] = [
        [f"{len(heights) - n}", *(Text(f"{mm:+.3f}", style=_tone(mm)) for mm in row)]
        for n, row in enumerate(reversed(heights))
    ]
    show_table(("", *columns), rows, "")
    say(
        f"\n{clock_time(newest.at)}: from lowest to highest {newest.range_mm:.3f} mm, "
        f"standard deviation {newest.deviation_mm:.3f} mm"
    )


def _tone(mm: float) -> str:
    return "bold" if abs(mm) >= 0.2 else "" if abs(mm) >= 0.1 else "dim"
