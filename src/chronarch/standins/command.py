"""`chronarch standins`: run simulated machines, and bring faults about."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path

import click
import httpx
import uvicorn

from chronarch.standins.app import FAULTS, make_app
from chronarch.standins.machine import Setup

PORT = click.IntRange(1, 65535)
MOST_RATE = 10_000


@click.group()
def standins() -> None:
    """Simulated machines and cameras."""


def _check_rate(context: click.Context, option: click.Parameter, rate: float) -> float:
    if not 0 < rate <= MOST_RATE:
        raise click.BadParameter(f"A rate lies above 0 and up to {MOST_RATE}, not {rate}.")
    return rate


def _setup(text: str, rate: float) -> Setup:
    name, _, port = text.partition(":")
    if not name or not port.isdigit():
        raise click.BadParameter(f"write NAME:PORT, as in Anchor:7101, not {text!r}", param_hint="--machine")
    return Setup(name, int(port), rate=rate)


@standins.command()
@click.option("--machine", "machines", multiple=True, metavar="NAME:PORT", help="One machine and its TCP port.")
@click.option("--from-file", type=click.Path(exists=True, dir_okay=False, path_type=Path), help="Set-ups as JSON.")
@click.option(
    "--port",
    type=PORT,
    default=7100,
    show_default=True,
    help="HTTP port for cameras, records and faults.",
)
@click.option("--rtsp-port", type=PORT, help="Where the cameras give videos, rtsp://127.0.0.1:PORT/machines/NAME.")
@click.option("--smtp-port", type=PORT, help="Where mail is taken, and kept to be read at /mail.")
@click.option("--mail-login", default="", metavar="NAME:PASSWORD", help="What the mail server asks for.")
@click.option("--broker", default="", metavar="HOST:PORT[:USER:PASSWORD]", help="All run files themselves, behind it.")
@click.option("--ca", default="", help="A certificate authority's file, where the broker wants TLS.")
@click.option(
    "--rate", default=1.0, show_default=True, callback=_check_rate, help="The machines' seconds in one real second."
)
def run(machines: tuple[str, ...], from_file: Path | None, port: int, rtsp_port: int | None, smtp_port: int | None,
        mail_login: str, broker: str, ca: str, rate: float) -> None:  # fmt: skip
    """Run simulated machines until Ctrl-C.

    Each listens on its TCP port for numbered lines; http://127.0.0.1:PORT/machines/NAME/frame.jpg is its camera,
    …/stream.mjpg the same without end, …/side.jpg a second one where it has two.
    """
    setups = [replace(_setup(text, rate), broker=broker, ca=ca) for text in machines]
    if from_file:
        setups += [
            Setup(**{**entry, "volume_mm": tuple(entry["volume_mm"])}) for entry in json.loads(from_file.read_text())
        ]
    if not setups:
        raise click.UsageError("Name at least one machine: --machine Anchor:7101")
    for s in setups:
        where = f"mqtt {s.broker.split(':')[0]}/{s.name}" if s.broker else s.port_name or f"tcp://127.0.0.1:{s.port}"
        click.echo(f"{s.name} on {where}, camera http://127.0.0.1:{port}/machines/{s.name}/frame.jpg")
    uvicorn.run(
        make_app(setups, rtsp_port or 0, smtp_port or 0, mail_login), host="127.0.0.1", port=port, log_level="warning"
    )


@standins.command(help="Bring a fault about:\n\n\b\n" + "\n".join(f"{k:13} {v[0]}" for k, v in FAULTS.items()))
@click.argument("machine")
@click.argument("fault", type=click.Choice(list(FAULTS)))
@click.option("--part", type=click.Choice(["nozzle", "bed"]), default="nozzle", show_default=True)
@click.option("--value", type=float, default=0.0, help="Seconds, share or °C/s, as the fault takes it.")
@click.option("--text", default="", help="What the machine says.")
@click.option("--port", type=PORT, default=7100, show_default=True, envvar="CHRONARCH_STANDINS_PORT")
def fault(machine: str, fault: str, part: str, value: float, text: str, port: int) -> None:
    url = f"http://127.0.0.1:{port}/machines/{machine}/faults/{fault}"
    try:
        answer = httpx.post(url, json={"part": part, "value": value, "text": text}, timeout=5)
    except httpx.TransportError:
        click.echo(f"No stand-ins answer on port {port}; start them, or give their --port.", err=True)
        raise SystemExit(3) from None
    if answer.is_error:
        click.echo(answer.json().get("detail", answer.text), err=True)
        raise SystemExit(1)
    said = FAULTS[fault][0].replace("PART", f"the {part}").replace("VALUE", f"{value:g}").replace("TEXT", f"'{text}'")
    click.echo(f"{answer.json()['machine']}: {said}")
