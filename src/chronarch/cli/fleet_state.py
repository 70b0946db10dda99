"""`chronarch fleet`: firmware and stored settings of all machines, side by side."""

from __future__ import annotations

import click

from chronarch.cli.context import Service, json_option, pass_service
from chronarch.cli.output import clock_time, show_json, show_table
from chronarch.cli.plain import say
from chronarch.client import requests
from chronarch.wire.upkeep import fleet_state as w


@click.group(invoke_without_command=True)
@click.pass_context
def fleet(ctx: click.Context) -> None:
    """The state of the fleet: firmware, who is behind, and settings that differ among machines of one model."""
    if ctx.invoked_subcommand is None:
        ctx.invoke(show)


@fleet.command("show")
@json_option
@pass_service
def show(service: Service, as_json: bool) -> None:
    """The firmware of each machine since when, whether the shop wants another, and what it cannot do."""
    found = service.do(requests.fleet_state())
    if as_json:
        return show_json(found)
    rows = [
        [model.model, one.machine, one.firmware or "not said yet", clock_time(one.since) if one.since else "",
         _wanted(model, one), ", ".join(one.cannot),
         clock_time(one.settings_told_at) if one.settings_told_at else "never"]
        for model in found
        for one in model.machines
    ]  # fmt: skip
    heads = "Model", "Machine", "Firmware", "Since", "Wanted", "Cannot", "Settings asked"
    show_table(heads, rows, "There are no machines yet.")
    return None


def _wanted(model: w.FleetOfModel, one: w.MachineTells) -> str:
    if not one.firmware:
        return ""
    if not model.wanted:
        return "any"
    return f"behind: {model.wanted}" if one.behind else "as wanted"


@fleet.command("want")
@click.argument("model")
@click.argument("firmware", default="")
@pass_service
def want(service: Service, model: str, firmware: str) -> None:
    """Say which FIRMWARE the shop wants on all machines of MODEL, as they say it; without it, any will do."""
    say(service.do(requests.want_firmware(w.FirmwareWish(model=model, firmware=firmware))).text)


@fleet.command("ask")
@click.option("--model", default="", help="Only machines of this model.")
@click.option("--machine", default="", help="Only this machine.")
@json_option
@pass_service
def ask(service: Service, model: str, machine: str, as_json: bool) -> None:
    """Ask the machines that have nothing to do what they have stored."""
    found = service.patient(requests.ask_settings(model, machine), 900.0)
    if as_json:
        return show_json(found)
    say(f"{', '.join(found.told) or 'None'} told what is stored.")
    for one in found.not_asked:
        say(f"{one.machine} did not: {one.why}.")
    return None


@fleet.command("settings")
@click.option("--model", default="", help="Only this model.")
@json_option
@pass_service
def settings(service: Service, model: str, as_json: bool) -> None:
    """Stored values that are not the same on all machines of a model, side by side, since when."""
    found = [one for one in service.do(requests.fleet_state()) if model in ("", one.model)]
    if as_json:
        return show_json(found)
    for one in found:
        told = [machine.machine for machine in one.machines if machine.settings_told_at]
        if not told:
            say(f"{one.model}: no machine was asked yet; `chronarch fleet ask` does.")
            continue
        if not one.different:
            say(f"{one.model}: all {one.same} values are the same on {', '.join(told)}.")
            continue
        others = "1 is" if len(one.different) == 1 else f"{len(one.different)} are"
        say(f"{one.model}: {one.same} values are the same on all, {others} not.")
        rows = [
            [row.name, row.meaning, *(_value(row, machine) for machine in told)] for row in one.different
        ]  # fmt: skip
        show_table(("Setting", "What it does", *told), rows, "")
    return None


def _value(row: w.DifferentSetting, machine: str) -> str:
    found = next((value for value in row.values if value.machine == machine), None)
    if found is None or found.value is None:
        return "none"
    odd = row.usual is not None and found.value != row.usual
    return f"{found.value:g} since {clock_time(found.since)}" if odd else f"{found.value:g}"
