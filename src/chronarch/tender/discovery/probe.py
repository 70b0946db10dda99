"""`chronarch links`: the first contact with a machine, from where its tender will run."""

from __future__ import annotations

import asyncio
import dataclasses
import json
import time
from collections.abc import Callable
from dataclasses import asdict

import click

from chronarch.core.control.firmware_info import ProbeResult, read_contact, remarks
from chronarch.core.control.line_protocol import QUESTION
from chronarch.core.control.responses import Position, Resend, Temperatures, read_answer
from chronarch.core.machines.address import Address, NotAnAddress, parse_address
from chronarch.core.plain import plain
from chronarch.tender.transports.device_lock import DeviceInUse, hold
from chronarch.tender.transports.opening import WAYS
from chronarch.tender.transports.serial_port import find_speed
from chronarch.tender.transports.transport import Transport

QUIET_S = 0.6
LONGEST_S = 4.0
QUESTIONS = (QUESTION, b"M115", b"M105", b"M114")


@click.group()
def links() -> None:
    """Links: what is at the other end of an address."""


@links.command()
@click.argument("url")
@click.option("--json", "as_json", is_flag=True, help="Print the findings as JSON.")
def probe(url: str, as_json: bool) -> None:
    """Talk to a machine at URL and tell what it is: speed, firmware, what it can do.

    \b
    tcp://HOST:PORT
    serial:///dev/serial/by-id/NAME     the speed is found
    rfc2217://HOST:PORT

    Nothing is moved or heated. Do not probe a machine that builds: opening a serial port restarts many boards.
    """
    try:
        address = parse_address(url)
    except NotAnAddress as error:
        raise click.UsageError(str(error)) from None
    if address.kind not in WAYS:
        raise click.UsageError("A machine behind a broker tells of itself; look at it with `chronarch machines show`.")
    try:
        with hold(address, "a probe"):
            finding = asyncio.run(
                probe_line(address, lambda text: None if as_json else click.echo(plain(text), err=True))
            )
    except DeviceInUse as error:
        raise click.ClickException(f"{error}; a device has one link.") from None
    except (OSError, TimeoutError) as error:
        click.echo(plain(f"{address.shown} cannot be reached: {error or 'no answer'}."), err=True)
        raise SystemExit(3) from None
    click.echo(json.dumps(asdict(finding), indent=2) if as_json else plain(_told(address, finding)))


async def probe_line(address: Address, say: Callable[[str], None]) -> ProbeResult:
    """Ask a machine what it is. Raises OSError and TimeoutError when it cannot be reached or answers at no speed."""
    finding = ProbeResult()
    if WAYS[address.kind].has_speed:

        def told(speed: int, heard: bytes) -> None:
            say(f"  at {speed}: {_readable(heard)}")

        finding.speed = await asyncio.to_thread(find_speed, address, told)
        if finding.speed is None:
            raise OSError("it does not answer at any speed; is it switched on, and the port the right one?")
        address = dataclasses.replace(address, speed=finding.speed)
    began = time.monotonic()
    heard: list[bytes] = []
    more = asyncio.Event()

    def on_data(data: bytes) -> None:
        heard.append(data)
        more.set()

    line = await WAYS[address.kind].open(address, on_data, more.set)
    try:
        for question in QUESTIONS:
            answer = await _ask(line, question, heard, more, finding, began)
            _note(finding, question, answer)
    finally:
        line.close()
    return finding


async def _ask(
    line: Transport, question: bytes, heard: list[bytes], more: asyncio.Event, finding: ProbeResult, began: float
) -> list[str]:
    """Ask one question. Returns the lines of the answer, up to its ok or until the machine is silent."""
    heard.clear()
    finding.talk.append((time.monotonic() - began, True, question.decode()))
    line.write(question + b"\n")
    until = time.monotonic() + LONGEST_S
    while time.monotonic() < until:
        more.clear()
        try:
            async with asyncio.timeout(QUIET_S if heard else LONGEST_S):
                await more.wait()
        except TimeoutError:
            break
        lines = b"".join(heard).splitlines()
        if lines and lines[-1].startswith(b"ok") and b"".join(heard).endswith(b"\n"):
            break
    answer = [raw.decode("utf-8", "replace").strip() for raw in b"".join(heard).splitlines()]
    finding.talk += [(time.monotonic() - began, False, text) for text in answer if text]
    return answer


def _note(finding: ProbeResult, question: bytes, answer: list[str]) -> None:
    for text in answer:
        for what in read_answer(text):
            if isinstance(what, Resend) and question is QUESTION:
                finding.wants_line = what.number
            elif isinstance(what, Temperatures):
                finding.heat = text.removeprefix("ok").strip()
            elif isinstance(what, Position):
                finding.position = text
    if question == b"M115":
        finding.contact = read_contact(answer)


def _readable(heard: bytes) -> str:
    if not heard:
        return "nothing"
    text = heard.decode("ascii", "replace").split("\n")[0].strip()
    return "not text" if "�" in text else text[:60] or "nothing that can be read"


def _told(address: Address, finding: ProbeResult) -> str:
    contact = finding.contact
    rows = [
        ("Link", address.shown),
        ("Speed", f"{finding.speed} bits/s" if finding.speed else ""),
        ("Firmware", contact.firmware),
        *((name.capitalize().replace("_", " "), value) for name, value in contact.words.items()),
        ("Can", ", ".join(name for name, has in contact.capabilities.items() if has)),
        ("Cannot", ", ".join(name for name, has in contact.capabilities.items() if not has)),
        ("Temperatures", finding.heat),
        ("Position", finding.position),
        ("Wants line", "" if finding.wants_line is None else str(finding.wants_line)),
    ]
    wide = max(len(name) for name, _ in rows)
    talk = "\n".join(f"  {s:6.3f} s {'>' if sent else '<'} {text}" for s, sent, text in finding.talk)
    facts = "\n".join(f"{name:{wide}}  {value}" for name, value in rows if value)
    said = "".join(f"\n! {text}" for text in remarks(finding))
    return f"{talk}\n\n{facts}{said}"
