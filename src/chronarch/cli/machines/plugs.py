"""`chronarch plugs`, and turning machines on and off."""

from __future__ import annotations

import json
import sys
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

import click
from pydantic import ValidationError
from rich.text import Text

from chronarch.cli.context import WRONG_USE, Service, fail, json_option, pass_service
from chronarch.cli.groups import machines
from chronarch.cli.output import show_json, show_table
from chronarch.cli.plain import say
from chronarch.client import requests
from chronarch.core.machines.plugs import PowerRules
from chronarch.wire.common import faults_of
from chronarch.wire.machines import power as w

TURN_WITHIN_S = 120.0


@click.group()
def plugs() -> None:
    """Plugs that machines hang on: what they draw, and when they are turned off and on."""


def says(power: w.Power | None) -> str | Text:
    """What a plug says, in a few words."""
    if power is None:
        return Text("its tender is away", style="dim")
    if power.trouble:
        return Text(power.trouble, style="red")
    watts = "" if power.watts is None else f", {power.watts:.0f} W"
    return "nothing yet" if power.on is None else f"{'on' if power.on else 'off'}{watts}"


def _rules(rules: PowerRules) -> str:
    off = f"off by itself after {rules.off_after_min:g} min" if rules.off_after_min else "not off by itself"
    ahead = f"; on {rules.start_up_s:g} s before its next build" if rules.ahead and rules.off_after_min else ""
    fan = f"; its fan runs on for {rules.run_on_s:g} s" if rules.run_on_s else ""
    return f"{off}{ahead}; never above {rules.cool_c:g} °C{fan}"


@plugs.command("list")
@json_option
@pass_service
def list_plugs(service: Service, as_json: bool) -> None:
    """The plugs of all machines: what they say, and their rules."""
    found = service.do(requests.plugs())
    if as_json:
        return show_json(found)
    rows: list[list[str | Text]] = [
        [p.machine, says(p.power), _rules(p.rules) + (" (the shop turned it off)" if p.off_by_itself else ""),
         p.profile, p.address]
        for p in found
    ]  # fmt: skip
    show_table(("Machine", "Is", "Rules", "Profile", "Address"), rows,
               "No machine hangs on a plug. Describe one (`chronarch plugs profile`), then `plugs add`.")  # fmt: skip


def rule_options(command: Callable[..., Any]) -> Callable[..., Any]:
    """Options that say when a plug is turned."""
    for option in reversed(OPTIONS):
        command = option(command)
    return command


OPTIONS: tuple[Callable[[Callable[..., Any]], Callable[..., Any]], ...] = (
    click.option(
        "--off-after", "off_after_min", type=float, help="Off by itself so many minutes after work; 0: never."
    ),
    click.option("--ahead/--not-ahead", default=None, help="On by itself before the plan's next build."),
    click.option("--start-up", "start_up_s", type=float, help="From on until it can take work, s."),
    click.option("--cool", "cool_c", type=float, help="Never off while a heater is hotter, °C."),
    click.option("--run-on", "run_on_s", type=float, help="The part fan runs so long before it is turned off, s."),
)


def _with(rules: PowerRules, given: dict[str, Any]) -> PowerRules:
    return replace(rules, **{name: value for name, value in given.items() if value is not None})


@plugs.command()
@click.argument("machine")
@click.argument("address")
@click.option("--profile", required=True, help="How such plugs are asked; `plugs profiles` shows all.")
@click.option("--login", default="")
@click.option("--password-stdin", is_flag=True, help="Read its password from standard input.")
@rule_options
@pass_service
def add(service: Service, /, machine: str, address: str, profile: str, login: str, password_stdin: bool,
        **given: Any) -> None:  # fmt: skip
    """Say on which plug a machine hangs: http://HOST/DEVICE or mqtt://BROKER/DEVICE"""
    asked = w.NewPlug(
        machine=machine, address=address, profile=profile, login=login, rules=_with(PowerRules(), given),
        password=sys.stdin.readline().rstrip("\r\n") if password_stdin else "",
    )  # fmt: skip
    plug = service.do(requests.add_plug(asked))
    say(f"{plug.machine} hangs on {plug.address}; {_rules(plug.rules)}.")


@plugs.command()
@click.argument("machine")
@click.option("--address")
@click.option("--profile")
@click.option("--login")
@click.option("--password-stdin", is_flag=True, help="Read its password from standard input.")
@rule_options
@pass_service
def change(service: Service, /, machine: str, password_stdin: bool, address: str | None, profile: str | None,
           login: str | None, **given: Any) -> None:  # fmt: skip
    """Change the plug of a machine; what is not said stays."""
    wish: dict[str, Any] = {"address": address, "profile": profile, "login": login}
    if password_stdin:
        wish["password"] = sys.stdin.readline().rstrip("\r\n")
    if any(value is not None for value in given.values()):
        wish["rules"] = _with(service.do(requests.plug(machine)).rules, given)
    said = {name: value for name, value in wish.items() if value is not None}
    if not said:
        fail("Say what is to change; `chronarch plugs change --help` lists it.", WRONG_USE)
    plug = service.do(requests.change_plug(machine, w.PlugChange(**said)))
    say(f"{plug.machine} hangs on {plug.address}; {_rules(plug.rules)}.")


@plugs.command()
@click.argument("machine")
@pass_service
def remove(service: Service, machine: str) -> None:
    """A machine hangs on no plug any more; it stays as it is."""
    say(f"{service.do(requests.remove_plug(machine)).text}.")


@plugs.command()
@json_option
@pass_service
def profiles(service: Service, as_json: bool) -> None:
    """How plugs of each make are asked and turned."""
    found = service.do(requests.plug_profiles())
    if as_json:
        return show_json(found)
    rows = [[p.name, p.kind, p.report, p.turn, p.is_on, p.watts, p.wh] for p in found]
    show_table(("Profile", "Over", "Report", "Turns", "On at", "W at", "Wh at"), rows,
               "There are no profiles. `chronarch plugs profile FILE` adds one.")  # fmt: skip


@plugs.command()
@click.argument("file", type=click.Path(exists=True, dir_okay=False, path_type=Path))
@pass_service
def profile(service: Service, file: Path) -> None:
    """Describe plugs of a make by a file of JSON (docs/power.md)."""
    try:
        asked = w.plug_profile.validate_python(json.loads(file.read_text()))
    except ValidationError as error:
        fail(f"{file}: {faults_of(error)}", WRONG_USE)
    except ValueError as error:
        fail(f"{file} is no JSON: {error}", WRONG_USE)
    say(f"The profile {service.do(requests.set_plug_profile(asked)).name} is set.")


@plugs.command("forget")
@click.argument("profile")
@pass_service
def forget(service: Service, profile: str) -> None:
    """Forget a profile that no plug has."""
    say(f"{service.do(requests.remove_plug_profile(profile)).text}.")


@machines.command("on")
@click.argument("name")
@pass_service
def turn_on(service: Service, name: str) -> None:
    """Turn a machine on at its plug."""
    plug = service.patient(requests.turn_power(name, on=True), TURN_WITHIN_S)
    say(f"{plug.machine} is {says(plug.power)}.")


@machines.command("off")
@click.argument("name")
@click.option("--force", "reason", default="", metavar="REASON", help="Even while it builds or is hot; say why.")
@pass_service
def turn_off(service: Service, name: str, reason: str) -> None:
    """Turn a machine off at its plug. Refused while it builds, stands paused or is hot."""
    plug = service.patient(requests.turn_power(name, on=False, force=bool(reason), reason=reason), TURN_WITHIN_S)
    say(f"{plug.machine} is {says(plug.power)}.")
